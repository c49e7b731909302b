#pragma once

#include <algorithm>
#include <string>
#include <vector>

namespace zavrek::trial::internal {

/// By how much a time may miss what is expected: a share of it or a time, of which the greater holds.
struct TimeTolerance {
  double share = 0, time_s = 0;
  [[nodiscard]] double of(double expected_s) const { return std::max(share * expected_s, time_s); }
};
/// From texts such as "5 %" and "30 ms". Throws Error for what is neither, or below zero.
[[nodiscard]] TimeTolerance time_tolerance(const std::vector<std::string>& texts);

}  // namespace zavrek::trial::internal
