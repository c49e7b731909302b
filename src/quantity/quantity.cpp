#include "zavrek/quantity.hpp"

#include "zavrek/limits.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zavrek {
namespace {

std::string_view trim(std::string_view text) {
  while (!text.empty() && text.front() == ' ') text.remove_prefix(1);
  while (!text.empty() && text.back() == ' ') text.remove_suffix(1);
  return text;
}

struct Parts {
  double number;
  std::string_view unit;
};

Parts split(std::string_view text) {
  const std::string_view body = trim(text);
  if (body.empty()) throw Error("an empty quantity; write a number and a unit, such as \"50 us\"");
  const char* first = body.data() + (body.front() == '+' ? 1 : 0);
  double number = 0;
  const auto [end, status] = std::from_chars(first, body.data() + body.size(), number);
  if (status == std::errc::result_out_of_range) {
    throw Error(fmt::format("\"{}\" is a number beyond any physical size", text));
  }
  if (status != std::errc() || !std::isfinite(number)) {
    throw Error(fmt::format("\"{}\" does not begin with a number; write one, such as \"50 us\"", text));
  }
  return {number, trim(body.substr(static_cast<std::size_t>(end - body.data())))};
}

/// Insertions, deletions, replacements and swaps of neighbours that lead from `a` to `b`.
std::size_t edit_distance(std::string_view a, std::string_view b) {
  std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i) d[i][0] = i;
  for (std::size_t j = 0; j <= b.size(); ++j) d[0][j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    for (std::size_t j = 1; j <= b.size(); ++j) {
      d[i][j] =
          std::min({d[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1), d[i - 1][j] + 1, d[i][j - 1] + 1});
      const bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
      if (swapped) d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  }
  return d[a.size()][b.size()];
}

}  // namespace

Quantity parse_quantity(std::string_view text) {
  const Parts parts = split(text);
  const Unit unit = parse_unit(parts.unit);
  return {parts.number * unit.scale, unit.dimension};
}

double parse_quantity_as(std::string_view text, std::string_view unit) {
  const Unit wanted = parse_unit(unit);
  const Parts parts = split(text);
  if (parts.unit.empty() && !(wanted.dimension == Dimension{})) {
    throw Error(fmt::format("\"{}\" has no unit; {} is wanted, such as \"{} {}\"", text,
                            name_of(wanted.dimension), parts.number, unit));
  }
  const Unit given = parse_unit(parts.unit, {wanted.dimension, fmt::format("{} {}", parts.number, unit)});
  if (!(given.dimension == wanted.dimension)) {
    throw Error(fmt::format("\"{}\" is {}; {} is wanted, in {}", text, name_of(given.dimension),
                            name_of(wanted.dimension), unit.empty() ? "no unit" : unit));
  }
  return parts.number * given.scale;
}

double parse_quantity_or_plain(std::string_view text, std::string_view unit) {
  const Quantity plain = parse_quantity(text);
  return plain.dimension == Dimension{} ? plain.value : parse_quantity_as(text, unit);
}

std::string print_quantity(double value, std::string_view unit) {
  const double scale = parse_unit(unit).scale;
  double number = value / scale;
  // Scaling may leave a last digit that was never written; drop it when the number reads back.
  const double tidy = std::stod(fmt::format("{:.15g}", number));
  if (std::abs(tidy * scale - value) <= (scale == 1 ? 0 : 4e-16 * std::abs(value))) number = tidy;
  return unit.empty() ? fmt::format("{}", number) : fmt::format("{} {}", number, unit);
}

std::string print_rounded(double value, std::string_view base_unit, int digits) {
  if (!std::isfinite(value)) return fmt::format("{} {}", value, base_unit);
  struct Prefix {
    double scale;
    std::string_view symbol;
  };
  constexpr Prefix prefixes[] = {{1e9, "G"},  {1e6, "M"},  {1e3, "k"}, {1, ""},
                                 {1e-3, "m"}, {1e-6, "u"}, {1e-9, "n"}};
  const double size = std::abs(value);
  const double rounds_up = 1 - 0.5 * std::pow(10.0, -digits);  // to 1
  for (const Prefix& prefix : prefixes) {
    if (size >= rounds_up * prefix.scale) {
      // Up to 999 without an exponent, however few digits count.
      const std::string text = fmt::format("{:.{}e}", value / prefix.scale, digits - 1);
      double rounded = 0;
      std::from_chars(text.data(), text.data() + text.size(), rounded);
      return fmt::format("{:.{}g} {}{}", rounded, std::max(digits, 3), prefix.symbol, base_unit);
    }
  }
  return fmt::format("{:.{}g} {}", value, digits, base_unit);
}

std::string nearest_name(std::string_view name, const std::vector<std::string>& candidates) {
  const std::string* best = nullptr;
  std::size_t best_distance = std::max<std::size_t>(1, name.size() / 3) + 1;
  for (const std::string& candidate : candidates) {
    if (candidate.size() > limits::suggested_letters) continue;
    const std::size_t distance = edit_distance(name, candidate);
    if (distance < best_distance) {
      best_distance = distance;
      best = &candidate;
    }
  }
  return best ? *best : std::string();
}

std::string suggestion(std::string_view name, const std::vector<std::string>& candidates, std::size_t most) {
  if (name.size() > limits::suggested_letters) return {};
  const std::string close = nearest_name(name, candidates);
  if (!close.empty()) return ", did you mean \"" + close + "\"?";
  if (candidates.empty()) return "";
  std::string text = "; known: ";
  for (std::size_t k = 0; k < std::min(most, candidates.size()); ++k) text += (k ? ", " : "") + candidates[k];
  return candidates.size() > most ? text + ", ..." : text;
}

}  // namespace zavrek
