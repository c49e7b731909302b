#include "bench/irig.hpp"

#include <chrono>
#include <cstdlib>

namespace zavrek::bench::internal {
namespace {

/// Binary digits of `value`, the lowest first, from symbol `at` on.
void put(IrigFrame& frame, std::size_t at, int digits, unsigned value) noexcept {
  for (int k = 0; k < digits; ++k, value >>= 1U)
    frame[at + static_cast<std::size_t>(k)] = (value & 1U) != 0 ? Symbol::one : Symbol::zero;
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

}  // namespace zavrek::bench::internal
