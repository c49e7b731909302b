#include "wire/field/dnp3_objects.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "wire/field/little_endian.hpp"

namespace zavrek::wire::internal {
namespace {

constexpr std::size_t time_size = 6;

/// Group, variation, octets (annex A); those with packed bits stand apart.
struct SizeRow {
  std::uint8_t group, variation;
  std::size_t size;
};
constexpr std::array sizes{SizeRow{1, 2, 1},   SizeRow{2, 1, 1},  SizeRow{2, 2, 7},  SizeRow{10, 2, 1},
                           SizeRow{12, 1, 11}, SizeRow{30, 1, 5}, SizeRow{30, 2, 3}, SizeRow{30, 3, 4},
                           SizeRow{30, 4, 2},  SizeRow{30, 5, 5}, SizeRow{32, 1, 5}, SizeRow{32, 2, 3},
                           SizeRow{32, 3, 11}, SizeRow{32, 4, 9}, SizeRow{32, 5, 5}, SizeRow{32, 7, 11},
                           SizeRow{40, 1, 5},  SizeRow{40, 2, 3}, SizeRow{40, 3, 5}, SizeRow{41, 1, 5},
                           SizeRow{41, 2, 3},  SizeRow{41, 3, 5}, SizeRow{50, 1, 6}, SizeRow{50, 3, 6},
                           SizeRow{51, 1, 6},  SizeRow{51, 2, 6}, SizeRow{52, 1, 2}, SizeRow{52, 2, 2}};

double cut_to(double value, double low, double high, bool& over) {
  const double rounded = std::nearbyint(value);
  if (rounded >= low && rounded <= high) return rounded;
  over = true;
  return rounded > 0 ? high : low;
}

}  // namespace

std::optional<Dnp3Header> take_dnp3_header(Bytes& rest) {
  if (rest.size() < 3) return std::nullopt;
  Dnp3Header header;
  header.group = rest[0];
  header.variation = rest[1];
  header.qualifier = rest[2];
  rest = rest.subspan(3);
  const auto number = [&](std::size_t size) -> std::optional<std::uint32_t> {
    if (rest.size() < size) return std::nullopt;
    const auto value = static_cast<std::uint32_t>(low_first(rest.data(), static_cast<int>(size)));
    rest = rest.subspan(size);
    return value;
  };
  switch (header.qualifier) {
    case 0x06:
      header.all = true;
      return header;
    case 0x00:
    case 0x01: {
      const std::size_t size = header.qualifier == 0 ? 1 : 2;
      const auto first = number(size), last = number(size);
      if (!first || !last || *last < *first) return std::nullopt;
      header.first = *first;
      header.count = *last - *first + 1;
      return header;
    }
    case 0x07:
    case 0x08:
    case 0x17:
    case 0x28: {
      const std::size_t size = header.qualifier == 0x07 || header.qualifier == 0x17 ? 1 : 2;
      const auto count = number(size);
      if (!count) return std::nullopt;
      header.count = *count;
      header.indexed = header.qualifier >= 0x17;
      header.index_size = header.indexed ? size : 0;
      return header;
    }
    default:
      return std::nullopt;
  }
}

std::optional<std::size_t> dnp3_size(std::uint8_t group, std::uint8_t variation) {
  for (const SizeRow& row : sizes) {
    if (row.group == group && row.variation == variation) return row.size;
  }
  return std::nullopt;
}

std::uint8_t dnp3_static_variation(Dnp3Analogue type) {
  constexpr std::array<std::uint8_t, 3> variations{1, 2, 5};
  return variations[static_cast<std::size_t>(type)];
}
std::uint8_t dnp3_event_variation(Dnp3Analogue type) {
  constexpr std::array<std::uint8_t, 3> variations{3, 4, 7};
  return variations[static_cast<std::size_t>(type)];
}
std::uint8_t dnp3_output_variation(Dnp3Analogue type) {
  constexpr std::array<std::uint8_t, 3> variations{1, 2, 3};
  return variations[static_cast<std::size_t>(type)];
}
std::uint8_t dnp3_output_status_variation(Dnp3Analogue type) { return dnp3_output_variation(type); }

std::size_t dnp3_number_size(Dnp3Analogue type) { return type == Dnp3Analogue::int16 ? 2 : 4; }

void put_dnp3_number(std::vector<std::uint8_t>& out, Dnp3Analogue type, double value, bool& over) {
  if (type == Dnp3Analogue::float32) return put_low_first(out, static_cast<float>(value));
  if (type == Dnp3Analogue::int16)
    return put_low_first(
        out, static_cast<std::uint16_t>(static_cast<std::int16_t>(cut_to(value, -32768, 32767, over))), 2);
  put_low_first(
      out,
      static_cast<std::uint32_t>(static_cast<std::int32_t>(cut_to(value, -2147483648.0, 2147483647.0, over))),
      4);
}

double take_dnp3_number(Bytes from, Dnp3Analogue type) {
  if (type == Dnp3Analogue::float32) return static_cast<double>(float_low_first(from.data()));
  if (type == Dnp3Analogue::int16) return static_cast<std::int16_t>(low_first(from.data(), 2));
  return static_cast<std::int32_t>(low_first(from.data(), 4));
}

void put_dnp3_time(std::vector<std::uint8_t>& out, std::int64_t utc_ns) {
  put_low_first(out, static_cast<std::uint64_t>(utc_ns / 1'000'000), time_size);
}
std::int64_t take_dnp3_time(Bytes from) {
  constexpr std::uint64_t most_ms = 9'000'000'000'000;  // the year 2255
  return static_cast<std::int64_t>(std::min(low_first(from.data(), time_size), most_ms)) * 1'000'000;
}

}  // namespace zavrek::wire::internal
