#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstring>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <linux/filter.h>
#include <linux/if_ether.h>
#include <linux/if_packet.h>
#include <net/if.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <unistd.h>

#include "zavrek/wire.hpp"

namespace zavrek::wire {
namespace {

constexpr const char* multicast_group = "239.61.85.1";
constexpr std::uint16_t multicast_port = 6185;
constexpr int receive_buffer_bytes = 4 << 20;

/// More application identifiers than this are told apart behind the kernel's filter only: its jumps reach no
/// further.
constexpr std::size_t most_filtered = 200;
constexpr unsigned udp_header = 8;

/// A kernel filter, so that other traffic never fills the socket's buffer; frames begin `header` bytes into
/// what it sees. The kernel strips a VLAN tag before it filters, but not on frames that were sent with one
/// inside on loopback: both are accepted.
void attach_filter(int socket, unsigned header, const FrameFilter& filter) {
  const bool any = filter.appids.empty() || filter.appids.size() > most_filtered;
  const bool either = filter.ethertype == 0;
  const std::uint16_t one = either ? ethertype_goose : filter.ethertype;
  const std::uint16_t other = either ? ethertype_sampled_values : filter.ethertype;
  const std::size_t no = 10 + (any ? 1 : filter.appids.size()), yes = no + 1;
  std::vector<sock_filter> program;
  const auto load = [&](unsigned offset) {
    program.push_back({BPF_LD | BPF_H | BPF_ABS, 0, 0, header + offset});
  };
  const auto equal = [&](std::uint32_t value, std::size_t then, std::size_t otherwise) {
    const std::size_t next = program.size() + 1;
    program.push_back({BPF_JMP | BPF_JEQ | BPF_K, static_cast<std::uint8_t>(then - next),
                       static_cast<std::uint8_t>(otherwise - next), value});
  };
  const auto go = [&](std::size_t to) {
    program.push_back({BPF_JMP | BPF_JA, 0, 0, static_cast<std::uint32_t>(to - program.size() - 1)});
  };
  load(12);
  equal(0x8100, 2, 7);
  load(16);
  equal(one, 5, 4);
  equal(other, 5, no);
  load(18);
  go(10);
  equal(one, 9, 8);
  equal(other, 9, no);
  load(14);
  if (any) {
    go(yes);
  } else {
    for (const std::uint16_t appid : filter.appids) equal(appid, yes, program.size() + 1);
  }
  program.push_back({BPF_RET | BPF_K, 0, 0, 0});
  program.push_back({BPF_RET | BPF_K, 0, 0, 0xFFFF});
  const sock_fprog attached{static_cast<unsigned short>(program.size()), program.data()};
  (void)setsockopt(socket, SOL_SOCKET, SO_ATTACH_FILTER, &attached, sizeof attached);
}

class SocketLink : public Link {
 public:
  /// Frames begin `header` bytes behind where the kernel's filter does.
  SocketLink(int socket, std::string description, FrameFilter filter, unsigned header)
      : socket_(socket), header_(header), description_(std::move(description)), filter_(std::move(filter)) {}
  SocketLink(const SocketLink&) = delete;
  SocketLink& operator=(const SocketLink&) = delete;
  ~SocketLink() override { close(socket_); }

  bool send(Bytes frame) noexcept override {
    for (;;) {
      const ssize_t sent = ::sendto(socket_, frame.data(), frame.size(), MSG_DONTWAIT, to(), to_size());
      if (sent >= 0 || errno != EINTR) return sent == static_cast<ssize_t>(frame.size());
    }
  }
  std::size_t receive(std::span<std::uint8_t> out) noexcept override {
    // Frames of no interest are passed over, a bounded number at a call.
    for (int tries = 0; tries < most_passed_over; ++tries) {
      const ssize_t got = ::recv(socket_, out.data(), out.size(), MSG_DONTWAIT | MSG_TRUNC);
      if (got < 0 && errno == EINTR) continue;
      if (got <= 0) return 0;
      const std::size_t length = std::min(static_cast<std::size_t>(got), out.size());
      if (wanted(Bytes(out).first(length))) return length;
    }
    return 0;
  }
  void want(const FrameFilter& filter) override {
    filter_ = filter;
    attach_filter(socket_, header_, filter_);
  }
  bool wait(int timeout_ms) noexcept override {
    pollfd waiting{socket_, POLLIN, 0};
    return ::poll(&waiting, 1, timeout_ms) > 0;
  }
  const std::string& description() const noexcept override { return description_; }

