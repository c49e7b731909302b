#include "bench/time_source.hpp"

#include <cerrno>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <cstring>
#include <ctime>
#include <filesystem>
#include <mutex>

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/timex.h>
#include <sys/un.h>
#include <unistd.h>

#include "zavrek/pace.hpp"
#include "zavrek/wire/ptp.hpp"

namespace zavrek::bench::internal {
namespace {

/// A hardware clock keeps international atomic time, which is ahead of UTC by a whole number of seconds that
/// its daemon or the kernel knows, or, where they do not, this one (since 2017).
constexpr int usual_leap_s = 37;
constexpr std::int64_t second_ns = 1'000'000'000;
constexpr std::int64_t pulse_within_ns = 1'000'000;  // of a second behind the one before
constexpr std::int64_t pulse_missed_ns = 2'500'000'000;
constexpr int answered_ms = 200, further_ms = 10;
constexpr int following = static_cast<int>(wire::PtpState::slave);
constexpr int traceable_class =
    7;  // up to it: locked to a primary reference, or holding over within its limits

/// The clock of an open device (linux/Documentation/driver-api/ptp.rst).
clockid_t clock_of(int file) { return static_cast<clockid_t>((~static_cast<unsigned>(file) << 3U) | 3U); }

[[noreturn]] void refuse(const char* field, const std::string& text) {
  throw Error(Flaw{.file = {}, .place = "bench", .field = field, .text = text});
}

/// A local datagram socket with a name of its own, for a daemon to answer to.
class Asking {
 public:
  explicit Asking(const std::string& daemon) {
    to_.sun_family = own_.sun_family = AF_UNIX;
    daemon.copy(to_.sun_path, sizeof(to_.sun_path) - 1);
    static std::atomic<int> made = 0;
    const std::string own =
        std::filesystem::temp_directory_path() / fmt::format("zavrek-ptp-{}-{}", ::getpid(), ++made);
    own.copy(own_.sun_path, sizeof(own_.sun_path) - 1);
    ::unlink(own_.sun_path);
    socket_ = ::socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    good_ = socket_ >= 0 && ::bind(socket_, reinterpret_cast<const sockaddr*>(&own_), sizeof own_) == 0;
  }
  Asking(const Asking&) = delete;
  Asking& operator=(const Asking&) = delete;
  ~Asking() {
    if (socket_ >= 0) ::close(socket_);
    ::unlink(own_.sun_path);
  }
  [[nodiscard]] bool ask(std::span<const std::uint8_t> question) const noexcept {
    return good_ && ::sendto(socket_, question.data(), question.size(), MSG_DONTWAIT,
                             reinterpret_cast<const sockaddr*>(&to_), sizeof to_) >= 0;
  }
  /// Bytes of the next answer, 0 when none comes.
  [[nodiscard]] std::size_t hear(std::span<std::uint8_t> into, int waits_ms) const noexcept {
    pollfd waits{socket_, POLLIN, 0};
    if (::poll(&waits, 1, waits_ms) <= 0) return 0;
    const ssize_t count = ::recv(socket_, into.data(), into.size(), MSG_DONTWAIT);
    return count > 0 ? static_cast<std::size_t>(count) : 0;
  }

