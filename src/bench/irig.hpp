// A second of IRIG-B (IRIG standard 200): a hundred symbols of 10 ms, each high for 2 ms (0), 5 ms (1) or 8
// ms (position). With the year in the control functions and, behind it, those of IEEE C37.118.1 annex F: leap
// second pending and its sign, daylight saving pending and in force, offset from UTC in half hours, quality
// of the time, odd parity of all before it; then the second of the day as 17 binary digits.
#pragma once

#include <array>
#include <cstdint>

namespace zavrek::bench::internal {

enum class Symbol : std::uint8_t { zero, one, position };
using IrigFrame = std::array<Symbol, 100>;

/// Of the second that begins at `utc_s` since 1970, told as `local_minutes` ahead of UTC. `quality`: of IEEE
/// C37.118.1, 0 when locked, 15 when the clock has failed.
[[nodiscard]] IrigFrame irig_frame(std::int64_t utc_s, int local_minutes, unsigned quality) noexcept;

/// Whether it is high `into_s` behind the beginning of its second.
[[nodiscard]] inline bool irig_level(const IrigFrame& frame, double into_s) noexcept {
  constexpr double symbol_s = 0.01;
  constexpr std::array<double, 3> high_s{0.002, 0.005, 0.008};
  auto number = static_cast<std::size_t>(into_s / symbol_s);
  if (number >= frame.size()) number = frame.size() - 1;
  return into_s - static_cast<double>(number) * symbol_s < high_s[static_cast<std::size_t>(frame[number])];
}

}  // namespace zavrek::bench::internal
