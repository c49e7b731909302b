// Units: a table of symbols, metric prefixes, and the grammar FACTOR... [/ FACTOR...].
#include <algorithm>
#include <cctype>
#include <cmath>
#include <numbers>
#include <optional>
#include <string>

#include "zavrek/quantity.hpp"

namespace zavrek {
namespace {

constexpr double pi = std::numbers::pi;

struct Symbol {
  std::string_view name;
  double scale;
  Dimension dimension;
  bool takes_prefix;
};

//                        m  kg   s   A  K rad
constexpr Dimension none{{0, 0, 0, 0, 0, 0}};
constexpr Dimension length{{1, 0, 0, 0, 0, 0}};
constexpr Dimension mass{{0, 1, 0, 0, 0, 0}};
constexpr Dimension duration{{0, 0, 1, 0, 0, 0}};
constexpr Dimension current{{0, 0, 0, 1, 0, 0}};
constexpr Dimension temperature{{0, 0, 0, 0, 1, 0}};
constexpr Dimension angle{{0, 0, 0, 0, 0, 1}};
constexpr Dimension frequency{{0, 0, -1, 0, 0, 0}};
constexpr Dimension speed_of_rotation{{0, 0, -1, 0, 0, 1}};
constexpr Dimension force{{1, 1, -2, 0, 0, 0}};
constexpr Dimension energy{{2, 1, -2, 0, 0, 0}};
constexpr Dimension power{{2, 1, -3, 0, 0, 0}};
constexpr Dimension voltage{{2, 1, -3, -1, 0, 0}};
constexpr Dimension resistance{{2, 1, -3, -2, 0, 0}};
constexpr Dimension conductance{{-2, -1, 3, 2, 0, 0}};
constexpr Dimension capacitance{{-2, -1, 4, 2, 0, 0}};
constexpr Dimension inductance{{2, 1, -2, -2, 0, 0}};
constexpr Dimension charge{{0, 0, 1, 1, 0, 0}};
constexpr Dimension flux{{2, 1, -2, -1, 0, 0}};
constexpr Dimension inertia{{2, 1, 0, 0, 0, 0}};

constexpr Symbol symbols[] = {
    {"V", 1, voltage, true},
    {"A", 1, current, true},
    {"W", 1, power, true},
    {"VA", 1, power, true},
    {"var", 1, power, true},
    {"ohm", 1, resistance, true},
    {"S", 1, conductance, true},
    {"F", 1, capacitance, true},
    {"H", 1, inductance, true},
    {"C", 1, charge, true},
    {"Ah", 3600, charge, true},
    {"Wh", 3600, energy, true},
    {"VAr", 1, power, true},
    {"Nm", 1, energy, true},
    {"Wb", 1, flux, true},
    {"s", 1, duration, true},
    {"min", 60, duration, false},
    {"h", 3600, duration, false},
    {"Hz", 1, frequency, true},
    {"m", 1, length, true},
    {"ft", 0.3048, length, false},
    {"in", 0.0254, length, false},
    {"mile", 1609.344, length, false},
    {"g", 1e-3, mass, true},
    {"t", 1e3, mass, false},
    {"N", 1, force, true},
    {"J", 1, energy, true},
    {"K", 1, temperature, true},
    {"rad", 1, angle, true},
    {"deg", pi / 180, angle, false},
    {"rpm", pi / 30, speed_of_rotation, false},
    {"%", 0.01, none, false},
    {"pu", 1, none, false},
    {"1", 1, none, false},
};

struct Named {
  Dimension dimension;
  std::string_view name;
};
constexpr Named names[] = {
    {none, "a pure number"},
    {length, "a length"},
    {mass, "a mass"},
    {duration, "a time"},
    {current, "a current"},
    {temperature, "a temperature"},
    {angle, "an angle"},
    {frequency, "a frequency"},
    {speed_of_rotation, "a speed of rotation"},
    {force, "a force"},
    {energy, "an energy"},
    {power, "a power"},
    {voltage, "a voltage"},
    {resistance, "a resistance"},
    {conductance, "a conductance"},
    {capacitance, "a capacitance"},
    {inductance, "an inductance"},
    {charge, "a charge"},
    {flux, "a flux linkage"},
    {inertia, "an inertia"},
    {{{1, 1, -3, -2, 0, 0}}, "a resistance per length"},
    {{{1, 1, -2, -2, 0, 0}}, "an inductance per length"},
    {{{-3, -1, 4, 2, 0, 0}}, "a capacitance per length"},
    {{{-3, -1, 3, 2, 0, 0}}, "a conductance per length"},
    {{{0, 0, -2, 0, 0, 0}}, "a rate of change of frequency"},
    {{{3, 1, -3, -2, 0, 0}}, "a resistivity"},
    {{{2, 0, 0, 0, 0, 0}}, "an area"},
    {{{0, 1, -3, 0, 0, 0}}, "a power per area"},
    {{{0, 0, 0, 0, -1, 0}}, "a share per kelvin"},
    {{{1, 0, -1, 0, 0, 0}}, "a speed"},
    {{{1, 0, -2, 0, 0, 0}}, "an acceleration"},
    {{{2, 1, -2, 0, 0, -1}}, "a torsional stiffness"},
    {{{2, 1, -1, 0, 0, -1}}, "a torsional damping"},
    {{{2, 1, -4, -1, 0, 0}}, "a rate of change of voltage"},
    {{{0, 0, -1, 1, 0, 0}}, "a rate of change of current"},
    {{{2, 1, -4, 0, 0, 0}}, "a rate of change of power"},
};

/// Signs that other keyboards have: micro, ohm, times, squared.
std::string with_letters(std::string_view text) {
  constexpr std::pair<std::string_view, std::string_view> signs[] = {
      {"\u00b5", "u"},   {"\u03bc", "u"}, {"\u2126", "ohm"}, {"\u03a9", "ohm"},
      {"\u00b7", " "},   {"\u22c5", " "}, {"\u00b2", "2"},   {"\u00b3", "3"},
      {"\u00b0", "deg"}, {"\u00a0", " "}, {"\u202f", " "}};
  std::string plain(text);
  for (const auto& [sign, letters] : signs) {
    for (std::size_t at = 0; (at = plain.find(sign, at)) != std::string::npos; at += letters.size())
      plain.replace(at, sign.size(), letters);
  }
  return plain;
}

/// "Ohm", "khz" and the like; not "mhz", which may mean either prefix.
std::string in_usual_case(std::string_view text) {
  std::string lower(text);
  std::transform(lower.begin(), lower.end(), lower.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  for (const std::string_view name : {"Hz", "ohm"}) {
    if (lower.size() < name.size() || lower.size() > name.size() + 1) continue;
    const std::size_t at = lower.size() - name.size();
    if (lower.substr(at) != (name == "Hz" ? "hz" : "ohm")) continue;
    if (at == 1 && name == "Hz" && text.front() == 'm') continue;
    return std::string(text.substr(0, at)) + std::string(name);
  }
  return std::string(text);
}

std::optional<double> prefix_scale(char prefix) {
  switch (prefix) {
    case 'p':
      return 1e-12;
    case 'n':
      return 1e-9;
    case 'u':
      return 1e-6;
    case 'm':
      return 1e-3;
    case 'k':
      return 1e3;
    case 'M':
      return 1e6;
    case 'G':
      return 1e9;
    default:
      return std::nullopt;
  }
}

std::optional<Unit> parse_symbol(std::string_view written) {
  const std::string text = in_usual_case(written);
  for (const Symbol& symbol : symbols) {
    if (text == symbol.name) return Unit{symbol.scale, symbol.dimension};
  }
  if (text.size() < 2) return std::nullopt;
  const auto prefix = prefix_scale(text.front());
  if (!prefix) return std::nullopt;
  for (const Symbol& symbol : symbols) {
    if (symbol.takes_prefix && std::string_view(text).substr(1) == symbol.name) {
      return Unit{*prefix * symbol.scale, symbol.dimension};
    }
  }
  return std::nullopt;
}

void multiply(Unit& unit, const Unit& factor, int exponent) {
  unit.scale *= std::pow(factor.scale, exponent);
  for (std::size_t k = 0; k < unit.dimension.exponents.size(); ++k) {
    unit.dimension.exponents[k] =
        static_cast<std::int8_t>(unit.dimension.exponents[k] + exponent * factor.dimension.exponents[k]);
  }
}

/// Of what is wanted, when that is known.
[[noreturn]] void throw_unknown(std::string_view symbol, const Wanted* wanted) {
  std::vector<std::string> known;
  for (const Symbol& s : symbols) {
    if (wanted && !(s.dimension == wanted->dimension)) continue;
    known.emplace_back(s.name);
    for (const char prefix : {'k', 'm', 'M', 'u', 'G'}) {
      if (s.takes_prefix) known.push_back(prefix + std::string(s.name));
    }
  }
  const std::string close = nearest_name(symbol, known);
  const std::string text = "unknown unit \"" + std::string(symbol) + "\"";
  if (!close.empty()) throw Error(text + ", did you mean \"" + close + "\"?");
  throw Error(wanted ? text + "; " + name_of(wanted->dimension) + " is wanted, such as \"" + wanted->example +
                           "\""
                     : text);
}

/// Splits "m2" or "m^2" into its symbol and exponent.
int take_exponent(std::string_view& factor) {
  if (factor.size() >= 2 && factor.back() >= '2' && factor.back() <= '9') {
    const int exponent = factor.back() - '0';
    factor.remove_suffix(1);
    if (factor.size() >= 2 && factor.back() == '^') factor.remove_suffix(1);
    return exponent;
  }
  return 1;
}

Unit parse(std::string_view written, const Wanted* wanted) {
  const std::string text = with_letters(written);
  Unit unit;
  int sign = 1;
  std::size_t at = 0;
  while (at < text.size()) {
    if (text[at] == ' ' || text[at] == '*') {
      ++at;
      continue;
    }
    if (text[at] == '/') {
      if (sign < 0) throw Error("unit \"" + text + "\" has a second \"/\"; write one");
      sign = -1;
      ++at;
      continue;
    }
    const std::size_t end = std::min(text.find_first_of(" */", at), text.size());
    std::string_view factor = std::string_view(text).substr(at, end - at);
    at = end;
    const std::string_view whole = factor;
    if (const auto direct = parse_symbol(factor)) {
      multiply(unit, *direct, sign);
      continue;
    }
    const int exponent = take_exponent(factor);
    const auto symbol = parse_symbol(factor);
    if (!symbol) throw_unknown(whole, wanted);
    multiply(unit, *symbol, sign * exponent);
  }
  return unit;
}

}  // namespace

Unit parse_unit(std::string_view text) { return parse(text, nullptr); }
Unit parse_unit(std::string_view text, const Wanted& wanted) { return parse(text, &wanted); }

std::string name_of(const Dimension& dimension) {
  for (const Named& named : names) {
    if (named.dimension == dimension) return std::string(named.name);
  }
  constexpr std::string_view base[] = {"m", "kg", "s", "A", "K", "rad"};
  std::string text = "a quantity in";
  for (std::size_t k = 0; k < dimension.exponents.size(); ++k) {
    if (dimension.exponents[k] == 0) continue;
    text += " " + std::string(base[k]);
    if (dimension.exponents[k] != 1) text += "^" + std::to_string(dimension.exponents[k]);
  }
  return text;
}

}  // namespace zavrek