 private:
  sockaddr_un to_{}, own_{};
  int socket_ = -1;
  bool good_ = false;
};

}  // namespace

TimeSource::TimeSource(const Bench& bench)
    : name_("the computer's clock"),
      by_pulses_(bench.clock == "pulse"),
      unasked_(bench.clock_reach == "global" ? 2 : 1),
      socket_(bench.clock_daemon),
      domain_(static_cast<std::uint8_t>(bench.clock_domain)),
      within_ns_(1e9 * bench.clock_within_s) {
  if (by_pulses_) name_ = "the pulses of " + bench.clock_pulse;
  if (bench.clock != "ptp") return;
  name_ = "the hardware clock " + bench.clock_device;
  file_ = ::open(bench.clock_device.c_str(), O_RDONLY | O_CLOEXEC);
  timespec now{};
  if (file_ >= 0 && ::clock_gettime(clock_of(file_), &now) == 0) return;
  const std::string why = std::strerror(errno);
  if (file_ >= 0) ::close(file_);
  refuse("clock_device",
         fmt::format("\"{}\" cannot be read as a clock ({}); `ls /dev/ptp*` lists those there are, "
                     "or take clock = \"computer\"",
                     bench.clock_device, why));
}

TimeSource::~TimeSource() {
  watcher_ = {};
  if (file_ >= 0) ::close(file_);
}

std::int64_t TimeSource::utc_ns() const noexcept {
  if (by_pulses_ && pulses_ > 0) return pulse_utc_ns_ + pace::system_clock().now_ns() - pulse_steady_ns_;
  if (file_ < 0) return pace::utc_ns();
  timespec now{};
  (void)::clock_gettime(clock_of(file_), &now);
  int leap_s = leap_s_.load(std::memory_order_relaxed);
  if (leap_s == 0) {
    timex kernel{};
    (void)::adjtimex(&kernel);
    leap_s = kernel.tai > 0 ? kernel.tai : usual_leap_s;
  }
  return (static_cast<std::int64_t>(now.tv_sec) - leap_s) * second_ns + now.tv_nsec;
}

/// The computer's own clock says which second begins, to half of one; the pulse says when.
void TimeSource::pulse(std::int64_t steady_ns) noexcept {
  const std::int64_t since_ns = steady_ns - pulse_steady_ns_;
  const std::int64_t seconds = (since_ns + second_ns / 2) / second_ns;
  const bool on_time =
      pulses_ > 0 && seconds > 0 && std::abs(since_ns - seconds * second_ns) < pulse_within_ns;
  if (on_time) {
    pulse_utc_ns_ += seconds * second_ns;
    ++pulses_;
  } else {
    const std::int64_t utc_ns = pace::utc_ns() + steady_ns - pace::system_clock().now_ns();
    pulse_utc_ns_ = (utc_ns + second_ns / 2) / second_ns * second_ns;
    pulses_ = 1;
  }
  pulse_steady_ns_ = steady_ns;
}

int TimeSource::synchronised() const noexcept {
  if (!by_pulses_) return state_.load(std::memory_order_relaxed);
  const bool there = knows_second() && pace::system_clock().now_ns() - pulse_steady_ns_ < pulse_missed_ns;
  return there ? unasked_ : 0;
}

void TimeSource::watch() {
  if (by_pulses_ || watcher_.joinable()) return;
  look();
  watcher_ = std::jthread([this](const std::stop_token& stop) {
    std::mutex mutex;
    std::condition_variable_any awaited;
    std::unique_lock lock(mutex);
    while (!awaited.wait_for(lock, stop, std::chrono::seconds(1), [&] { return stop.stop_requested(); }))
      look();
  });
}

void TimeSource::look() {
  if (!socket_.empty()) return ask_daemon();
  state_.store(file_ >= 0 ? unasked_ : state_of_kernel(), std::memory_order_relaxed);
}

int TimeSource::state_of_kernel() const noexcept {
  timex kernel{};
  const int state = ::adjtimex(&kernel);
  return state == TIME_ERROR || (kernel.status & STA_UNSYNC) != 0 ? 0 : 1;
}

/// A port that follows a master, whose reference is traceable, and that is near enough to it.
void TimeSource::ask_daemon() {
  const Asking asking(socket_);
  int port = -1, master = -1;
  double offset_ns = INFINITY;
  std::uint16_t sequence = 0;
  std::array<std::uint8_t, wire::longest_ptp_answer> answer{};
  for (const wire::PtpData about :
       {wire::PtpData::port, wire::PtpData::parent, wire::PtpData::current, wire::PtpData::time_properties}) {
    if (!asking.ask(wire::ptp_question(about, ++sequence, domain_))) break;
    int waits_ms = answered_ms;
    for (;;) {
      const std::size_t count = asking.hear(answer, waits_ms);
      if (count == 0) break;
      const auto said = wire::ptp_answer(wire::Bytes(answer).first(count), domain_);
      if (!said || said->sequence != sequence) continue;
      if (said->state && port != following) port = *said->state;
      if (said->master_class) master = *said->master_class;
      if (said->offset_ns) offset_ns = *said->offset_ns;
      if (said->utc_offset_s) leap_s_.store(*said->utc_offset_s, std::memory_order_relaxed);
      if (about != wire::PtpData::port) break;
      waits_ms = further_ms;  // a clock answers once for each of its ports
    }
    if (port < 0) break;  // nobody is there
  }
  const bool follows = port == following && std::abs(offset_ns) <= within_ns_;
  state_.store(!follows ? 0 : master <= traceable_class ? 2 : 1, std::memory_order_relaxed);
  port_.store(port, std::memory_order_relaxed);
  class_.store(master, std::memory_order_relaxed);
  offset_ns_.store(std::isfinite(offset_ns) ? std::llround(offset_ns) : 0, std::memory_order_relaxed);
}

std::string TimeSource::said() const {
  if (socket_.empty()) return {};
  const int port = port_.load();
  if (port < 0) return fmt::format("no answer from the PTP daemon at {}", socket_);
  if (port != following) return fmt::format("its PTP port follows no master yet (state {})", port);
  return fmt::format("{:.3g} us off its PTP master of class {}",
                     1e-3 * static_cast<double>(offset_ns_.load()), class_.load());
}

}  // namespace zavrek::bench::internal
