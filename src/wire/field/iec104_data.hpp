// The data of the application in IEC 60870-5-101/-104: types, causes, elements of information, times.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/wire/field/iec104.hpp"

namespace zavrek::wire::internal {

/// Type identifications (101, 7.2.1.1).
enum Iec104Type : std::uint8_t {
  m_sp_na = 1,
  m_dp_na = 3,
  m_me_na = 9,
  m_me_nb = 11,
  m_me_nc = 13,
  m_sp_tb = 30,
  m_dp_tb = 31,
  m_me_td = 34,
  m_me_te = 35,
  m_me_tf = 36,
  c_sc_na = 45,
  c_dc_na = 46,
  c_se_na = 48,
  c_se_nb = 49,
  c_se_nc = 50,
  c_sc_ta = 58,
  c_dc_ta = 59,
  c_se_ta = 61,
  c_se_tb = 62,
  c_se_tc = 63,
  m_ei_na = 70,
  c_ic_na = 100,
  c_rd_na = 102,
  c_cs_na = 103,
  c_ts_ta = 107
};
/// Causes of transmission (101, 7.2.3).
enum Iec104Cause : std::uint8_t {
  spontaneous = 3,
  initialised = 4,
  requested = 5,
  activation = 6,
  activation_confirmed = 7,
  deactivation = 8,
  deactivation_confirmed = 9,
  activation_ended = 10,
  interrogated = 20,
  unknown_type = 44,
  unknown_cause = 45,
  unknown_common_address = 46,
  unknown_object = 47
};
constexpr std::uint8_t cause_negative = 0x40, cause_mask = 0x3F;

/// Something that moved, until it is told.
struct Iec104Event {
  const Iec104Point* point;
  double value;
  std::int64_t utc_ns;
};

/// Six octets ahead of the objects.
struct AsduHead {
  std::uint8_t type = 0;
  int objects = 1;
  bool sequence = false;  ///< one address, and the objects follow on
  std::uint8_t cause = spontaneous;
  bool negative = false, test = false;
  std::uint8_t originator = 0;
  int common_address = 1;
};
inline constexpr std::size_t asdu_head_size = 6, asdu_address_size = 3, cp56_size = 7;
void put_head(std::vector<std::uint8_t>& out, const AsduHead& head);
/// Of at least `asdu_head_size` octets.
[[nodiscard]] AsduHead take_head(Bytes asdu);
[[nodiscard]] inline int take_address(Bytes from) {
  return static_cast<int>(from[0] | static_cast<unsigned>(from[1]) << 8U |
                          static_cast<unsigned>(from[2]) << 16U);
}

/// Binary time with days and years (CP56Time2a, 101 7.2.6.18), UTC.
void put_time(std::vector<std::uint8_t>& out, std::int64_t utc_ns);
/// Nothing where it is invalid.
[[nodiscard]] std::optional<std::int64_t> take_time(Bytes from);

/// Of a point: its type plain or with time, what it takes without the time, and its value.
[[nodiscard]] std::uint8_t point_type(Iec104Kind kind, bool with_time);
[[nodiscard]] std::size_t point_size(Iec104Kind kind);
void put_point(std::vector<std::uint8_t>& out, Iec104Kind kind, double value, Count& saturated);
[[nodiscard]] double take_point(Bytes from, Iec104Kind kind, bool& good);
/// The kind and whether a time stands behind; nothing for a type of another direction.
struct TypeOfPoint {
  Iec104Kind kind;
  bool timed;
};
[[nodiscard]] std::optional<TypeOfPoint> point_of_type(std::uint8_t type);
[[nodiscard]] std::optional<TypeOfPoint> command_of_type(std::uint8_t type);
[[nodiscard]] std::uint8_t command_type(Iec104Kind kind);
/// What a command takes without the time, its qualifier included.
[[nodiscard]] std::size_t command_size(Iec104Kind kind);
void put_command(std::vector<std::uint8_t>& out, Iec104Kind kind, double value, bool select,
                 Count& saturated);
/// `possible` false: two bits that say neither on nor off.
struct TakenCommand {
  double value = 0;
  bool select = false, possible = true;
};
[[nodiscard]] TakenCommand take_command(Bytes from, Iec104Kind kind);

}  // namespace zavrek::wire::internal
