// What the second is: the computer's clock, or a PTP hardware clock; and what is known of it.
#pragma once

#include <cstdint>
#include <string>

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
  /// Looks whether it is synchronised (a system call): 0 no, 1 to some clock, 2 to a global one.
  [[nodiscard]] int synchronised() const noexcept;
  [[nodiscard]] const std::string& name() const noexcept { return name_; }

 private:
  std::string name_;
  int file_ = -1;  // of a hardware clock
};

}  // namespace zavrek::bench::internal
