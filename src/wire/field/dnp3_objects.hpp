// Objects of DNP3's application layer (IEEE 1815, annex A): headers with their qualifiers, values, times.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "zavrek/wire/field/dnp3.hpp"

namespace zavrek::wire::internal {

enum Dnp3Function : std::uint8_t {
  dnp3_confirm = 0,
  dnp3_read = 1,
  dnp3_write = 2,
  dnp3_select = 3,
  dnp3_operate = 4,
  dnp3_direct = 5,
  dnp3_direct_unanswered = 6,
  dnp3_enable = 20,
  dnp3_disable = 21,
  dnp3_delay = 23,
  dnp3_record_time = 24,
  dnp3_response = 129,
  dnp3_unsolicited = 130
};
/// Of the application's control octet.
constexpr std::uint8_t dnp3_first = 0x80, dnp3_final = 0x40, dnp3_confirms = 0x20, dnp3_unasked = 0x10;

/// Internal indications, first octet low.
enum Dnp3Indication : unsigned {
  iin_broadcast = 1U << 0U,
  iin_class1 = 1U << 1U,
  iin_need_time = 1U << 4U,
  iin_restart = 1U << 7U,
  iin_no_function = 1U << 8U,
  iin_unknown_object = 1U << 9U,
  iin_parameter = 1U << 10U,
  iin_overflow = 1U << 11U
};

enum Dnp3Status : std::uint8_t {
  control_done = 0,
  control_timeout = 1,
  control_not_selected = 2,
  control_format = 3,
  control_not_supported = 4,
  control_inhibited = 10,
  control_limited = 11,
  control_out_of_range = 12
};

constexpr std::uint8_t flag_online = 0x01, flag_restart = 0x02, flag_over_range = 0x20, flag_state = 0x80;

/// A header of objects: group, variation, and which of them.
struct Dnp3Header {
  std::uint8_t group = 0, variation = 0, qualifier = 0;
  bool all = false;      ///< qualifier 6
  bool indexed = false;  ///< each has its index in front
  std::uint32_t first = 0, count = 0;
  std::size_t index_size = 0;
};
/// Takes a header off `rest`; nothing where there is none that is known.
[[nodiscard]] std::optional<Dnp3Header> take_dnp3_header(Bytes& rest);
/// Octets of an object of that group and variation without an index; nothing for one that is not known here.
[[nodiscard]] std::optional<std::size_t> dnp3_size(std::uint8_t group, std::uint8_t variation);

/// Variations of static analogue inputs with a flag, of their events with time, and of analogue outputs.
[[nodiscard]] std::uint8_t dnp3_static_variation(Dnp3Analogue type);
[[nodiscard]] std::uint8_t dnp3_event_variation(Dnp3Analogue type);
[[nodiscard]] std::uint8_t dnp3_output_variation(Dnp3Analogue type);
[[nodiscard]] std::uint8_t dnp3_output_status_variation(Dnp3Analogue type);
/// Without a flag; `over` where it had to be cut off.
void put_dnp3_number(std::vector<std::uint8_t>& out, Dnp3Analogue type, double value, bool& over);
[[nodiscard]] double take_dnp3_number(Bytes from, Dnp3Analogue type);
[[nodiscard]] std::size_t dnp3_number_size(Dnp3Analogue type);

/// Milliseconds since 1970 in six octets.
void put_dnp3_time(std::vector<std::uint8_t>& out, std::int64_t utc_ns);
[[nodiscard]] std::int64_t take_dnp3_time(Bytes from);

}  // namespace zavrek::wire::internal
