#include <algorithm>
#include <array>
#include <bit>
#include <cmath>

#include "wire/field/ethercat_parts.hpp"
#include "wire/field/little_endian.hpp"

namespace zavrek::wire {

const std::vector<std::string>& ethercat_type_names() {
  static const std::vector<std::string> names{"boolean", "int8",      "natural8", "int16",  "natural16",
                                              "int32",   "natural32", "float32",  "float64"};
  return names;
}

unsigned bits_of(EtherCatType type) noexcept {
  constexpr std::array<unsigned, 9> bits{1, 8, 8, 16, 16, 32, 32, 32, 64};
  return bits[static_cast<std::size_t>(type)];
}

std::string to_string(EtherCatState state) {
  switch (state) {
    case EtherCatState::init:
      return "initial";
    case EtherCatState::preoperational:
      return "preoperational";
    case EtherCatState::safe_operational:
      return "safe operational";
    case EtherCatState::operational:
      return "operational";
  }
  return "unknown";
}

namespace internal {

std::vector<EntryAt> image_layout(const std::vector<EtherCatEntry>& entries) {
  std::vector<EntryAt> places(entries.size());
  std::size_t bit = 0;
  for (const bool of_bits : {false, true}) {
    for (std::size_t k = 0; k < entries.size(); ++k) {
      if ((entries[k].type == EtherCatType::boolean) != of_bits) continue;
      places[k].bit = bit;
      bit += bits_of(entries[k].type);
    }
  }
  return places;
}

std::size_t image_bytes(const std::vector<EtherCatEntry>& entries) {
  std::size_t bits = 0;
  for (const EtherCatEntry& entry : entries) bits += bits_of(entry.type);
  return (bits + 7) / 8;
}

void put_entry(std::span<std::uint8_t> image, const EtherCatEntry& entry, EntryAt at, double value,
               Count& saturated) {
  std::uint8_t* octet = &image[at.bit / 8];
  const unsigned bits = bits_of(entry.type);
  if (entry.type == EtherCatType::boolean) {
    const auto mask = static_cast<std::uint8_t>(1U << (at.bit % 8));
    *octet = static_cast<std::uint8_t>(value > 0.5 ? *octet | mask : *octet & ~mask);
    return;
  }
  std::uint64_t raw = 0;
  if (entry.type == EtherCatType::float32) {
    raw = std::bit_cast<std::uint32_t>(static_cast<float>(value));
  } else if (entry.type == EtherCatType::float64) {
    raw = std::bit_cast<std::uint64_t>(value);
  } else {
    const bool is_signed = entry.type == EtherCatType::int8 || entry.type == EtherCatType::int16 ||
                           entry.type == EtherCatType::int32;
    const double high = std::ldexp(1, static_cast<int>(bits) - (is_signed ? 1 : 0)) - 1;
    const double low = is_signed ? -high - 1 : 0;
    const double rounded = std::nearbyint(value);
    const double kept = std::isnan(rounded) ? 0 : std::clamp(rounded, low, high);
    if (kept != rounded) ++saturated;
    raw = static_cast<std::uint64_t>(static_cast<std::int64_t>(kept));
  }
  for (unsigned k = 0; k < bits / 8; ++k) octet[k] = static_cast<std::uint8_t>(raw >> (8 * k));
}

double take_entry(Bytes image, const EtherCatEntry& entry, EntryAt at) {
  const std::uint8_t* octet = &image[at.bit / 8];
  const auto raw = [&](int bytes) { return low_first(octet, bytes); };
  switch (entry.type) {
    case EtherCatType::boolean:
      return *octet >> (at.bit % 8) & 1;
    case EtherCatType::int8:
      return static_cast<std::int8_t>(raw(1));
    case EtherCatType::natural8:
      return static_cast<double>(raw(1));
    case EtherCatType::int16:
      return static_cast<std::int16_t>(raw(2));
    case EtherCatType::natural16:
      return static_cast<double>(raw(2));
    case EtherCatType::int32:
      return static_cast<std::int32_t>(raw(4));
    case EtherCatType::natural32:
      return static_cast<double>(raw(4));
    case EtherCatType::float32:
      return static_cast<double>(float_low_first(octet));
    case EtherCatType::float64:
      break;
  }
  return std::bit_cast<double>(raw(8));
}

}  // namespace internal
}  // namespace zavrek::wire
