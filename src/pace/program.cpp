#include "pace/program.hpp"

#include <array>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <utility>

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sched.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "zavrek/error.hpp"

namespace zavrek::pace::internal {
namespace {

using Clock = std::chrono::steady_clock;

constexpr int look_us = 1000;  // between two looks whether it has ended

Clock::time_point after(double seconds) {
  return Clock::now() + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(seconds));
}

void avoid_last_processor() {
  cpu_set_t allowed;
  if (sched_getaffinity(0, sizeof allowed, &allowed) != 0 || CPU_COUNT(&allowed) < 2) return;
  for (int k = CPU_SETSIZE - 1; k >= 0; --k) {
    if (!CPU_ISSET(k, &allowed)) continue;
    CPU_CLR(k, &allowed);
    break;
  }
  (void)sched_setaffinity(0, sizeof allowed, &allowed);
}

/// In the child, which must not outlive this process: `at_death` when that ends.
void part_from(pid_t parent, int at_death) {
  prctl(PR_SET_PDEATHSIG, at_death);
  if (getppid() != parent) _exit(127);
  setpgid(0, 0);
  sigset_t none;
  sigemptyset(&none);
  sigprocmask(SIG_SETMASK, &none, nullptr);
  for (const int number : {SIGPIPE, SIGINT, SIGTERM, SIGHUP, SIGQUIT, SIGSEGV, SIGBUS, SIGFPE, SIGILL,
                           SIGABRT, SIGALRM, SIGCHLD})
    signal(number, SIG_DFL);
  avoid_last_processor();
}

/// In the child: only calls that are safe between fork and exec. What goes wrong is told through `report`.
[[noreturn]] void become(char* const* words, pid_t parent, int input, int output, bool errors_shown,
                         int report) {
  part_from(parent, SIGTERM);
  const int nowhere = open("/dev/null", O_RDWR);
  dup2(input >= 0 ? input : nowhere, STDIN_FILENO);
  dup2(output >= 0 ? output : nowhere, STDOUT_FILENO);
  if (!errors_shown) dup2(nowhere, STDERR_FILENO);
  execvp(words[0], words);
  const int why = errno;
  (void)!write(report, &why, sizeof why);
  _exit(127);
}

void close_end(int end) noexcept {
  if (end >= 0) close(end);
}

[[noreturn]] void refuse(const std::string& program, int why) {
  throw Error(fmt::format("cannot start \"{}\" ({})", program, std::strerror(why)));
}

}  // namespace

Program::Program(const std::vector<std::string>& words, const Options& options) {
  std::vector<std::string> kept = words;
  std::vector<char*> arguments;
  for (std::string& word : kept) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  int report[2] = {-1, -1}, said[2] = {-1, -1};
  int ends[2] = {-1, -1};  // a pair of sockets, which can be written to without a signal when nobody reads
  if (pipe2(report, O_CLOEXEC) != 0 || (options.heard && pipe2(said, O_CLOEXEC) != 0) ||
      (options.fed && socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0)) {
    const int why = errno;
    for (const int end : {report[0], report[1], said[0], said[1]}) close_end(end);
    refuse(words[0], why);
  }
  const pid_t parent = getpid();
  pid_ = fork();
  if (pid_ == 0) become(arguments.data(), parent, ends[1], said[1], options.errors_shown, report[1]);
  int why = pid_ < 0 ? errno : 0;
  for (const int end : {report[1], said[1], ends[1]}) close_end(end);
  input_ = ends[0];
  output_ = said[0];
  if (pid_ > 0) {
    ssize_t got = 0;
    while ((got = read(report[0], &why, sizeof why)) < 0 && errno == EINTR) {
    }
    if (got > 0) waitpid(std::exchange(pid_, -1), nullptr, 0);
  }
  close(report[0]);
  if (why == 0) return;
  close_input();
  close_end(std::exchange(output_, -1));
  refuse(words[0], why);
}

Program::Program(const std::function<void(int channel)>& body) : grace_s_(0) {
  int ends[2];
  if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, ends) != 0) refuse("a process of its own", errno);
  std::fflush(nullptr);  // else the child would say again what is waiting
  const pid_t parent = getpid();
  pid_ = fork();
  if (pid_ == 0) {
    part_from(parent, SIGKILL);
    const sched_param ordinary{};
    sched_setscheduler(0, SCHED_OTHER, &ordinary);
    constexpr int channel = 3;
    const int nowhere = open("/dev/null", O_RDWR);
    dup2(nowhere, STDIN_FILENO);
    dup2(STDERR_FILENO, STDOUT_FILENO);
    dup2(ends[1], channel);
    close_range(channel + 1, ~0U, 0);
    // What this process registered for its own end is none of the child's.
    std::atexit([] { _exit(0); });
    body(channel);
    _exit(0);
  }
  const int why = errno;
  close(ends[1]);
  input_ = ends[0];
  if (pid_ > 0) return;
  close_input();
  refuse("a process of its own", why);
}

