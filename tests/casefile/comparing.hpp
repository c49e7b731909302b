// What tests of whole networks share: numbers of chance, and how far two calculations lie apart.
#pragma once

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <random>
#include <string>
#include <vector>

#include "zavrek/emt/study.hpp"

namespace zavrek::casefile {

class Dice {
 public:
  explicit Dice(unsigned seed) : random_(seed) {}
  int whole(int below) { return static_cast<int>(random_() % static_cast<unsigned>(below)); }
  double between(double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random_);
  }
  bool chance(double of) { return between(0, 1) < of; }
  const std::string& any_of(const std::vector<std::string>& all) {
    return all[static_cast<std::size_t>(whole(static_cast<int>(all.size())))];
  }

 private:
  std::mt19937 random_;
};

/// Largest value of each unit.
inline std::map<std::string, double> largest_by_unit(const emt::Series& series) {
  std::map<std::string, double> largest;
  for (std::size_t s = 0; s < series.names.size(); ++s) {
    for (const double v : series.values[s])
      largest[series.units[s]] = std::max(largest[series.units[s]], std::abs(v));
  }
  return largest;
}

/// Rms of the difference of signal `s`. The samples that differ most are left out, `jumps` of them: what
/// jumps at an event is, within its step, neither the one nor the other.
inline double rms_apart(const emt::Series& a, const emt::Series& b, std::size_t s, std::size_t jumps) {
  std::vector<double> squares;
  for (std::size_t k = 0; k < a.time_s.size(); ++k)
    squares.push_back(std::pow(a.values[s][k] - b.values[s][k], 2));
  std::sort(squares.begin(), squares.end());
  squares.resize(squares.size() - jumps);
  return std::sqrt(std::accumulate(squares.begin(), squares.end(), 0.0) /
                   static_cast<double>(squares.size()));
}

}  // namespace zavrek::casefile
