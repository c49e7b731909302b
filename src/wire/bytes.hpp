// Bounded writing and reading of big-endian numbers and of ASN.1 BER tags and lengths (ITU-T X.690).
#pragma once

#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <string_view>

#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire::internal {

/// Writes into a span; remembers when something did not fit.
class Writer {
 public:
  explicit Writer(std::span<std::uint8_t> out) : out_(out) {}

  void byte(std::uint8_t value) noexcept {
    if (at_ < out_.size()) out_[at_] = value;
    ++at_;
  }
  void number(std::uint64_t value, int bytes) noexcept {
    for (int k = bytes - 1; k >= 0; --k) byte(static_cast<std::uint8_t>(value >> (8 * k)));
  }
  void text(std::string_view value) noexcept {
    for (const char c : value) byte(static_cast<std::uint8_t>(c));
  }
  void header(std::uint8_t tag, std::size_t length) noexcept {
    byte(tag);
    if (length >= 128) byte(length >= 256 ? 0x82 : 0x81);
    if (length >= 256) byte(static_cast<std::uint8_t>(length >> 8));
    byte(static_cast<std::uint8_t>(length));
  }
  void field(std::uint8_t tag, std::string_view value) noexcept {
    header(tag, value.size());
    text(value);
  }
  void field(std::uint8_t tag, std::uint64_t value, int bytes) noexcept {
    header(tag, static_cast<std::size_t>(bytes));
    number(value, bytes);
  }
  /// An INTEGER that is never negative: as few bytes as keep the sign bit clear.
  void unsigned_field(std::uint8_t tag, std::uint64_t value) noexcept {
    field(tag, value, unsigned_size(value));
  }

  /// An INTEGER of either sign: as few bytes as keep it (ITU-T X.690, 8.3).
  void signed_field(std::uint8_t tag, std::int64_t value) noexcept {
    field(tag, static_cast<std::uint64_t>(value), signed_size(value));
  }

  [[nodiscard]] std::size_t size() const noexcept { return at_ <= out_.size() ? at_ : 0; }

  [[nodiscard]] static int unsigned_size(std::uint64_t value) noexcept {
    int bytes = 1;
    while (bytes < 8 && (value >> (8 * bytes - 1)) != 0) ++bytes;
    return bytes;
  }
  [[nodiscard]] static int signed_size(std::int64_t value) noexcept {
    int bytes = 1;
    while (bytes < 8 && value >> (8 * bytes - 1) != 0 && value >> (8 * bytes - 1) != -1) ++bytes;
    return bytes;
  }
  [[nodiscard]] static std::size_t header_size(std::size_t length) noexcept {
    return length < 128 ? 2 : length < 256 ? 3 : 4;
  }
  [[nodiscard]] static std::size_t field_size(std::size_t length) noexcept {
    return header_size(length) + length;
  }

 private:
  std::span<std::uint8_t> out_;
  std::size_t at_ = 0;
};

/// Reads from a span; every accessor fails (and stays failed) rather than pass the end.
class Reader {
 public:
  explicit Reader(Bytes in) : in_(in) {}

  [[nodiscard]] bool good() const noexcept { return good_; }
  [[nodiscard]] bool done() const noexcept { return at_ >= in_.size(); }

  std::uint64_t number(std::size_t bytes) noexcept {
    const Bytes raw = take(bytes);
    if (bytes > 8) good_ = false;
    std::uint64_t value = 0;
    for (const std::uint8_t byte : raw) value = value << 8 | byte;
    return value;
  }
  Bytes take(std::size_t bytes) noexcept {
    if (!good_ || in_.size() - at_ < bytes) {
      good_ = false;
      return {};
    }
    const Bytes part = in_.subspan(at_, bytes);
    at_ += bytes;
    return part;
  }
  struct Element {
    std::uint8_t tag = 0;
    Bytes content;
  };
  Element element() noexcept {
    Element element;
    element.tag = static_cast<std::uint8_t>(number(1));
    std::size_t length = static_cast<std::size_t>(number(1));
    if (length == 0x81) {
      length = static_cast<std::size_t>(number(1));
    } else if (length == 0x82) {
      length = static_cast<std::size_t>(number(2));
    } else if (length >= 0x80) {
      good_ = false;
    }
    element.content = take(length);
    return element;
  }

 private:
  Bytes in_;
  std::size_t at_ = 0;
  bool good_ = true;
};

[[nodiscard]] inline std::uint64_t unsigned_of(Bytes content, bool& good) noexcept {
  // A leading zero byte keeps the sign clear, so an unsigned 32-bit number may take five bytes.
  if (content.empty() || content.size() > 5) good = false;
  std::uint64_t value = 0;
  for (const std::uint8_t byte : content) value = value << 8 | byte;
  return value;
}

/// Eight bytes: seconds since 1970, a fraction in 2^-24 s, and the quality of the clock.
[[nodiscard]] std::uint64_t bytes_of(const Stamp& stamp) noexcept;
[[nodiscard]] Stamp stamp_of(std::uint64_t bytes) noexcept;

/// Longest text that a frame may hold (VisibleString129 of IEC 61850-7-2).
inline constexpr std::size_t longest_text = 129;
[[nodiscard]] inline bool read_text(Bytes content, std::string& into) {
  if (content.size() > longest_text) return false;
  into.assign(reinterpret_cast<const char*>(content.data()), content.size());
  return true;
}

/// Ethernet header with or without VLAN tag, then APPID, length and the two reserved words; `apdu` bytes
/// follow.
void write_header(Writer& out, const Address& address, std::uint16_t ethertype, std::size_t apdu) noexcept;
/// The APDU of a frame of `ethertype`; empty when it is none or its length field is wrong.
[[nodiscard]] Bytes read_header(Bytes frame, std::uint16_t ethertype, Address& address) noexcept;

}  // namespace zavrek::wire::internal
