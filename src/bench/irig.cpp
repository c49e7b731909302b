#include "bench/irig.hpp"

#include <chrono>
#include <cmath>
#include <cstdlib>
#include <numbers>
#include <utility>

namespace zavrek::bench::internal {
namespace {

/// Binary digits of `value`, the lowest first, from symbol `at` on.
void put(IrigFrame& frame, std::size_t at, int digits, unsigned value) noexcept {
  for (int k = 0; k < digits; ++k, value >>= 1U)
    frame[at + static_cast<std::size_t>(k)] = (value & 1U) != 0 ? Symbol::one : Symbol::zero;
}

unsigned digits(const IrigFrame& frame, std::size_t at, int count) noexcept {
  unsigned value = 0;
  for (int k = count - 1; k >= 0; --k)
    value = value << 1U | (frame[at + static_cast<std::size_t>(k)] == Symbol::one ? 1U : 0U);
  return value;
}

bool is_framed(const IrigFrame& frame) noexcept {
  unsigned ones = 0;
  for (std::size_t k = 0; k < frame.size(); ++k) {
    const bool position = k == 0 || k % 10 == 9;
    if (position != (frame[k] == Symbol::position)) return false;
    if (k >= 1 && k <= 75 && frame[k] == Symbol::one) ++ones;
  }
  return ones % 2 == 1;
}

}  // namespace

IrigFrame irig_frame(std::int64_t utc_s, int local_minutes, unsigned quality) noexcept {
  using namespace std::chrono;
  IrigFrame frame{};
  const sys_seconds now{seconds(utc_s + 60LL * local_minutes)};
  const auto day = floor<days>(now);
  const year_month_day date(day);
  const auto of_year = static_cast<unsigned>((day - sys_days(date.year() / January / 1)).count() + 1);
  const auto of_day = static_cast<unsigned>((now - day).count());
  const unsigned s = of_day % 60, m = of_day / 60 % 60, h = of_day / 3600;
  put(frame, 1, 4, s % 10);
  put(frame, 6, 3, s / 10);
  put(frame, 10, 4, m % 10);
  put(frame, 15, 3, m / 10);
  put(frame, 20, 4, h % 10);
  put(frame, 25, 2, h / 10);
  put(frame, 30, 4, of_year % 10);
  put(frame, 35, 4, of_year / 10 % 10);
  put(frame, 40, 2, of_year / 100);
  const auto year = static_cast<unsigned>(static_cast<int>(date.year()) % 100);
  put(frame, 50, 4, year % 10);
  put(frame, 55, 4, year / 10);
  // Offset: its sign, whole hours, and a half one.
  const auto offset = static_cast<unsigned>(std::abs(local_minutes));
  put(frame, 64, 1, local_minutes < 0 ? 1 : 0);
  put(frame, 65, 4, offset / 60);
  put(frame, 70, 1, offset % 60 >= 30 ? 1 : 0);
  put(frame, 71, 4, quality);
  unsigned ones = 0;
  for (std::size_t k = 1; k < 75; ++k) ones += frame[k] == Symbol::one ? 1 : 0;
  put(frame, 75, 1, (ones & 1U) ^ 1U);
  put(frame, 80, 9, of_day);
  put(frame, 90, 8, of_day >> 9U);
  frame[0] = Symbol::position;
  for (std::size_t k = 9; k < frame.size(); k += 10) frame[k] = Symbol::position;
  return frame;
}

double irig_carrier(const IrigFrame& frame, double into_s) noexcept {
  constexpr double carrier_Hz = 1000, low_share = 1.0 / 3;
  return std::sin(2 * std::numbers::pi * carrier_Hz * into_s) * (irig_level(frame, into_s) ? 1 : low_share);
}

std::optional<IrigTime> irig_time(const IrigFrame& frame) noexcept {
  using namespace std::chrono;
  if (!is_framed(frame)) return std::nullopt;
  const auto two = [&](std::size_t ones, std::size_t tens, int tens_digits) {
    return digits(frame, ones, 4) + 10 * digits(frame, tens, tens_digits);
  };
  const unsigned s = two(1, 6, 3), m = two(10, 15, 3), h = two(20, 25, 2);
  const unsigned day = two(30, 35, 4) + 100 * digits(frame, 40, 2);
  const unsigned of_day = digits(frame, 80, 9) + (digits(frame, 90, 8) << 9U);
  if (s > 60 || m > 59 || h > 23 || day < 1 || day > 366 || of_day != 3600 * h + 60 * m + s)
    return std::nullopt;
  const auto first = sys_days(year(2000 + static_cast<int>(two(50, 55, 4))) / January / 1);
  const int half_hours = static_cast<int>(2 * digits(frame, 65, 4) + digits(frame, 70, 1));
  const int ahead_s = 1800 * (digits(frame, 64, 1) != 0 ? -half_hours : half_hours);
  const auto local = sys_seconds(first + days(day - 1)) + seconds(of_day);
  return IrigTime{local.time_since_epoch().count() - ahead_s, digits(frame, 71, 4)};
}

bool IrigReader::see(bool high, std::int64_t steady_ns) noexcept {
  if (high == std::exchange(high_, high)) return false;
  if (high) {
    rose_ns_ = steady_ns;
    return false;
  }
  constexpr std::int64_t zero_ns = 3'500'000, one_ns = 6'500'000;
  const std::int64_t width_ns = steady_ns - rose_ns_;
  const Symbol symbol = width_ns < zero_ns  ? Symbol::zero
                        : width_ns < one_ns ? Symbol::one
                                            : Symbol::position;
  // Two positions one behind the other: the second begins a frame.
  if (symbol == Symbol::position && std::exchange(position_, symbol == Symbol::position)) {
    in_frame_ = true;
    frame_ns_ = rose_ns_;
    frame_[0] = symbol;
    at_ = 1;
    return false;
  }
  position_ = symbol == Symbol::position;
  if (!in_frame_) return false;
  frame_[at_++] = symbol;
  if (at_ < frame_.size()) return false;
  in_frame_ = false;
  const auto time = irig_time(frame_);
  if (!time) return false;
  time_ = *time;
  began_ns_ = frame_ns_;
  ++seconds_read_;
  return true;
}

}  // namespace zavrek::bench::internal
