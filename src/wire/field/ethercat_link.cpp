#include <cerrno>
#include <cstring>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <linux/if_packet.h>
#include <net/if.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/ethercat.hpp"

#ifndef PACKET_IGNORE_OUTGOING
#define PACKET_IGNORE_OUTGOING 23
#endif

namespace zavrek::wire {

EtherCatLink::EtherCatLink(const std::string& interface) {
  socket_ = ::socket(AF_PACKET, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, htons(ethertype_ethercat));
  const auto refuse = [&](const std::string& why) {
    if (socket_ >= 0) ::close(socket_);
    throw Error(why);
  };
  if (socket_ < 0)
    refuse(fmt::format("no raw frames on {} ({}); they want root or the capability cap_net_raw", interface,
                       std::strerror(errno)));
  const int on = 1;
  // What it sends itself does not come back; on the loopback everything would.
  (void)::setsockopt(socket_, SOL_PACKET, PACKET_IGNORE_OUTGOING, &on, sizeof on);
  sockaddr_ll address{};
  address.sll_family = AF_PACKET;
  address.sll_protocol = htons(ethertype_ethercat);
  address.sll_ifindex = static_cast<int>(::if_nametoindex(interface.c_str()));
  if (address.sll_ifindex == 0 || ::bind(socket_, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0)
    refuse(fmt::format("no interface {} ({}); make it, or name another", interface, std::strerror(errno)));
  ifreq request{};
  std::strncpy(request.ifr_name, interface.c_str(), IFNAMSIZ - 1);
  if (::ioctl(socket_, SIOCGIFHWADDR, &request) == 0)
    std::memcpy(address_.data(), request.ifr_hwaddr.sa_data, 6);
  // Whatever destination they have: masters broadcast.
  packet_mreq all{};
  all.mr_ifindex = address.sll_ifindex;
  all.mr_type = PACKET_MR_PROMISC;
  (void)::setsockopt(socket_, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &all, sizeof all);
}

EtherCatLink::~EtherCatLink() { ::close(socket_); }

std::size_t EtherCatLink::receive(std::span<std::uint8_t> into) noexcept {
  const ssize_t got = ::recv(socket_, into.data(), into.size(), 0);
  return got > 0 ? static_cast<std::size_t>(got) : 0;
}

bool EtherCatLink::send(Bytes frame) noexcept {
  return ::send(socket_, frame.data(), frame.size(), 0) == static_cast<ssize_t>(frame.size());
}

void EtherCatLink::wait(int most_ms) noexcept {
  pollfd one{socket_, POLLIN, 0};
  (void)::poll(&one, 1, most_ms);
}

}  // namespace zavrek::wire
