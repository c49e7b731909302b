// The search of a sweep for the values at which a verdict has least left.
#pragma once

#include <cstddef>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

/// Proposes trials in generations: places on each axis, 0 to 1. The first third is spread over all, what
/// follows lies about the worst found, closer from generation to generation, with some far away still. The
/// same seed and margins give the same proposals.
class MarginSearch {
 public:
  MarginSearch(std::size_t axes, int seed, std::size_t count);

  /// Empty once as many were proposed as shall be.
  [[nodiscard]] std::vector<std::vector<double>> next_generation();
  /// What the trials of the latest generation had left.
  void learn(const std::vector<double>& left);

 private:
  [[nodiscard]] double draw();

  std::size_t axes_, count_, proposed_ = 0;
  unsigned long long state_;
  std::vector<std::vector<double>> latest_;
  std::vector<double> worst_;  // places; empty before the first
  double least_ = 0;
};

}  // namespace zavrek::trial::internal
