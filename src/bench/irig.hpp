// A second of IRIG-B (IRIG standard 200): a hundred symbols of 10 ms, each high for 2 ms (0), 5 ms (1) or 8
// ms (position). With the year in the control functions and, behind it, those of IEEE C37.118.1 annex F: leap
// second pending and its sign, daylight saving pending and in force, offset from UTC in half hours, quality
// of the time, odd parity of all before it; then the second of the day as 17 binary digits.
#pragma once

#include <array>
#include <cstdint>
#include <optional>

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

/// Of a carrier of 1 kHz that is modulated by it (B12x): its peak where it is high, a third of that where it
/// is low; zeros of the carrier fall on the beginning of each symbol.
[[nodiscard]] double irig_carrier(const IrigFrame& frame, double into_s) noexcept;

/// What stands in a frame; nothing where its symbols are none or its parity is wrong.
struct IrigTime {
  std::int64_t utc_s = 0;
  unsigned quality = 15;
};
[[nodiscard]] std::optional<IrigTime> irig_time(const IrigFrame& frame) noexcept;

/// Reads the code from a level that it is shown again and again.
class IrigReader {
 public:
  /// The level at an instant, no earlier than the last; whether a second has been read with it.
  bool see(bool high, std::int64_t steady_ns) noexcept;
  /// Of the second read last: what it is, and when it began.
  [[nodiscard]] const IrigTime& time() const noexcept { return time_; }
  [[nodiscard]] std::int64_t began_ns() const noexcept { return began_ns_; }
  [[nodiscard]] long long seconds_read() const noexcept { return seconds_read_; }

 private:
  IrigFrame frame_{};
  std::size_t at_ = 0;  // symbols of the frame under way
  bool in_frame_ = false, high_ = false, position_ = false;
  std::int64_t rose_ns_ = 0, frame_ns_ = 0, began_ns_ = 0;
  IrigTime time_;
  long long seconds_read_ = 0;
};

}  // namespace zavrek::bench::internal
