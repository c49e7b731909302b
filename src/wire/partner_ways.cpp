#include <algorithm>
#include <cerrno>
#include <cstring>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include "zavrek/error.hpp"
#include "zavrek/wire/partner.hpp"

namespace zavrek::wire {
namespace {

constexpr std::uint16_t ethertype_partner = 0x88B5;  // IEEE 802, local experiments
constexpr std::size_t frame_header = 18;             // addresses, ethertype, channel, length

/// "127.0.0.1:7001"
sockaddr_in partner_address(const std::string& text) {
  sockaddr_in address{};
  address.sin_family = AF_INET;
  const std::size_t colon = text.rfind(':');
  int port = 0;
  if (colon != std::string::npos) {
    char* end = nullptr;
    port = static_cast<int>(std::strtol(text.c_str() + colon + 1, &end, 10));
    if (end == text.c_str() + colon + 1 || *end != '\0') port = 0;
  }
  if (port < 1 || port > 65'535 ||
      ::inet_pton(AF_INET, text.substr(0, colon).c_str(), &address.sin_addr) != 1)
    throw Error(fmt::format("\"{}\" is no address and port, such as \"127.0.0.1:7001\"", text));
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  return address;
}

class PartnerDatagrams final : public PartnerWay {
 public:
  PartnerDatagrams(const std::string& own, const std::string& other)
      : text_(fmt::format("UDP, {} to {}", own, other)), other_(partner_address(other)) {
    const sockaddr_in at = partner_address(own);
    socket_ = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    if (socket_ < 0 || ::bind(socket_, reinterpret_cast<const sockaddr*>(&at), sizeof at) != 0) {
      const std::string why = std::strerror(errno);
      if (socket_ >= 0) ::close(socket_);
      throw Error(fmt::format("{} cannot be opened ({})", own, why));
    }
  }
  ~PartnerDatagrams() override { ::close(socket_); }
  bool send(Bytes message) noexcept override {
    return ::sendto(socket_, message.data(), message.size(), 0, reinterpret_cast<const sockaddr*>(&other_),
                    sizeof other_) == static_cast<ssize_t>(message.size());
  }
  std::size_t receive(std::span<std::uint8_t> into) noexcept override {
    for (int k = 0; k < 16; ++k) {
      sockaddr_in from{};
      socklen_t size = sizeof from;
      const ssize_t got =
          ::recvfrom(socket_, into.data(), into.size(), 0, reinterpret_cast<sockaddr*>(&from), &size);
      // A refusal by the other computer, which has nobody there yet, is nothing that came.
      if (got < 0 && errno == ECONNREFUSED) continue;
      if (got < 0) return 0;
      if (from.sin_addr.s_addr != other_.sin_addr.s_addr || from.sin_port != other_.sin_port) continue;
      return std::max<std::size_t>(static_cast<std::size_t>(got), 1);
    }
    return 0;
  }
  std::string description() const override { return text_; }

 private:
  std::string text_;
  sockaddr_in other_;
  int socket_ = -1;
};

class PartnerFrames final : public PartnerWay {
 public:
  PartnerFrames(const std::string& interface, Medium medium, int channel)
      : channel_(static_cast<std::uint16_t>(channel)),
        link_(open_link(interface, medium, {ethertype_partner, {channel_}})),
        own_(own_source()) {}
  bool send(Bytes message) noexcept override {
    if (message.size() + frame_header > longest_frame) return false;
    std::fill_n(frame_.begin(), 6, 0xFF);
    std::copy(own_.begin(), own_.end(), frame_.begin() + 6);
    const auto put = [&](std::size_t at, std::size_t value) {
      frame_[at] = static_cast<std::uint8_t>(value >> 8U);
      frame_[at + 1] = static_cast<std::uint8_t>(value);
    };
    put(12, ethertype_partner);
    put(14, channel_);
    put(16, message.size());
    std::copy(message.begin(), message.end(), frame_.begin() + frame_header);
    return link_->send(Bytes(frame_).first(frame_header + message.size()));
  }
  std::size_t receive(std::span<std::uint8_t> into) noexcept override {
    for (int k = 0; k < 16; ++k) {
      const std::size_t got = link_->receive(heard_);
      if (got == 0) return 0;
      const auto number = [&](std::size_t at) {
        return static_cast<std::size_t>(heard_[at]) << 8U | heard_[at + 1];
      };
      if (got < frame_header || number(12) != ethertype_partner || number(14) != channel_) continue;
      if (std::equal(own_.begin(), own_.end(), heard_.begin() + 6)) continue;
      const std::size_t size = number(16);
      if (size == 0 || size > got - frame_header || size > into.size()) {
        into[0] = 0;
        return 1;  // is malformed
      }
      std::copy_n(heard_.begin() + frame_header, size, into.begin());
      return size;
    }
    return 0;
  }
  std::string description() const override {
    return fmt::format("{}, channel {}", link_->description(), channel_);
  }

 private:
  std::uint16_t channel_;
  std::unique_ptr<Link> link_;
  MacAddress own_;
  FrameBuffer frame_{}, heard_{};
};

}  // namespace

std::unique_ptr<PartnerWay> make_partner_datagrams(const std::string& own, const std::string& other) {
  return std::make_unique<PartnerDatagrams>(own, other);
}
std::unique_ptr<PartnerWay> make_partner_frames(const std::string& interface, Medium medium, int channel) {
  return std::make_unique<PartnerFrames>(interface, medium, channel);
}

}  // namespace zavrek::wire