 protected:
  static constexpr int most_passed_over = 32;
  [[nodiscard]] virtual const sockaddr* to() const noexcept { return nullptr; }
  [[nodiscard]] virtual socklen_t to_size() const noexcept { return 0; }

  [[nodiscard]] bool wanted(Bytes frame) const noexcept {
    const auto kind = kind_of(frame);
    if (!kind) return false;
    const bool fits = filter_.ethertype == 0
                          ? kind->ethertype == ethertype_goose || kind->ethertype == ethertype_sampled_values
                          : kind->ethertype == filter_.ethertype;
    if (!fits) return false;
    const auto& appids = filter_.appids;
    return appids.empty() || std::find(appids.begin(), appids.end(), kind->appid) != appids.end();
  }

 private:
  int socket_;
  unsigned header_;
  std::string description_;
  FrameFilter filter_;
};

class DatagramLink final : public SocketLink {
 public:
  DatagramLink(int socket, std::string description, const FrameFilter& filter, sockaddr_in group)
      : SocketLink(socket, std::move(description), filter, udp_header), group_(group) {}

 protected:
  const sockaddr* to() const noexcept override { return reinterpret_cast<const sockaddr*>(&group_); }
  socklen_t to_size() const noexcept override { return sizeof group_; }

 private:
  sockaddr_in group_;
};

/// Of a raw packet socket: what comes stands in memory that the kernel fills and this process reads, frame by
/// frame, without a call to the system (packet(7), PACKET_RX_RING).
class RingLink final : public SocketLink {
 public:
  static constexpr unsigned frame_bytes = 2048, frames = 2048, block_bytes = 1 << 16;

  /// Null where the kernel gives no ring.
  static std::unique_ptr<RingLink> open(int socket, const std::string& description,
                                        const FrameFilter& filter) {
    const int of_headers = TPACKET_V2;
    const tpacket_req wanted{block_bytes, frames * frame_bytes / block_bytes, frame_bytes, frames};
    if (setsockopt(socket, SOL_PACKET, PACKET_VERSION, &of_headers, sizeof of_headers) < 0 ||
        setsockopt(socket, SOL_PACKET, PACKET_RX_RING, &wanted, sizeof wanted) < 0)
      return nullptr;
    void* ring = mmap(nullptr, ring_bytes, PROT_READ | PROT_WRITE, MAP_SHARED, socket, 0);
    if (ring == MAP_FAILED) {
      const tpacket_req none{};
      (void)setsockopt(socket, SOL_PACKET, PACKET_RX_RING, &none, sizeof none);
      return nullptr;
    }
    return std::unique_ptr<RingLink>(
        new RingLink(socket, description, filter, static_cast<std::uint8_t*>(ring)));
  }
  ~RingLink() override { munmap(ring_, ring_bytes); }

  std::size_t receive(std::span<std::uint8_t> out) noexcept override {
    for (int tries = 0; tries < most_passed_over; ++tries) {
      auto* const at = ring_ + static_cast<std::size_t>(next_) * frame_bytes;
      auto* const header = reinterpret_cast<tpacket2_hdr*>(at);
      std::atomic_ref<__u32> status(header->tp_status);
      if ((status.load(std::memory_order_acquire) & TP_STATUS_USER) == 0) return 0;
      const std::size_t length = std::min<std::size_t>(header->tp_snaplen, out.size());
      std::memcpy(out.data(), at + header->tp_mac, length);
      status.store(TP_STATUS_KERNEL, std::memory_order_release);
      next_ = (next_ + 1) % frames;
      if (wanted(Bytes(out).first(length))) return length;
    }
    return 0;
  }

