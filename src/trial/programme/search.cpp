#include "trial/programme/search.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::trial::internal {
namespace {

constexpr std::size_t generation = 8;
constexpr std::size_t far_away = 2;             // of a generation
constexpr double widest = 0.5, closest = 0.01;  // of an axis, about the worst
constexpr double moves = 0.6;                   // share of the axes that a proposal moves along

}  // namespace

MarginSearch::MarginSearch(std::size_t axes, int seed, std::size_t count)
    : axes_(axes), count_(count), state_(static_cast<unsigned long long>(seed)) {}

/// splitmix64.
double MarginSearch::draw() {
  state_ += 0x9E3779B97F4A7C15ULL;
  unsigned long long z = state_;
  z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
  z = (z ^ (z >> 27)) * 0x94D049BB133111EBULL;
  z ^= z >> 31;
  return static_cast<double>(z >> 11) * 0x1.0p-53;
}

std::vector<std::vector<double>> MarginSearch::next_generation() {
  latest_.clear();
  const std::size_t spread = count_ / 3;
  const double done = static_cast<double>(proposed_) / static_cast<double>(count_);
  const double radius = widest * std::pow(closest / widest, done);
  for (std::size_t k = 0; k < generation && proposed_ < count_; ++k, ++proposed_) {
    std::vector<double> places(axes_);
    const bool anywhere = proposed_ < spread || worst_.empty() || k < far_away;
    const auto certain = static_cast<std::size_t>(draw() * static_cast<double>(axes_));
    for (std::size_t a = 0; a < axes_; ++a) {
      const double to = draw(), whether = draw();
      if (anywhere)
        places[a] = to;
      else
        places[a] = whether < moves || a == certain ? std::clamp(worst_[a] + radius * (2 * to - 1), 0.0, 1.0)
                                                    : worst_[a];
    }
    latest_.push_back(std::move(places));
  }
  return latest_;
}

void MarginSearch::learn(const std::vector<double>& left) {
  for (std::size_t k = 0; k < latest_.size() && k < left.size(); ++k) {
    if (!worst_.empty() && left[k] >= least_) continue;
    worst_ = latest_[k];
    least_ = left[k];
  }
}

}  // namespace zavrek::trial::internal