Program::Program(Program&& other) noexcept
    : pid_(std::exchange(other.pid_, -1)),
      input_(std::exchange(other.input_, -1)),
      output_(std::exchange(other.output_, -1)),
      status_(other.status_),
      grace_s_(other.grace_s_) {}

void Program::close_input() noexcept { close_end(std::exchange(input_, -1)); }

bool Program::feed(std::string_view text, double timeout_s) {
  const Clock::time_point until = after(timeout_s);
  while (!text.empty()) {
    const auto left_ms = std::chrono::duration_cast<std::chrono::milliseconds>(until - Clock::now()).count();
    pollfd ready{input_, POLLOUT, 0};
    if (left_ms <= 0 || (poll(&ready, 1, static_cast<int>(left_ms)) < 0 && errno != EINTR)) break;
    const ssize_t taken = ::send(input_, text.data(), text.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
    if (taken >= 0) {
      text.remove_prefix(static_cast<std::size_t>(taken));
    } else if (errno != EINTR && errno != EAGAIN) {
      break;
    }
  }
  close_input();
  return text.empty();
}

bool Program::send(std::span<const std::byte> message) noexcept {
  ssize_t sent = 0;
  while ((sent = ::send(input_, message.data(), message.size(), MSG_NOSIGNAL | MSG_DONTWAIT)) < 0 &&
         errno == EINTR) {
  }
  return sent == static_cast<ssize_t>(message.size());
}

namespace {

/// An answer that comes within this time is taken without going to sleep, which costs the two sides of a
/// channel some 40 us each.
constexpr std::chrono::microseconds awake{150};

Program::Heard hear(int channel, std::span<std::byte> message, std::size_t& size,
                    const std::optional<Clock::time_point>& until) noexcept {
  const Clock::time_point tired = Clock::now() + awake;
  while (true) {
    const ssize_t got = recv(channel, message.data(), message.size(), MSG_DONTWAIT);
    if (got > 0) {
      size = static_cast<std::size_t>(got);
      return Program::Heard::message;
    }
    if (got == 0 || (errno != EINTR && errno != EAGAIN)) return Program::Heard::end;
    const Clock::time_point now = Clock::now();
    if (now < tired) {
      sched_yield();
      continue;
    }
    if (until && now >= *until) return Program::Heard::silence;
    pollfd ready{channel, POLLIN, 0};
    const auto left = until ? std::chrono::ceil<std::chrono::milliseconds>(*until - now).count() : -1;
    (void)poll(&ready, 1, static_cast<int>(left));
  }
}

}  // namespace

Program::Heard Program::receive(std::span<std::byte> message, std::size_t& size, double timeout_s) noexcept {
  return hear(input_, message, size, after(timeout_s));
}

Program::Heard Program::await(int channel, std::span<std::byte> message, std::size_t& size) noexcept {
  return hear(channel, message, size, std::nullopt);
}

bool Program::wait(double timeout_s) {
  const Clock::time_point until = after(timeout_s);
  while (running()) {
    if (Clock::now() >= until) return false;
    usleep(look_us);
  }
  return true;
}

bool Program::running() {
  if (pid_ <= 0) return false;
  if (waitpid(pid_, &status_, WNOHANG) != pid_) return true;
  pid_ = -1;
  return false;
}

std::optional<int> Program::exit_status() const {
  if (pid_ > 0 || !WIFEXITED(status_)) return std::nullopt;
  return WEXITSTATUS(status_);
}

std::string Program::ended() const {
  if (WIFSIGNALED(status_)) return fmt::format("its process ended: {}", strsignal(WTERMSIG(status_)));
  return fmt::format("its process ended with {}", WEXITSTATUS(status_));
}

std::string Program::end() {
  stop();
  std::string said;
  std::array<char, 4096> part;
  // All that it said waits in the pipe, which nobody else holds open once its group has ended; a grandchild
  // that does must not hold this process up.
  for (pollfd ready{output_, POLLIN, 0}; output_ >= 0 && poll(&ready, 1, 0) > 0;) {
    const ssize_t got = read(output_, part.data(), part.size());
    if (got <= 0) break;
    said.append(part.data(), static_cast<std::size_t>(got));
  }
  return said;
}

void Program::stop() {
  close_input();
  if (pid_ <= 0) return;
  const pid_t group = pid_;
  if (grace_s_ > 0) {
    kill(pid_, SIGTERM);
    if (wait(grace_s_)) return;
  }
  kill(-group, SIGKILL);
  kill(group, SIGKILL);  // it may not have come so far as to have a group
  waitpid(pid_, &status_, 0);
  pid_ = -1;
}

Program::~Program() {
  stop();
  close_end(output_);
}

}  // namespace zavrek::pace::internal