 private:
  static constexpr std::size_t ring_bytes = std::size_t{frames} * frame_bytes;
  RingLink(int socket, const std::string& description, const FrameFilter& filter, std::uint8_t* ring)
      : SocketLink(socket, description, filter, 0), ring_(ring) {}
  std::uint8_t* ring_;
  unsigned next_ = 0;
};

std::unique_ptr<Link> open_raw(const std::string& interface, const FrameFilter& filter,
                               std::string& why_not) {
  const unsigned index = if_nametoindex(interface.c_str());
  if (index == 0)
    throw Error(fmt::format("no network interface \"{}\"; `ip link` lists those there are", interface));
  // Protocol 0: nothing arrives until the filter stands and bind() names the protocol.
  const int socket = ::socket(AF_PACKET, SOCK_RAW | SOCK_CLOEXEC, 0);
  if (socket < 0) {
    why_not = std::strerror(errno);
    return nullptr;
  }
  attach_filter(socket, 0, filter);
  const int yes = 1;
  (void)setsockopt(socket, SOL_PACKET, PACKET_IGNORE_OUTGOING, &yes, sizeof yes);
  (void)setsockopt(socket, SOL_SOCKET, SO_RCVBUFFORCE, &receive_buffer_bytes, sizeof receive_buffer_bytes);
  sockaddr_ll address{};
  address.sll_family = AF_PACKET;
  address.sll_protocol = htons(ETH_P_ALL);
  address.sll_ifindex = static_cast<int>(index);
  if (bind(socket, reinterpret_cast<const sockaddr*>(&address), sizeof address) < 0) {
    why_not = std::strerror(errno);
    close(socket);
    return nullptr;
  }
  packet_mreq promiscuous{};
  promiscuous.mr_ifindex = static_cast<int>(index);
  promiscuous.mr_type = PACKET_MR_ALLMULTI;
  (void)setsockopt(socket, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &promiscuous, sizeof promiscuous);
  const std::string description = fmt::format("raw frames on {}", interface);
  if (std::unique_ptr<Link> link = RingLink::open(socket, description, filter)) return link;
  return std::make_unique<SocketLink>(socket, description, filter, 0);
}

std::unique_ptr<Link> open_datagram(const FrameFilter& filter, const std::string& why) {
  const int socket = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  const auto fail = [&](std::string_view step) {
    const std::string reason = std::strerror(errno);
    if (socket >= 0) close(socket);
    throw Error(fmt::format("no datagram socket for frames: {} failed ({})", step, reason));
  };
  if (socket < 0) fail("socket");
  const int yes = 1;
  (void)setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  (void)setsockopt(socket, SOL_SOCKET, SO_RCVBUF, &receive_buffer_bytes, sizeof receive_buffer_bytes);
  sockaddr_in group{};
  group.sin_family = AF_INET;
  group.sin_port = htons(multicast_port);
  inet_pton(AF_INET, multicast_group, &group.sin_addr);
  attach_filter(socket, udp_header, filter);
  if (bind(socket, reinterpret_cast<const sockaddr*>(&group), sizeof group) < 0) fail("bind");
  ip_mreqn membership{};
  membership.imr_multiaddr = group.sin_addr;
  membership.imr_address.s_addr = htonl(INADDR_LOOPBACK);
  if (setsockopt(socket, IPPROTO_IP, IP_ADD_MEMBERSHIP, &membership, sizeof membership) < 0)
    fail("joining the group");
  if (setsockopt(socket, IPPROTO_IP, IP_MULTICAST_IF, &membership, sizeof membership) < 0)
    fail("choosing loopback");
  return std::make_unique<DatagramLink>(
      socket,
      fmt::format("frames in datagrams on loopback, group {}:{}{}", multicast_group, multicast_port, why),
      filter, group);
}

}  // namespace

Medium medium_of(const std::string& word) {
  if (word == "raw") return Medium::raw;
  return word == "datagram" ? Medium::datagram : Medium::automatic;
}

std::unique_ptr<Link> open_link(const std::string& interface, Medium medium, const FrameFilter& filter) {
  std::string why_not;
  if (medium != Medium::datagram) {
    if (auto link = open_raw(interface, filter, why_not)) return link;
    if (medium == Medium::raw) {
      throw Error(
          fmt::format("no raw packet socket on {} ({}); run as root or with the capability cap_net_raw",
                      interface, why_not));
    }
    why_not = fmt::format(" (no raw packet socket on {}: {})", interface, why_not);
  }
  return open_datagram(filter, why_not);
}

}  // namespace zavrek::wire
