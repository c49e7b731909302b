#include <cerrno>
#include <cstring>
#include <ctime>

#include <arpa/inet.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/can.h>
#include <linux/can/raw.h>
#include <net/if.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>
#include <nlohmann/json.hpp>

#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/can.hpp"

namespace zavrek::wire {
namespace {

class CanSocket : public CanLink {
 public:
  explicit CanSocket(int socket) : socket_(socket) {}
  ~CanSocket() override { ::close(socket_); }
  CanSocket(const CanSocket&) = delete;
  CanSocket& operator=(const CanSocket&) = delete;
  void wait(int most_ms) override {
    pollfd one{socket_, POLLIN, 0};
    (void)::poll(&one, 1, most_ms);
  }

 protected:
  int socket_;
};

/// SocketCAN of the kernel.
class KernelCan final : public CanSocket {
 public:
  using CanSocket::CanSocket;
  bool send(const CanFrame& frame) override {
    canfd_frame out{};
    out.can_id = frame.id | (frame.extended ? CAN_EFF_FLAG : 0);
    out.len = static_cast<std::uint8_t>(frame.size);
    std::memcpy(out.data, frame.data.data(), frame.size);
    const std::size_t size = frame.more ? CANFD_MTU : CAN_MTU;
    return ::write(socket_, &out, size) == static_cast<ssize_t>(size);
  }
  bool receive(CanFrame& frame, Count& malformed) override {
    canfd_frame in{};
    const ssize_t got = ::read(socket_, &in, sizeof in);
    if (got <= 0) return false;
    const bool whole = got == static_cast<ssize_t>(CAN_MTU) || got == static_cast<ssize_t>(CANFD_MTU);
    if (!whole || in.len > 64 || (in.can_id & (CAN_RTR_FLAG | CAN_ERR_FLAG)) != 0) {
      ++malformed;
      frame.size = 0;
      frame.id = ~0U;  // nobody's
      return true;
    }
    frame.extended = (in.can_id & CAN_EFF_FLAG) != 0;
    frame.id = in.can_id & (frame.extended ? CAN_EFF_MASK : CAN_SFF_MASK);
    frame.more = got == static_cast<ssize_t>(CANFD_MTU);
    frame.size = in.len;
    std::memcpy(frame.data.data(), in.data, in.len);
    return true;
  }
};

class DatagramCan final : public CanSocket {
 public:
  DatagramCan(int socket, sockaddr_in group) : CanSocket(socket), group_(group) {}
  bool send(const CanFrame& frame) override {
    timespec now{};
    ::clock_gettime(CLOCK_REALTIME, &now);
    const auto packed =
        pack_can(frame, static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec));
    own_.push_back(packed);
    if (own_.size() > most_own) own_.erase(own_.begin());
    return ::sendto(socket_, packed.data(), packed.size(), 0, reinterpret_cast<const sockaddr*>(&group_),
                    sizeof group_) == static_cast<ssize_t>(packed.size());
  }
  /// What it sent itself comes back too, and is passed over.
  bool receive(CanFrame& frame, Count& malformed) override {
    std::array<std::uint8_t, 2048> buffer;
    const ssize_t got = ::recv(socket_, buffer.data(), buffer.size(), 0);
    if (got <= 0) return false;
    const Bytes bytes = Bytes(buffer).first(static_cast<std::size_t>(got));
    for (auto at = own_.begin(); at != own_.end(); ++at) {
      if (at->size() != bytes.size() || !std::equal(at->begin(), at->end(), bytes.begin())) continue;
      own_.erase(at);
      frame.id = ~0U;
      return true;
    }
    if (unpack_can(bytes, frame)) return true;
    ++malformed;
    frame.id = ~0U;
    return true;
  }

