#include "zavrek/wire/control_link.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <random>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include "wire/bytes.hpp"

namespace zavrek::wire {
namespace {

using internal::Reader;
using internal::Writer;

constexpr std::uint8_t version = 2;

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
void put(Writer& out, const ControlKey& key) noexcept {
  for (const std::uint8_t byte : key) out.byte(byte);
}
void take(Reader& in, ControlKey& key) noexcept {
  const Bytes bytes = in.take(key.size());
  if (in.good()) std::copy(bytes.begin(), bytes.end(), key.begin());
}
sockaddr_in here(int port) noexcept {
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  return address;
}
bool starts(Reader& in, std::string_view magic) noexcept {
  const Bytes first = in.take(4);
  return in.good() && std::equal(magic.begin(), magic.end(), first.begin()) && in.number(1) == version;
}

}  // namespace

ControlKey random_key() {
  std::random_device random;
  ControlKey key;
  for (std::uint8_t& byte : key) byte = static_cast<std::uint8_t>(random());
  return key;
}
std::string to_string(const ControlKey& key) { return fmt::format("{:02x}", fmt::join(key, "")); }
ControlKey parse_key(std::string_view text) {
  constexpr std::string_view blanks = " \t\r\n";
  const std::size_t first = std::min(text.find_first_not_of(blanks), text.size());
  text = text.substr(first, text.find_last_not_of(blanks) + 1 - first);
  ControlKey key{};
  bool good = text.size() == 2 * key.size();
  for (std::size_t k = 0; good && k < key.size(); ++k) {
    const char* const digits = text.data() + 2 * k;
    const auto [end, error] = std::from_chars(digits, digits + 2, key[k], 16);
    good = error == std::errc{} && end == digits + 2;
  }
  if (!good) throw Error("a key of a control is 32 hexadecimal digits");
  return key;
}

std::size_t encode(const ControlMeasure& message, std::span<std::uint8_t> out) {
  Writer w(out);
  w.text("ZVCM");
  w.byte(version);
  w.byte(static_cast<std::uint8_t>(message.kind));
  put(w, message.key);
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
  if (kind < 1 || kind > 3) return false;
  message.kind = static_cast<ControlAsk>(kind);
  take(r, message.key);
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
  return r.good() && r.done() && finite;
}

std::size_t encode(const ControlAnswer& answer, std::span<std::uint8_t> out) {
  Writer w(out);
  w.text("ZVCA");
  w.byte(version);
  w.byte(answer.failure.empty() ? 0 : 1);
  put(w, answer.key);
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
  take(r, answer.key);
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
  sockaddr_in own = here(port);
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

void ControlPort::aim(int port) noexcept {
  peer_ = port;
  const sockaddr_in peer = here(port);
  (void)::connect(socket_, reinterpret_cast<const sockaddr*>(&peer), sizeof peer);
}

bool ControlPort::send(Bytes message, int to_port) noexcept {
  const sockaddr_in to = here(to_port);
  ssize_t sent = 0;
  // Refused is what was sent before, while nobody listened.
  for (int tries = 0; tries < 3; ++tries) {
    sent = ::sendto(socket_, message.data(), message.size(), MSG_DONTWAIT,
                    reinterpret_cast<const sockaddr*>(&to), sizeof to);
    if (sent >= 0 || (errno != EINTR && errno != ECONNREFUSED)) break;
  }
  return sent == static_cast<ssize_t>(message.size());
}

std::size_t ControlPort::receive(std::span<std::uint8_t> into, int wait_ms, int* from_port) noexcept {
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
  if (got > 0 && from_port) *from_port = ntohs(from.sin_port);
  return got > 0 ? static_cast<std::size_t>(got) : 0;
}

}  // namespace zavrek::wire
