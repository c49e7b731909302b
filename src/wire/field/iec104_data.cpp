#include "wire/field/iec104_data.hpp"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>

#include "wire/field/little_endian.hpp"

namespace zavrek::wire::internal {
namespace {

constexpr double normalised_one = 32768;

double in_16_bits(double value, Count& saturated) {
  const double rounded = std::nearbyint(value);
  if (rounded >= -32768 && rounded <= 32767) return rounded;
  ++saturated;
  return rounded > 0 ? 32767 : -32768;
}

std::uint64_t sixteen(double value, Count& saturated) {
  return static_cast<std::uint16_t>(static_cast<std::int16_t>(in_16_bits(value, saturated)));
}

/// One row for each kind: its types as a point, plain and timed, and as a command, plain and timed.
struct TypeRow {
  Iec104Kind kind;
  std::uint8_t plain, timed, command, timed_command;
};
constexpr std::array<TypeRow, 5> type_rows{{{Iec104Kind::single_point, m_sp_na, m_sp_tb, c_sc_na, c_sc_ta},
                                            {Iec104Kind::double_point, m_dp_na, m_dp_tb, c_dc_na, c_dc_ta},
                                            {Iec104Kind::normalised, m_me_na, m_me_td, c_se_na, c_se_ta},
                                            {Iec104Kind::scaled, m_me_nb, m_me_te, c_se_nb, c_se_tb},
                                            {Iec104Kind::real, m_me_nc, m_me_tf, c_se_nc, c_se_tc}}};
const TypeRow& row_of(Iec104Kind kind) { return type_rows[static_cast<std::size_t>(kind)]; }

void put_number(std::vector<std::uint8_t>& out, Iec104Kind kind, double value, Count& saturated) {
  if (kind == Iec104Kind::real)
    put_low_first(out, static_cast<float>(value));
  else
    put_low_first(out, sixteen(kind == Iec104Kind::normalised ? normalised_one * value : value, saturated),
                  2);
}

double take_number_104(Bytes from, Iec104Kind kind) {
  if (kind == Iec104Kind::real) return static_cast<double>(float_low_first(from.data()));
  const auto whole = static_cast<std::int16_t>(low_first(from.data(), 2));
  return kind == Iec104Kind::normalised ? whole / normalised_one : whole;
}

bool is_state(Iec104Kind kind) {
  return kind == Iec104Kind::single_point || kind == Iec104Kind::double_point;
}

}  // namespace

void put_head(std::vector<std::uint8_t>& out, const AsduHead& head) {
  out.push_back(head.type);
  out.push_back(static_cast<std::uint8_t>((head.objects & 0x7F) | (head.sequence ? 0x80 : 0)));
  out.push_back(
      static_cast<std::uint8_t>(head.cause | (head.negative ? cause_negative : 0) | (head.test ? 0x80 : 0)));
  out.push_back(head.originator);
  put_low_first(out, static_cast<std::uint64_t>(head.common_address), 2);
}

AsduHead take_head(Bytes asdu) {
  AsduHead head;
  head.type = asdu[0];
  head.objects = asdu[1] & 0x7F;
  head.sequence = (asdu[1] & 0x80) != 0;
  head.cause = asdu[2] & cause_mask;
  head.negative = (asdu[2] & cause_negative) != 0;
  head.test = (asdu[2] & 0x80) != 0;
  head.originator = asdu[3];
  head.common_address = static_cast<int>(low_first(&asdu[4], 2));
  return head;
}

void put_time(std::vector<std::uint8_t>& out, std::int64_t utc_ns) {
  using namespace std::chrono;
  const sys_time<milliseconds> at{floor<milliseconds>(nanoseconds(utc_ns))};
  const auto day = floor<days>(at);
  const year_month_day date{day};
  const hh_mm_ss time{at - day};
  put_low_first(out, static_cast<std::uint64_t>(time.seconds().count() * 1000 + time.subseconds().count()),
                2);
  out.push_back(static_cast<std::uint8_t>(time.minutes().count()));
  out.push_back(static_cast<std::uint8_t>(time.hours().count()));
  out.push_back(static_cast<std::uint8_t>(unsigned(date.day()) | weekday(day).iso_encoding() << 5U));
  out.push_back(static_cast<std::uint8_t>(unsigned(date.month())));
  out.push_back(static_cast<std::uint8_t>(int(date.year()) % 100));
}

std::optional<std::int64_t> take_time(Bytes from) {
  using namespace std::chrono;
  if ((from[2] & 0x80) != 0) return std::nullopt;
  const auto ms = static_cast<int>(low_first(from.data(), 2));
  const year_month_day date{year(2000 + (from[6] & 0x7F)), month(from[5] & 0x0FU), day(from[4] & 0x1FU)};
  const int minute = from[2] & 0x3F, hour = from[3] & 0x1F;
  if (!date.ok() || ms > 59'999 || minute > 59 || hour > 23) return std::nullopt;
  const auto at = sys_days(date) + hours(hour) + minutes(minute) + milliseconds(ms);
  return nanoseconds(at.time_since_epoch()).count();
}

std::uint8_t point_type(Iec104Kind kind, bool with_time) {
  return with_time ? row_of(kind).timed : row_of(kind).plain;
}

/// A quality of one octet stands behind numbers, and within states.
std::size_t point_size(Iec104Kind kind) { return is_state(kind) ? 1 : kind == Iec104Kind::real ? 5 : 3; }

void put_point(std::vector<std::uint8_t>& out, Iec104Kind kind, double value, Count& saturated) {
  const bool on = value > 0.5;
  if (kind == Iec104Kind::single_point) return out.push_back(on ? 1 : 0);
  if (kind == Iec104Kind::double_point) return out.push_back(on ? 2 : 1);
  const long long before = saturated;
  put_number(out, kind, value, saturated);
  out.push_back(saturated != before ? 1 : 0);  // overflow
}

double take_point(Bytes from, Iec104Kind kind, bool& good) {
  const std::uint8_t quality = from[point_size(kind) - 1];
  good = (quality & 0xC0) == 0;  // neither invalid nor not topical
  if (kind == Iec104Kind::single_point) return from[0] & 1;
  if (kind == Iec104Kind::double_point) {
    const int state = from[0] & 3;
    good = good && (state == 1 || state == 2);
    return state == 2 ? 1 : 0;
  }
  return take_number_104(from, kind);
}

std::optional<TypeOfPoint> point_of_type(std::uint8_t type) {
  for (const TypeRow& row : type_rows) {
    if (row.plain == type || row.timed == type) return TypeOfPoint{row.kind, row.timed == type};
  }
  return std::nullopt;
}

std::optional<TypeOfPoint> command_of_type(std::uint8_t type) {
  for (const TypeRow& row : type_rows) {
    if (row.command == type || row.timed_command == type)
      return TypeOfPoint{row.kind, row.timed_command == type};
  }
  return std::nullopt;
}

std::uint8_t command_type(Iec104Kind kind) { return row_of(kind).command; }

std::size_t command_size(Iec104Kind kind) { return point_size(kind); }

void put_command(std::vector<std::uint8_t>& out, Iec104Kind kind, double value, bool select,
                 Count& saturated) {
  const std::uint8_t selects = select ? 0x80 : 0;
  const bool on = value > 0.5;
  if (kind == Iec104Kind::single_point)
    return out.push_back(static_cast<std::uint8_t>((on ? 1 : 0) | selects));
  if (kind == Iec104Kind::double_point)
    return out.push_back(static_cast<std::uint8_t>((on ? 2 : 1) | selects));
  put_number(out, kind, value, saturated);
  out.push_back(selects);
}

TakenCommand take_command(Bytes from, Iec104Kind kind) {
  TakenCommand taken;
  taken.select = (from[command_size(kind) - 1] & 0x80) != 0;
  if (kind == Iec104Kind::single_point) {
    taken.value = from[0] & 1;
  } else if (kind == Iec104Kind::double_point) {
    const int state = from[0] & 3;
    taken.possible = state == 1 || state == 2;
    taken.value = state == 2 ? 1 : 0;
  } else {
    taken.value = take_number_104(from, kind);
  }
  return taken;
}

}  // namespace zavrek::wire::internal
