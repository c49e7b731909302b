// What would explain that a device did not do what its approved settings say.
#pragma once

#include <algorithm>
#include <functional>
#include <optional>
#include <vector>

#include "zavrek/trial/mistakes.hpp"

namespace zavrek::trial::internal {

/// At most so many of them, evenly chosen.
template <class T>
[[nodiscard]] std::vector<T> some_of(const std::vector<T>& all, std::size_t most) {
  std::vector<T> some;
  for (std::size_t k = 0; k < std::min(all.size(), most); ++k)
    some.push_back(all[k * all.size() / std::min(all.size(), most)]);
  return some;
}

/// What a device did once, and what it would have done with something wrong.
struct Observation {
  /// Its trip after the inception, by the settings that it runs with and as it is wired; infinite for never.
  std::function<double(const Device&)> predict;
  std::optional<double> measured_s;  ///< empty: none came
  double watched_s = 0;              ///< for how long one was waited for
  double tolerance_s = 0, tolerance_share = 0;
  double measuring_s = 0;  ///< that it may take beside that to see anything
  bool passed = false;

  /// A trip that comes later says nothing more than none.
  [[nodiscard]] double longest_s() const {
    return (watched_s + tolerance_s + measuring_s) * (1 + tolerance_share);
  }
  /// 0 when a predicted time fits what was measured, else on which side of it it lies.
  [[nodiscard]] int side_of(double time_s) const;
  /// How far from it, in tolerances, where measuring usually takes so long.
  [[nodiscard]] double misfit(double time_s, double usual_delay_s) const;
};

/// Those of `mistakes` under which the device would have done what was measured, the likeliest first: what
/// explains most of all observations, those that passed too, the more the closer it comes to their times.
[[nodiscard]] std::vector<Explanation> causes_of(const Device& device, const std::vector<Mistake>& mistakes,
                                                 const std::vector<Observation>& observations);

}  // namespace zavrek::trial::internal
