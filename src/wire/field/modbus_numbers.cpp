// How numbers stand in registers, and whether a map of them holds together.
#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>

#include <fmt/format.h>

#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/modbus.hpp"

namespace zavrek::wire {
namespace {

constexpr int highest_address = 65'535;

template <class Number>
std::uint64_t to_bits(double value, Count& saturated) {
  constexpr double low = static_cast<double>(std::numeric_limits<Number>::min());
  constexpr double high = static_cast<double>(std::numeric_limits<Number>::max());
  const double rounded = std::nearbyint(value);
  Number number = 0;
  if (rounded >= low && rounded < high) {
    number = static_cast<Number>(rounded);
  } else if (rounded != high) {
    ++saturated;
    number = rounded > 0 ? std::numeric_limits<Number>::max() : std::numeric_limits<Number>::min();
  } else {
    number = std::numeric_limits<Number>::max();
  }
  return static_cast<std::uint64_t>(number);
}

std::uint64_t bits_of(double value, RegisterType type, Count& saturated) {
  switch (type) {
    case RegisterType::int16:
      return to_bits<std::int16_t>(value, saturated);
    case RegisterType::natural16:
      return to_bits<std::uint16_t>(value, saturated);
    case RegisterType::int32:
      return to_bits<std::int32_t>(value, saturated);
    case RegisterType::natural32:
      return to_bits<std::uint32_t>(value, saturated);
    case RegisterType::int64:
      return to_bits<std::int64_t>(value, saturated);
    case RegisterType::natural64:
      return to_bits<std::uint64_t>(value, saturated);
    case RegisterType::float32:
      return std::bit_cast<std::uint32_t>(static_cast<float>(value));
    case RegisterType::float64:
      break;
  }
  return std::bit_cast<std::uint64_t>(value);
}

double number_of(std::uint64_t bits, RegisterType type) {
  switch (type) {
    case RegisterType::int16:
      return static_cast<double>(static_cast<std::int16_t>(bits));
    case RegisterType::int32:
      return static_cast<double>(static_cast<std::int32_t>(bits));
    case RegisterType::int64:
      return static_cast<double>(static_cast<std::int64_t>(bits));
    case RegisterType::float32:
      return static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(bits)));
    case RegisterType::float64:
      return std::bit_cast<double>(bits);
    default:
      return static_cast<double>(bits);
  }
}

std::uint16_t swapped(std::uint16_t word, bool swap) {
  return swap ? static_cast<std::uint16_t>(word << 8U | word >> 8U) : word;
}

}  // namespace

const std::vector<std::string>& register_type_names() {
  static const std::vector<std::string> names{"int16",   "natural16", "int32",     "natural32",
                                              "float32", "int64",     "natural64", "float64"};
  return names;
}

RegisterType register_type_of(const std::string& name) {
  const std::vector<std::string>& names = register_type_names();
  const auto at = std::find(names.begin(), names.end(), name.empty() ? names.front() : name);
  if (at == names.end())
    throw Error(
        fmt::format("no type \"{}\"{}; one of int16, natural16, int32, natural32, float32, int64, "
                    "natural64, float64",
                    name, suggestion(name, names)));
  return static_cast<RegisterType>(at - names.begin());
}

std::size_t registers_of(RegisterType type) noexcept {
  constexpr std::array<std::size_t, 8> sizes{1, 1, 2, 2, 2, 4, 4, 4};
  return sizes[static_cast<std::size_t>(type)];
}

void put_number(double value, RegisterType type, RegisterOrder order, std::uint16_t* into, Count& saturated) {
  const std::uint64_t bits = bits_of(value, type, saturated);
  const std::size_t words = registers_of(type);
  for (std::size_t k = 0; k < words; ++k) {
    const std::size_t from_low = order.low_word_first ? k : words - 1 - k;
    into[k] = swapped(static_cast<std::uint16_t>(bits >> (16 * from_low)), order.low_byte_first);
  }
}

double take_number(const std::uint16_t* from, RegisterType type, RegisterOrder order) {
  const std::size_t words = registers_of(type);
  std::uint64_t bits = 0;
  for (std::size_t k = 0; k < words; ++k) {
    const std::size_t from_low = order.low_word_first ? k : words - 1 - k;
    bits |= static_cast<std::uint64_t>(swapped(from[k], order.low_byte_first)) << (16 * from_low);
  }
  return number_of(bits, type);
}

std::string flaw_of(const ModbusMap& map) {
  std::vector<const ModbusPoint*> sorted;
  for (const ModbusPoint& point : map.points) {
    if (point.address < 0 || point.address + static_cast<int>(point.size()) - 1 > highest_address)
      return fmt::format("address {} is beyond 0 ... 65,535", point.address);
    sorted.push_back(&point);
  }
  std::sort(sorted.begin(), sorted.end(), [](const ModbusPoint* a, const ModbusPoint* b) {
    return a->table != b->table ? a->table < b->table : a->address < b->address;
  });
  for (std::size_t k = 1; k < sorted.size(); ++k) {
    const ModbusPoint &before = *sorted[k - 1], &next = *sorted[k];
    if (before.table == next.table && before.address + static_cast<int>(before.size()) > next.address)
      return fmt::format("what stands at {} reaches into {}: it takes {} registers", before.address,
                         next.address, before.size());
  }
  return {};
}

}  // namespace zavrek::wire
