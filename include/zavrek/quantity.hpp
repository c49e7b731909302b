#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/error.hpp"

namespace zavrek {

/// Exponents of metre, kilogram, second, ampere, kelvin and radian. The radian counts as a base
/// unit, so that "50 Hz" is never taken for an angular frequency.
struct Dimension {
  std::array<std::int8_t, 6> exponents{};
  friend bool operator==(const Dimension&, const Dimension&) = default;
};

/// A unit as a factor to SI and a dimension.
struct Unit {
  double scale = 1;
  Dimension dimension;
};

/// A number in SI units (radians for angles, 1 for pure numbers) with its dimension.
struct Quantity {
  double value = 0;
  Dimension dimension;
};

/// Reads a unit such as "ohm/km", "kN m", "uF", "m^2", "%". Factors stand side by side or with `*`;
/// everything behind the one `/` is below the line. The micro and ohm signs, "kNm", "kWh", "Ah" and "hz" are
/// taken too. Throws Error on an unknown unit.
[[nodiscard]] Unit parse_unit(std::string_view text);

/// What was asked for, to be told where something else was written.
struct Wanted {
  Dimension dimension;
  std::string example;  ///< "50 us"
};
/// The same; where a unit is unknown, one of the dimension that is wanted is suggested.
[[nodiscard]] Unit parse_unit(std::string_view text, const Wanted& wanted);

/// Reads "50 us", "0.32 ohm/km", "60 %", "3". Throws Error naming the text and what is wrong with it.
[[nodiscard]] Quantity parse_quantity(std::string_view text);

/// Reads a quantity that must have the dimension of `unit`; returns the value in SI units.
/// Throws Error when the unit is missing or of another dimension.
[[nodiscard]] double parse_quantity_as(std::string_view text, std::string_view unit);

/// The same, or a plain number, which then is in SI units: for values whose unit nobody wrote.
[[nodiscard]] double parse_quantity_or_plain(std::string_view text, std::string_view unit);

/// `value` in `unit` with the shortest digits that read back to the same number: "2.4 km".
[[nodiscard]] std::string print_quantity(double value, std::string_view unit);

/// `value` for a person: `digits` significant digits and the metric prefix that fits: "3.21 kA".
[[nodiscard]] std::string print_rounded(double value, std::string_view base_unit, int digits = 4);

/// "a voltage", "a length"; the product of base units where the dimension has no everyday name.
[[nodiscard]] std::string name_of(const Dimension& dimension);

/// The candidate closest in spelling to `name`, or empty when none is close.
[[nodiscard]] std::string nearest_name(std::string_view name, const std::vector<std::string>& candidates);

/// ", did you mean \"...\"?" or, when nothing is close, "; known: a, b, c" (at most `most` of them).
[[nodiscard]] std::string suggestion(std::string_view name, const std::vector<std::string>& candidates,
                                     std::size_t most = 12);

}  // namespace zavrek
