#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>

namespace zavrek::wire {

using Bytes = std::span<const std::uint8_t>;
using MacAddress = std::array<std::uint8_t, 6>;

inline constexpr std::uint16_t ethertype_goose = 0x88B8;
inline constexpr std::uint16_t ethertype_sampled_values = 0x88BA;
/// Longest frame that this room makes or reads (without the frame check sequence). A buffer to receive into
/// is a byte longer, so that a longer frame shows, and is malformed.
inline constexpr std::size_t longest_frame = 1518;
using FrameBuffer = std::array<std::uint8_t, longest_frame + 1>;

/// IEEE 802.1Q tag.
struct Vlan {
  int priority = 4;    ///< 0 to 7
  int identifier = 0;  ///< 0 to 4095
  bool operator==(const Vlan&) const = default;
};

/// Ethernet addressing of IEC 61850-8-1 annex C and 61850-9-2 annex C.
struct Address {
  MacAddress destination{};
  MacAddress source{0x02, 0x00, 0x00, 0x00, 0x00, 0x01};
  std::uint16_t appid = 0;
  std::optional<Vlan> vlan = Vlan{};  ///< no tag when empty
  bool simulated = false;             ///< bit S of the first reserved word: from a test set
};
/// 01-0C-CD-04-xx-xx and 01-0C-CD-01-xx-xx, the last two bytes from the application identifier.
[[nodiscard]] Address sampled_values_address(std::uint16_t appid);
[[nodiscard]] Address goose_address(std::uint16_t appid);
/// The source address of all that this process sends: locally administered (IEEE 802, 8.2), drawn at random
/// when it is first asked for, so that its frames can be told from those of any other.
[[nodiscard]] MacAddress own_source();
[[nodiscard]] MacAddress random_source();
/// "02-5a-00-00-00-01", as IEEE 802 writes it.
[[nodiscard]] std::string to_string(const MacAddress& address);
/// Throws Error when `text` is none.
[[nodiscard]] MacAddress parse_mac_address(const std::string& text);

/// Ethertype behind an optional VLAN tag, and application identifier; empty when the frame is too short.
struct FrameKind {
  std::uint16_t ethertype;
  std::uint16_t appid;
};
[[nodiscard]] std::optional<FrameKind> kind_of(Bytes frame) noexcept;

/// The quality of a value (IEC 61850-7-3, table 2), bit k of the standard as bit k of the number, as sampled
/// values carry it.
struct Quality {
  static constexpr std::uint32_t invalid = 1, questionable = 3;  ///< validity; 0 is good
  static constexpr std::uint32_t test = 1U << 11U, operator_blocked = 1U << 12U, derived = 1U << 13U;
  /// Bits of the quality of a GOOSE entry; `derived` stands in sampled values alone (IEC 61869-9, 6.903.9).
  static constexpr int bits_of_entry = 13;
};
/// Of validity, whether a protection may use it.
[[nodiscard]] inline bool is_usable(std::uint32_t quality) noexcept { return (quality & 3U) == 0; }

/// A time as frames carry it (IEC 61850-8-1, 8.1.3.6): seconds since 1970, a fraction in 2^-24 s, and what is
/// known of the clock.
struct Stamp {
  static constexpr std::uint8_t leap_seconds_known = 0x80, clock_failed = 0x40, not_synchronised = 0x20;
  static constexpr std::uint8_t accuracy_unsaid = 0x1F;
  std::uint64_t utc_ns = 0;
  std::uint8_t quality = 10;  ///< of the clock; below its three flags the bits of its accuracy, 0 to 24
  bool operator==(const Stamp&) const = default;
};

}  // namespace zavrek::wire
