// What the second is: the computer's clock, a PTP hardware clock, or a pulse; and what is known of it. A
// thread beside the run asks how well it is synchronised, once a second.
#pragma once

#include <atomic>
#include <cstdint>
#include <string>
#include <thread>

#include "zavrek/bench/description.hpp"

namespace zavrek::bench::internal {

class TimeSource {
 public:
  /// Throws Error when the clock cannot be read.
  explicit TimeSource(const Bench& bench);
  ~TimeSource();
  TimeSource(const TimeSource&) = delete;
  TimeSource& operator=(const TimeSource&) = delete;
  [[nodiscard]] std::int64_t utc_ns() const noexcept;
  /// As it was found last: 0 no, 1 to some clock, 2 to a global one.
  [[nodiscard]] int synchronised() const noexcept;
  /// Looks now, and from now on every second.
  void watch();
  [[nodiscard]] const std::string& name() const noexcept { return name_; }
  /// What a PTP daemon said of it last: "grandmaster of class 6, 285 ns off"; empty where none is asked.
  [[nodiscard]] std::string said() const;

  /// A pulse began at this instant of the clock that never jumps.
  void pulse(std::int64_t steady_ns) noexcept;
  [[nodiscard]] bool follows_pulses() const noexcept { return by_pulses_; }
  /// Enough of them came to know the second.
  [[nodiscard]] bool knows_second() const noexcept { return !by_pulses_ || pulses_ >= least_pulses; }

 private:
  static constexpr int least_pulses = 3;
  void look();
  void ask_daemon();
  [[nodiscard]] int state_of_kernel() const noexcept;

  std::string name_;
  bool by_pulses_ = false;
  int unasked_;    // what a clock is that nobody is asked about
  int file_ = -1;  // of a hardware clock
  std::string socket_;
  std::uint8_t domain_ = 0;
  double within_ns_ = 0;
  std::atomic<int> state_ = 0;
  std::atomic<int> leap_s_ = 0;  // 0: not known
  std::atomic<int> class_ = -1, port_ = -1;
  std::atomic<std::int64_t> offset_ns_ = 0;
  // The thread of the run alone.
  int pulses_ = 0;
  std::int64_t pulse_steady_ns_ = 0, pulse_utc_ns_ = 0;
  std::jthread watcher_;
};

}  // namespace zavrek::bench::internal