 private:
  static constexpr std::size_t most_own = 64;
  sockaddr_in group_;
  std::vector<std::vector<std::uint8_t>> own_;
};

std::unique_ptr<CanLink> open_kernel(const std::string& name) {
  const int socket = ::socket(PF_CAN, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, CAN_RAW);
  if (socket < 0)
    throw Error(
        fmt::format("this kernel has no SocketCAN ({}); write a group such as \"239.74.163.2:43113\" to "
                    "carry frames in datagrams",
                    std::strerror(errno)));
  auto link = std::make_unique<KernelCan>(socket);
  const int on = 1;
  (void)::setsockopt(socket, SOL_CAN_RAW, CAN_RAW_FD_FRAMES, &on, sizeof on);
  sockaddr_can address{};
  address.can_family = AF_CAN;
  address.can_ifindex = static_cast<int>(::if_nametoindex(name.c_str()));
  if (address.can_ifindex == 0 || ::bind(socket, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0)
    throw Error(fmt::format("no bus at the interface {} ({})", name, std::strerror(errno)));
  return link;
}

std::unique_ptr<CanLink> open_group(const std::string& text, const std::string& address, int port) {
  sockaddr_in group{};
  group.sin_family = AF_INET;
  group.sin_port = htons(static_cast<std::uint16_t>(port));
  if (::inet_pton(AF_INET, address.c_str(), &group.sin_addr) != 1 ||
      !IN_MULTICAST(ntohl(group.sin_addr.s_addr)))
    throw Error(
        fmt::format("\"{}\" is no group of datagrams; write one such as \"239.74.163.2:43113\"", text));
  const int socket = ::socket(AF_INET, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  if (socket < 0) throw Error(fmt::format("no datagrams ({})", std::strerror(errno)));
  auto link = std::make_unique<DatagramCan>(socket, group);
  const int on = 1, hops = 0;  // it stays on this computer
  const in_addr loopback{htonl(INADDR_LOOPBACK)};
  const ip_mreq usual{group.sin_addr, {htonl(INADDR_ANY)}}, local{group.sin_addr, loopback};
  (void)::setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  (void)::setsockopt(socket, IPPROTO_IP, IP_MULTICAST_TTL, &hops, sizeof hops);
  (void)::setsockopt(socket, IPPROTO_IP, IP_MULTICAST_LOOP, &on, sizeof on);
  // The system's usual interface, as others on this computer take it; where there is none, the loopback.
  bool joined = ::bind(socket, reinterpret_cast<const sockaddr*>(&group), sizeof group) == 0;
  if (joined && ::setsockopt(socket, IPPROTO_IP, IP_ADD_MEMBERSHIP, &usual, sizeof usual) != 0) {
    joined = ::setsockopt(socket, IPPROTO_IP, IP_ADD_MEMBERSHIP, &local, sizeof local) == 0;
    (void)::setsockopt(socket, IPPROTO_IP, IP_MULTICAST_IF, &loopback, sizeof loopback);
  }
  if (!joined) throw Error(fmt::format("cannot join {} ({})", text, std::strerror(errno)));
  return link;
}

}  // namespace

std::unique_ptr<CanLink> open_can(const std::string& medium) {
  const std::size_t colon = medium.find(':');
  if (colon == std::string::npos) return open_kernel(medium);
  int port = 0;
  for (const char c : medium.substr(colon + 1))
    port = c >= '0' && c <= '9' && port < 100'000 ? 10 * port + (c - '0') : 100'000;
  return open_group(medium, medium.substr(0, colon), port > 65'535 ? 0 : port);
}

std::vector<std::uint8_t> pack_can(const CanFrame& frame, double utc_s) {
  nlohmann::json::binary_t data;
  data.assign(frame.data.begin(), frame.data.begin() + static_cast<std::ptrdiff_t>(frame.size));
  return nlohmann::json::to_msgpack({{"timestamp", utc_s},
                                     {"arbitration_id", frame.id},
                                     {"is_extended_id", frame.extended},
                                     {"is_remote_frame", false},
                                     {"is_error_frame", false},
                                     {"channel", nullptr},
                                     {"dlc", frame.size},
                                     {"data", nlohmann::json::binary(data)},
                                     {"is_fd", frame.more},
                                     {"bitrate_switch", false},
                                     {"error_state_indicator", false}});
}

bool unpack_can(Bytes datagram, CanFrame& frame) {
  const nlohmann::json read = nlohmann::json::from_msgpack(datagram.begin(), datagram.end(), true, false);
  if (!read.is_object() || !read.contains("arbitration_id") || !read.contains("data")) return false;
  const auto flag = [&](const char* name) {
    return read.contains(name) && read[name].is_boolean() && read[name].get<bool>();
  };
  const nlohmann::json &id = read["arbitration_id"], &data = read["data"];
  if (!id.is_number_unsigned() || !data.is_binary() || flag("is_remote_frame") || flag("is_error_frame"))
    return false;
  const auto& octets = data.get_binary();
  frame.extended = flag("is_extended_id");
  frame.more = flag("is_fd");
  if (id.get<std::uint64_t>() > (frame.extended ? CAN_EFF_MASK : CAN_SFF_MASK) ||
      octets.size() > (frame.more ? 64U : 8U))
    return false;
  frame.id = id.get<std::uint32_t>();
  frame.size = octets.size();
  std::copy(octets.begin(), octets.end(), frame.data.begin());
  return true;
}

}  // namespace zavrek::wire
