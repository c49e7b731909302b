// How the files of a bench write a row of a field bus: "40: battery.p in 0.1 kW as int16 within 1 kW".
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace zavrek::bench::internal {

struct BusRow {
  std::string at;      ///< in front of the colon
  long address = 0;    ///< that as a number
  std::string name;    ///< of what is shown, or asked
  std::string in;      ///< what one count on the bus is: "0.1 kW", "kW", "0.01"; empty: the SI unit
  std::string as;      ///< type, as its protocol names it; empty for the usual one
  std::string within;  ///< by which it may move unsaid; empty: by nothing
  int event_class = 0;
  bool has_class = false;  ///< the text names one
  bool select = false;     ///< to be selected before it is operated
  std::string cause;       ///< of the text, for messages: itself
};

/// What stands in front of the colon of a row.
enum class BusAt : char { number, name };
/// Throws Error (text only) for what is no row.
[[nodiscard]] BusRow read_bus_row(const std::string& text, BusAt at = BusAt::number);
[[nodiscard]] std::vector<BusRow> read_bus_rows(const std::vector<std::string>& texts,
                                                BusAt at = BusAt::number);

/// What stands on the bus for `value` (SI), times this is the value: `in` of the row, which must be of the
/// dimension of `unit` where that is one. Throws Error.
[[nodiscard]] double per_count(const BusRow& row, const std::string& unit);

}  // namespace zavrek::bench::internal
