// byte  0  destination (6)          14  VLAN: priority 4, identifier 0 (0x8000)
//       6  source (6)               16  ethertype 0x88B8 or 0x88BA
//      12  0x8100                   18  APPID   20  length (from APPID)   22  reserved (4)   26  APDU
#include <algorithm>
#include <charconv>
#include <random>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "wire/bytes.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::wire {
namespace {

constexpr std::uint16_t ethertype_vlan = 0x8100;
constexpr std::uint16_t simulated_bit = 0x8000;
constexpr std::uint64_t second_ns = 1'000'000'000;

}  // namespace

namespace internal {

void write_header(Writer& out, const Address& address, std::uint16_t ethertype, std::size_t apdu) noexcept {
  for (const std::uint8_t byte : address.destination) out.byte(byte);
  for (const std::uint8_t byte : address.source) out.byte(byte);
  if (address.vlan) {
    out.number(ethertype_vlan, 2);
    out.number(static_cast<std::uint64_t>(address.vlan->priority & 7) << 13U |
                   static_cast<std::uint64_t>(address.vlan->identifier & 0xFFF),
               2);
  }
  out.number(ethertype, 2);
  out.number(address.appid, 2);
  out.number(apdu + 8, 2);
  out.number(address.simulated ? simulated_bit : 0, 2);
  out.number(0, 2);
}

Bytes read_header(Bytes frame, std::uint16_t ethertype, Address& address) noexcept {
  if (frame.size() > longest_frame) return {};
  Reader in(frame);
  const Bytes destination = in.take(6);
  const Bytes source = in.take(6);
  std::uint64_t type = in.number(2);
  address.vlan.reset();
  if (type == ethertype_vlan) {
    const auto tag = static_cast<int>(in.number(2));
    address.vlan = Vlan{tag >> 13, tag & 0xFFF};
    type = in.number(2);
  }
  const auto appid = static_cast<std::uint16_t>(in.number(2));
  const std::size_t length = static_cast<std::size_t>(in.number(2));
  address.simulated = (in.number(2) & simulated_bit) != 0;
  (void)in.number(2);
  if (!in.good() || type != ethertype || length < 8) return {};
  std::copy(destination.begin(), destination.end(), address.destination.begin());
  std::copy(source.begin(), source.end(), address.source.begin());
  address.appid = appid;
  return in.take(length - 8);  // the frame may be padded behind it
}

std::uint64_t bytes_of(const Stamp& stamp) noexcept {
  const std::uint64_t fraction =
      std::min<std::uint64_t>((((stamp.utc_ns % second_ns) << 24U) + second_ns / 2) / second_ns, 0xFFFFFF);
  return (stamp.utc_ns / second_ns) << 32U | fraction << 8U | stamp.quality;
}

/// To the next whole nanosecond, so that the same bytes come of it again.
Stamp stamp_of(std::uint64_t bytes) noexcept {
  const std::uint64_t fraction = bytes >> 8U & 0xFFFFFF;
  return {(bytes >> 32U) * second_ns + ((fraction * second_ns + 0xFFFFFF) >> 24U),
          static_cast<std::uint8_t>(bytes)};
}

}  // namespace internal

namespace {
Address address_of(std::uint8_t group, std::uint16_t appid) {
  Address address;
  address.destination = {0x01,
                         0x0C,
                         0xCD,
                         group,
                         static_cast<std::uint8_t>(appid >> 8 & 0x01),
                         static_cast<std::uint8_t>(appid)};
  address.appid = appid;
  return address;
}
}  // namespace

Address sampled_values_address(std::uint16_t appid) { return address_of(0x04, appid); }
Address goose_address(std::uint16_t appid) { return address_of(0x01, appid); }

MacAddress random_source() {
  std::random_device random;
  MacAddress source;
  for (std::uint8_t& byte : source) byte = static_cast<std::uint8_t>(random());
  source[0] = static_cast<std::uint8_t>((source[0] & 0xFC) | 0x02);  // of one station, locally administered
  return source;
}

MacAddress own_source() {
  static const MacAddress source = random_source();
  return source;
}

std::string to_string(const MacAddress& address) { return fmt::format("{:02x}", fmt::join(address, "-")); }

MacAddress parse_mac_address(const std::string& text) {
  MacAddress address{};
  const std::size_t wanted = 3 * address.size() - 1;
  bool good = text.size() == wanted;
  for (std::size_t k = 0; good && k < address.size(); ++k) {
    const char* const digits = text.data() + 3 * k;
    const auto [end, error] = std::from_chars(digits, digits + 2, address[k], 16);
    const bool parted = k + 1 == address.size() || digits[2] == '-' || digits[2] == ':';
    good = error == std::errc{} && end == digits + 2 && parted;
  }
  if (!good) throw Error(fmt::format("\"{}\" is no hardware address; write it like 02-5a-00-00-00-01", text));
  return address;
}

std::optional<FrameKind> kind_of(Bytes frame) noexcept {
  internal::Reader in(frame);
  (void)in.take(12);
  auto type = static_cast<std::uint16_t>(in.number(2));
  if (type == ethertype_vlan) {
    (void)in.number(2);
    type = static_cast<std::uint16_t>(in.number(2));
  }
  const auto appid = static_cast<std::uint16_t>(in.number(2));
  if (!in.good()) return std::nullopt;
  return FrameKind{type, appid};
}

}  // namespace zavrek::wire
