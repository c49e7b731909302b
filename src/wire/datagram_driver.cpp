#include "zavrek/wire/datagram_driver.hpp"

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <ctime>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zavrek::wire {
namespace {

constexpr std::int64_t forgotten_after_ns = 600'000'000'000;

std::int64_t clock_ns(clockid_t clock) noexcept {
  timespec at{};
  ::clock_gettime(clock, &at);
  return static_cast<std::int64_t>(at.tv_sec) * 1'000'000'000 + at.tv_nsec;
}

bool read_place(const std::string& address, int port, sockaddr_in& into) {
  into = {};
  into.sin_family = AF_INET;
  into.sin_port = htons(static_cast<std::uint16_t>(port));
  return ::inet_pton(AF_INET, address.c_str(), &into.sin_addr) == 1;
}

}  // namespace

DatagramDriver::DatagramDriver(std::string address, int port, std::string to, Party& party)
    : address_(std::move(address)), to_(std::move(to)), port_(port), party_(party) {}

DatagramDriver::~DatagramDriver() {
  peers_.clear();
  if (socket_ >= 0) ::close(socket_);
}

std::string DatagramDriver::open() {
  sockaddr_in here{};
  if (!read_place(address_, port_, here))
    return fmt::format("\"{}\" is no IPv4 address of this computer", address_);
  socket_ = ::socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  if (socket_ < 0 || ::bind(socket_, reinterpret_cast<const sockaddr*>(&here), sizeof here) != 0)
    return fmt::format("cannot take datagrams at {}:{} ({}); choose another port", address_, port_,
                       std::strerror(errno));
  if (to_.empty()) return {};
  const std::size_t colon = to_.find(':');
  int port = 0;
  if (colon != std::string::npos) std::from_chars(to_.data() + colon + 1, to_.data() + to_.size(), port);
  sockaddr_in there{};
  if (port < 1 || port > 65'535 || !read_place(to_.substr(0, colon), port, there))
    return fmt::format("\"{}\" is nobody's address; write one such as \"127.0.0.1:4713\"", to_);
  (void)find(there, {clock_ns(CLOCK_MONOTONIC), clock_ns(CLOCK_REALTIME)}, true);
  return {};
}

DatagramDriver::Peer* DatagramDriver::find(const sockaddr_in& address, Now now, bool stays) {
  const auto at = std::find_if(peers_.begin(), peers_.end(), [&](const Peer& peer) {
    return peer.address.sin_addr.s_addr == address.sin_addr.s_addr &&
           peer.address.sin_port == address.sin_port;
  });
  if (at != peers_.end()) return &*at;
  auto conversation = peers_.size() < most_peers ? party_.connected(now) : nullptr;
  if (!conversation) {
    ++turned_away_;
    return nullptr;
  }
  peers_.push_back({address, now.steady_ns, stays, std::move(conversation)});
  return &peers_.back();
}

/// Each message is a datagram: what a conversation says at once and is too long for one is cut by its own
/// sizes.
void DatagramDriver::send_from(Peer& peer) {
  std::vector<std::uint8_t>& out = peer.conversation->out();
  std::size_t at = 0;
  while (at + 4 <= out.size()) {
    const std::size_t size =
        std::max<std::size_t>(4, static_cast<std::size_t>(out[at + 2]) << 8U | out[at + 3]);
    const std::size_t part = std::min(size, out.size() - at);
    if (!silent_)
      (void)::sendto(socket_, &out[at], part, 0, reinterpret_cast<const sockaddr*>(&peer.address),
                     sizeof peer.address);
    at += part;
  }
  out.clear();
}

void DatagramDriver::turn(int most_ms) {
  pollfd watched{socket_, POLLIN, 0};
  (void)::poll(&watched, 1, most_ms);
  const Now now{clock_ns(CLOCK_MONOTONIC), clock_ns(CLOCK_REALTIME)};
  party_.poll(now);
  std::array<std::uint8_t, 65'536> buffer;
  for (int k = 0; k < 256; ++k) {
    sockaddr_in from{};
    socklen_t length = sizeof from;
    const ssize_t got =
        ::recvfrom(socket_, buffer.data(), buffer.size(), 0, reinterpret_cast<sockaddr*>(&from), &length);
    if (got < 0) break;
    if (silent_) continue;
    Peer* peer = find(from, now, false);
    if (!peer) continue;
    peer->heard_ns = now.steady_ns;
    peer->conversation->receive(Bytes(buffer).first(static_cast<std::size_t>(got)), now);
  }
  for (Peer& peer : peers_) {
    peer.conversation->poll(now);
    send_from(peer);
  }
  std::erase_if(peers_, [&](const Peer& peer) {
    return !peer.conversation->over().empty() ||
           (!peer.stays && now.steady_ns - peer.heard_ns > forgotten_after_ns);
  });
}

std::string DatagramDriver::description() const { return fmt::format("UDP {}:{}", address_, port_); }

}  // namespace zavrek::wire
