#include "zavrek/wire/control_link.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

using internal::Reader;
using internal::Writer;

constexpr std::uint8_t version = 1, measure = 1, end = 2;

void real(Writer& out, double value) noexcept { out.number(std::bit_cast<std::uint64_t>(value), 8); }
void reals(Writer& out, const std::vector<double>& values) noexcept {
  out.number(values.size(), 2);
  for (const double value : values) real(out, value);
}
double real(Reader& in, bool& finite) noexcept {
  const double value = std::bit_cast<double>(in.number(8));
  finite = finite && std::isfinite(value);
  return value;
}
/// A count of items of so many bytes that the rest of the message can hold.
std::size_t count(Reader& in, Bytes whole, std::size_t bytes_each) noexcept {
  const auto n = static_cast<std::size_t>(in.number(2));
  return in.good() && n * bytes_each <= whole.size() ? n : whole.size() + 1;
}
bool reals(Reader& in, Bytes whole, std::vector<double>& values, bool& finite) {
  const std::size_t n = count(in, whole, 8);
  if (n > whole.size()) return false;
  values.resize(n);
  for (double& value : values) value = real(in, finite);
  return in.good();
}
bool starts(Reader& in, std::string_view magic) noexcept {
  const Bytes first = in.take(4);
  return in.good() && std::equal(magic.begin(), magic.end(), first.begin()) && in.number(1) == version;
}

}  // namespace

std::size_t encode(const ControlMeasure& message, std::span<std::uint8_t> out) {
  Writer w(out);
  w.text("ZVCM");
  w.byte(version);
  w.byte(message.ends ? end : measure);
  w.number(message.tick, 4);
  real(w, message.time_s);
  reals(w, message.signals);
  w.number(message.turned.size(), 2);
  for (const auto& [number, value] : message.turned) {
    w.number(number, 2);
    real(w, value);
  }
  return w.size();
}

bool decode(Bytes in, ControlMeasure& message) {
  Reader r(in);
  bool finite = true;
  if (!starts(r, "ZVCM")) return false;
  const auto kind = r.number(1);
  message.ends = kind == end;
  message.tick = static_cast<std::uint32_t>(r.number(4));
  message.time_s = real(r, finite);
  if (!reals(r, in, message.signals, finite)) return false;
  const std::size_t n = count(r, in, 10);
  if (n > in.size()) return false;
  message.turned.resize(n);
  for (auto& [number, value] : message.turned) {
    number = static_cast<std::uint16_t>(r.number(2));
    value = real(r, finite);
  }
  return r.good() && r.done() && finite && (kind == measure || kind == end);
}

std::size_t encode(const ControlAnswer& answer, std::span<std::uint8_t> out) {
  Writer w(out);
  w.text("ZVCA");
  w.byte(version);
  w.byte(answer.failure.empty() ? 0 : 1);
  w.number(answer.tick, 4);
  reals(w, answer.knobs);
  reals(w, answer.outputs);
  w.number(answer.closes.size(), 2);
  for (const std::uint8_t closes : answer.closes) w.byte(closes);
  w.number(answer.edges.size(), 2);
  for (const control::Edge& edge : answer.edges) {
    w.number(static_cast<std::uint64_t>(edge.gate), 2);
    w.byte(edge.on ? 1 : 0);
    real(w, edge.at_s);
  }
  w.number(answer.failure.size(), 2);
  w.text(answer.failure);
  return w.size();
}

bool decode(Bytes in, ControlAnswer& answer) {
  Reader r(in);
  bool finite = true;
  if (!starts(r, "ZVCA")) return false;
  (void)r.number(1);
  answer.tick = static_cast<std::uint32_t>(r.number(4));
  if (!reals(r, in, answer.knobs, finite) || !reals(r, in, answer.outputs, finite)) return false;
  const std::size_t closes = count(r, in, 1);
  if (closes > in.size()) return false;
  answer.closes.resize(closes);
  for (std::uint8_t& one : answer.closes) one = static_cast<std::uint8_t>(r.number(1));
  const std::size_t edges = count(r, in, 11);
  if (edges > in.size()) return false;
  answer.edges.resize(edges);
  for (control::Edge& edge : answer.edges) {
    edge.gate = static_cast<int>(r.number(2));
    edge.on = r.number(1) == 1;
    edge.at_s = real(r, finite);
  }
  const std::size_t length = count(r, in, 1);
  if (length > in.size()) return false;
  const Bytes text = r.take(length);
  answer.failure.assign(text.begin(), text.end());
  return r.good() && r.done() && finite;
}

ControlPort::ControlPort(int port) : socket_(::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0)) {
  sockaddr_in own{};
  own.sin_family = AF_INET;
  own.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  own.sin_port = htons(static_cast<std::uint16_t>(port));
  socklen_t size = sizeof own;
  if (socket_ < 0 || ::bind(socket_, reinterpret_cast<const sockaddr*>(&own), size) != 0) {
    const std::string why = std::strerror(errno);
    if (socket_ >= 0) ::close(socket_);
    throw Error(fmt::format("port {} of this computer cannot be opened ({}); choose another", port, why));
  }
  ::getsockname(socket_, reinterpret_cast<sockaddr*>(&own), &size);
  port_ = ntohs(own.sin_port);
}
ControlPort::ControlPort(ControlPort&& other) noexcept
    : socket_(std::exchange(other.socket_, -1)), port_(other.port_), peer_(other.peer_) {}
ControlPort::~ControlPort() {
  if (socket_ >= 0) ::close(socket_);
}

bool ControlPort::send(Bytes message) noexcept {
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  to.sin_port = htons(static_cast<std::uint16_t>(peer_));
  ssize_t sent = 0;
  do {
    sent = ::sendto(socket_, message.data(), message.size(), MSG_DONTWAIT,
                    reinterpret_cast<const sockaddr*>(&to), sizeof to);
  } while (sent < 0 && errno == EINTR);
  return sent == static_cast<ssize_t>(message.size());
}

std::size_t ControlPort::receive(std::span<std::uint8_t> into, int wait_ms, bool replies) noexcept {
  pollfd waiting{socket_, POLLIN, 0};
  int ready = 0;
  do {
    ready = ::poll(&waiting, 1, wait_ms);
  } while (ready < 0 && errno == EINTR && wait_ms == 0);
  if (ready <= 0) return 0;
  sockaddr_in from{};
  socklen_t size = sizeof from;
  const ssize_t got =
      ::recvfrom(socket_, into.data(), into.size(), MSG_DONTWAIT, reinterpret_cast<sockaddr*>(&from), &size);
  if (got > 0 && replies) peer_ = ntohs(from.sin_port);
  return got > 0 ? static_cast<std::size_t>(got) : 0;
}

}  // namespace zavrek::wire
