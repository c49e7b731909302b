// Numbers with the low octet first, as telecontrol has them.
#pragma once

#include <bit>
#include <cstdint>
#include <vector>

#include "zavrek/wire/ethernet.hpp"

namespace zavrek::wire::internal {

inline void put_low_first(std::vector<std::uint8_t>& out, std::uint64_t value, int bytes) {
  for (int k = 0; k < bytes; ++k) out.push_back(static_cast<std::uint8_t>(value >> (8 * k)));
}
inline void put_low_first(std::vector<std::uint8_t>& out, float value) {
  put_low_first(out, std::bit_cast<std::uint32_t>(value), 4);
}
/// Of at least `bytes` octets.
[[nodiscard]] inline std::uint64_t low_first(const std::uint8_t* from, int bytes) {
  std::uint64_t value = 0;
  for (int k = bytes - 1; k >= 0; --k) value = value << 8U | from[k];
  return value;
}
[[nodiscard]] inline float float_low_first(const std::uint8_t* from) {
  return std::bit_cast<float>(static_cast<std::uint32_t>(low_first(from, 4)));
}

}  // namespace zavrek::wire::internal
