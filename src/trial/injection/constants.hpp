#pragma once

#include <limits>
#include <numbers>

namespace zavrek::trial {

inline constexpr double never_s = std::numeric_limits<double>::infinity();  // what does not happen
inline constexpr double third_turn_rad = 2 * std::numbers::pi / 3;

}  // namespace zavrek::trial
