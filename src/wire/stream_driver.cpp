#include "zavrek/wire/stream_driver.hpp"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <filesystem>
#include <utility>

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <termios.h>
#include <unistd.h>

namespace zavrek::wire {
namespace {

/// Of what a peer has not taken: beyond it, it counts as one that does not read.
constexpr std::size_t most_unsent_bytes = std::size_t{1} << 20U;
constexpr int attempts_before_next_ms = 3000;
constexpr std::string_view pseudo_terminal = "pty:";

Now now_by_clocks() noexcept {
  const auto read = [](clockid_t clock) {
    timespec at{};
    ::clock_gettime(clock, &at);
    return static_cast<std::int64_t>(at.tv_sec) * 1'000'000'000 + at.tv_nsec;
  };
  return {read(CLOCK_MONOTONIC), read(CLOCK_REALTIME)};
}

struct SocketAddress {
  sockaddr_storage storage{};
  socklen_t length = 0;
};

bool read_address(const std::string& text, int port, SocketAddress& address) {
  auto* v4 = reinterpret_cast<sockaddr_in*>(&address.storage);
  auto* v6 = reinterpret_cast<sockaddr_in6*>(&address.storage);
  if (::inet_pton(AF_INET, text.c_str(), &v4->sin_addr) == 1) {
    v4->sin_family = AF_INET;
    v4->sin_port = htons(static_cast<std::uint16_t>(port));
    address.length = sizeof *v4;
    return true;
  }
  if (::inet_pton(AF_INET6, text.c_str(), &v6->sin6_addr) != 1) return false;
  v6->sin6_family = AF_INET6;
  v6->sin6_port = htons(static_cast<std::uint16_t>(port));
  address.length = sizeof *v6;
  return true;
}

/// A request and its answer are small and waited for.
void answer_at_once(int socket) noexcept {
  const int on = 1;
  (void)::setsockopt(socket, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
}

speed_t speed_of(int bits_per_s) noexcept {
  constexpr std::array<std::pair<int, speed_t>, 8> known{{{1200, B1200},
                                                          {2400, B2400},
                                                          {4800, B4800},
                                                          {9600, B9600},
                                                          {19200, B19200},
                                                          {38400, B38400},
                                                          {57600, B57600},
                                                          {115200, B115200}}};
  for (const auto& [rate, speed] : known) {
    if (rate == bits_per_s) return speed;
  }
  return B9600;
}

std::string make_raw(int line, const StreamPlace& place) {
  termios settings{};
  if (::tcgetattr(line, &settings) != 0) return std::strerror(errno);
  ::cfmakeraw(&settings);
  settings.c_cflag |= CLOCAL | CREAD;
  if (place.parity != 'N') settings.c_cflag |= PARENB;
  if (place.parity == 'O') settings.c_cflag |= PARODD;
  (void)::cfsetspeed(&settings, speed_of(place.bits_per_s));
  return ::tcsetattr(line, TCSANOW, &settings) == 0 ? std::string() : std::strerror(errno);
}

}  // namespace

StreamDriver::StreamDriver(StreamPlace place, Party& party) : place_(std::move(place)), party_(party) {}

StreamDriver::~StreamDriver() {
  close_all();
  for (const int one : {listener_, connecting_, line_other_end_}) {
    if (one >= 0) ::close(one);
  }
  if (line_other_end_ >= 0) {
    std::error_code ignored;
    std::filesystem::remove(place_.path.substr(pseudo_terminal.size()), ignored);
  }
}

std::string StreamDriver::open() {
  SocketAddress address;
  switch (place_.kind) {
    case StreamPlace::Kind::listens:
      return listen();
    case StreamPlace::Kind::line:
      return open_line();
    case StreamPlace::Kind::connects:
      break;
  }
  return read_address(place_.address, place_.port, address)
             ? std::string()
             : fmt::format("\"{}\" is no address; write one such as 127.0.0.1", place_.address);
}

std::string StreamDriver::listen() {
  SocketAddress address;
  if (!read_address(place_.address, place_.port, address))
    return fmt::format("\"{}\" is no address of this computer; write one such as 127.0.0.1", place_.address);
  listener_ = ::socket(address.storage.ss_family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  const int on = 1;
  if (listener_ >= 0) (void)::setsockopt(listener_, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  if (listener_ < 0 ||
      ::bind(listener_, reinterpret_cast<sockaddr*>(&address.storage), address.length) != 0 ||
      ::listen(listener_, 64) != 0)
    return fmt::format("cannot listen at {}:{} ({}); choose another port", place_.address, place_.port,
                       std::strerror(errno));
  socklen_t length = sizeof address.storage;
  (void)::getsockname(listener_, reinterpret_cast<sockaddr*>(&address.storage), &length);
  port_ = ntohs(address.storage.ss_family == AF_INET6
                    ? reinterpret_cast<sockaddr_in6*>(&address.storage)->sin6_port
                    : reinterpret_cast<sockaddr_in*>(&address.storage)->sin_port);
  return {};
}

std::string StreamDriver::open_line() {
  const bool made = place_.path.starts_with(pseudo_terminal);
  const std::string path = made ? place_.path.substr(pseudo_terminal.size()) : place_.path;
  if (!made) {
    line_ = ::open(path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
  } else {
    line_ = ::posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    std::array<char, 128> name{};
    if (line_ < 0 || ::grantpt(line_) != 0 || ::unlockpt(line_) != 0 ||
        ::ptsname_r(line_, name.data(), name.size()) != 0)
      return fmt::format("no pseudo-terminal ({})", std::strerror(errno));
    // Held open here too: with nobody at it, reading would fail.
    line_other_end_ = ::open(name.data(), O_RDWR | O_NOCTTY | O_CLOEXEC);
    std::error_code failed;
    if (std::filesystem::is_symlink(path)) std::filesystem::remove(path, failed);
    std::filesystem::create_symlink(name.data(), path, failed);
    if (failed) return fmt::format("cannot put a pseudo-terminal at {} ({})", path, failed.message());
  }
  if (line_ < 0) return fmt::format("cannot open the line {} ({})", path, std::strerror(errno));
  const std::string flaw = make_raw(made ? line_other_end_ : line_, place_);
  return flaw.empty() ? flaw : fmt::format("{} is no serial line ({})", path, flaw);
}

std::string StreamDriver::description() const {
  switch (place_.kind) {
    case StreamPlace::Kind::line:
      return fmt::format("line {}", place_.path);
    case StreamPlace::Kind::connects:
      return fmt::format("TCP to {}:{}", place_.address, place_.port);
    case StreamPlace::Kind::listens:
      break;
  }
  return fmt::format("TCP {}:{}", place_.address, port_);
}

void StreamDriver::take_up(int socket, Now now) {
  auto conversation = streams_.size() < place_.most_connections && !closed_ ? party_.connected(now) : nullptr;
  if (conversation) {
    streams_.push_back({socket, std::move(conversation)});
  } else {
    ::close(socket);
    ++turned_away_;
  }
}

void StreamDriver::accept_all(Now now) {
  for (;;) {
    const int socket = ::accept4(listener_, nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC);
    if (socket < 0) return;
    answer_at_once(socket);
    take_up(socket, now);
  }
}

void StreamDriver::connect_again(Now now) {
  if (closed_ || connecting_ >= 0 || !streams_.empty() || now.steady_ns < next_attempt_ns_) return;
  next_attempt_ns_ = now.steady_ns + place_.between_attempts_ns;
  SocketAddress address;
  if (!read_address(place_.address, place_.port, address)) return;
  connecting_ = ::socket(address.storage.ss_family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  if (connecting_ < 0) return;
  answer_at_once(connecting_);
  if (::connect(connecting_, reinterpret_cast<sockaddr*>(&address.storage), address.length) == 0)
    return take_up(std::exchange(connecting_, -1), now);
  if (errno == EINPROGRESS) return;
  trouble_ = std::strerror(errno);
  ::close(std::exchange(connecting_, -1));
}

void StreamDriver::finish_connecting(Now now) {
  int error = 0;
  socklen_t length = sizeof error;
  (void)::getsockopt(connecting_, SOL_SOCKET, SO_ERROR, &error, &length);
  const int socket = std::exchange(connecting_, -1);
  if (error == 0) return take_up(socket, now);
  trouble_ = std::strerror(error);
  ::close(socket);
}

void StreamDriver::read_from(Stream& stream, Now now) {
  std::array<std::uint8_t, 4096> buffer;
  const ssize_t got = ::read(stream.socket, buffer.data(), buffer.size());
  if (got > 0 && drops()) return;
  if (got > 0) return stream.conversation->receive(Bytes(buffer).first(static_cast<std::size_t>(got)), now);
  if (got < 0 && (errno == EAGAIN || errno == EINTR)) return;
  ::close(std::exchange(stream.socket, -1));
}

void StreamDriver::write_to(Stream& stream) {
  std::vector<std::uint8_t>& out = stream.conversation->out();
  if (drops()) out.clear();
  if (out.empty() || stream.socket < 0) return;
  const ssize_t taken = place_.kind == StreamPlace::Kind::line
                            ? ::write(stream.socket, out.data(), out.size())
                            : ::send(stream.socket, out.data(), out.size(), MSG_NOSIGNAL);
  if (taken > 0) out.erase(out.begin(), out.begin() + taken);
  const bool broken = taken < 0 && errno != EAGAIN && errno != EINTR;
  if (broken || out.size() > most_unsent_bytes) ::close(std::exchange(stream.socket, -1));
}

void StreamDriver::close_all() {
  for (const Stream& stream : streams_) {
    if (stream.socket >= 0) ::close(stream.socket);
  }
  streams_.clear();
}

void StreamDriver::turn(int most_ms) {
  std::vector<pollfd> watched;
  watched.reserve(streams_.size() + 1);
  for (Stream& stream : streams_)
    watched.push_back({stream.socket,
                       static_cast<short>(stream.conversation->out().empty() ? POLLIN : POLLIN | POLLOUT),
                       0});
  if (listener_ >= 0) watched.push_back({listener_, POLLIN, 0});
  if (connecting_ >= 0) watched.push_back({connecting_, POLLOUT, 0});
  (void)::poll(watched.data(), watched.size(), most_ms);
  const Now now = now_by_clocks();
  party_.poll(now);
  for (std::size_t k = 0; k < streams_.size(); ++k) {
    if (watched[k].revents != 0) read_from(streams_[k], now);
    if (streams_[k].socket >= 0) streams_[k].conversation->poll(now);
    write_to(streams_[k]);
    const bool ends =
        (closed_ && place_.kind != StreamPlace::Kind::line) || !streams_[k].conversation->over().empty();
    if (ends && streams_[k].socket >= 0) ::close(std::exchange(streams_[k].socket, -1));
  }
  // A line that broke is opened anew with the next run; a connection may come again.
  std::erase_if(streams_, [](const Stream& stream) { return stream.socket < 0; });
  if (listener_ >= 0) accept_all(now);
  if (connecting_ >= 0 && watched.back().revents != 0)
    finish_connecting(now);
  else if (connecting_ >= 0 &&
           now.steady_ns > next_attempt_ns_ + 1'000'000 * std::int64_t{attempts_before_next_ms})
    ::close(std::exchange(connecting_, -1));
  if (place_.kind == StreamPlace::Kind::connects) connect_again(now);
  if (line_ >= 0 && !closed_) take_up(std::exchange(line_, -1), now);
}

}  // namespace zavrek::wire
