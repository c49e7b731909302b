#include "bench/time_source.hpp"

#include <cerrno>
#include <cstring>
#include <ctime>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/timex.h>
#include <unistd.h>

#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

/// A hardware clock keeps international atomic time, which is ahead of UTC by a whole number of seconds that
/// the kernel knows, or, where it does not, this one (since 2017).
constexpr int usual_leap_s = 37;

/// The clock of an open device (linux/Documentation/driver-api/ptp.rst).
clockid_t clock_of(int file) { return static_cast<clockid_t>((~static_cast<unsigned>(file) << 3U) | 3U); }

}  // namespace

TimeSource::TimeSource(const Bench& bench) : name_("the computer's clock") {
  if (bench.clock != "ptp") return;
  name_ = "the hardware clock " + bench.clock_device;
  file_ = ::open(bench.clock_device.c_str(), O_RDONLY | O_CLOEXEC);
  timespec now{};
  if (file_ < 0 || ::clock_gettime(clock_of(file_), &now) != 0) {
    const std::string why = std::strerror(errno);
    if (file_ >= 0) ::close(file_);
    throw Error(
        Flaw{.file = {},
             .place = "bench",
             .field = "clock_device",
             .text = fmt::format("\"{}\" cannot be read as a clock ({}); `ls /dev/ptp*` lists those there "
                                 "are, or take clock = \"computer\"",
                                 bench.clock_device, why)});
  }
}

TimeSource::~TimeSource() {
  if (file_ >= 0) ::close(file_);
}

std::int64_t TimeSource::utc_ns() const noexcept {
  if (file_ < 0) return pace::utc_ns();
  timespec now{};
  (void)::clock_gettime(clock_of(file_), &now);
  timex kernel{};
  (void)::adjtimex(&kernel);
  const int leap_s = kernel.tai > 0 ? kernel.tai : usual_leap_s;
  return (static_cast<std::int64_t>(now.tv_sec) - leap_s) * 1'000'000'000 + now.tv_nsec;
}

int TimeSource::synchronised() const noexcept {
  if (file_ >= 0) return 2;
  timex kernel{};
  const int state = ::adjtimex(&kernel);
  return state == TIME_ERROR || (kernel.status & STA_UNSYNC) != 0 ? 0 : 1;
}

}  // namespace zavrek::bench::internal
