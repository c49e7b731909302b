#include "bench/bus_row.hpp"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <sstream>

#include <fmt/format.h>

#include "zavrek/quantity.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr std::array<std::string_view, 5> row_words{"in", "as", "within", "class", "select"};

bool is_row_word(const std::string& word) {
  return std::find(row_words.begin(), row_words.end(), word) != row_words.end();
}

[[noreturn]] void refuse_row(const std::string& text, std::string_view why) {
  throw Error(fmt::format("\"{}\": {}; write one such as \"40: battery.p in 0.1 kW as int16 within 1 kW\"",
                          text, why));
}

long whole_number(const std::string& text, const std::string& word, std::string_view what) {
  long number = 0;
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), number);
  if (error != std::errc() || end != word.data() + word.size() || number < 0)
    refuse_row(text, fmt::format("\"{}\" is no {}", word, what));
  return number;
}

}  // namespace

BusRow read_bus_row(const std::string& text, BusAt at) {
  BusRow row;
  row.cause = text;
  const std::size_t colon = text.find(':');
  if (colon == std::string::npos) refuse_row(text, "no address with a colon in front");
  row.at = text.substr(0, colon);
  if (at == BusAt::number) row.address = whole_number(text, row.at, "address");
  std::istringstream words(text.substr(colon + 1));
  std::string word;
  if (!(words >> row.name)) refuse_row(text, "nothing is named behind the address");
  std::string* into = nullptr;
  std::string of_class;
  while (words >> word) {
    if (word == "select") {
      row.select = true;
      into = nullptr;
    } else if (is_row_word(word)) {
      into = word == "in" ? &row.in : word == "as" ? &row.as : word == "within" ? &row.within : &of_class;
      if (!into->empty()) refuse_row(text, fmt::format("\"{}\" stands there twice", word));
    } else if (!into) {
      refuse_row(text, fmt::format("\"{}\" is not understood", word));
    } else {
      *into += (into->empty() ? "" : " ") + word;
    }
  }
  row.has_class = !of_class.empty();
  if (row.has_class) row.event_class = static_cast<int>(std::min(99L, whole_number(text, of_class, "class")));
  return row;
}

std::vector<BusRow> read_bus_rows(const std::vector<std::string>& texts, BusAt at) {
  std::vector<BusRow> rows;
  rows.reserve(texts.size());
  for (const std::string& text : texts) rows.push_back(read_bus_row(text, at));
  return rows;
}

double per_count(const BusRow& row, const std::string& unit) {
  if (row.in.empty()) return 1;
  const bool number_first = row.in.find_first_of("-0123456789.") == 0;
  const double count = parse_quantity_or_plain(number_first ? row.in : "1 " + row.in, unit);
  if (count == 0 || !std::isfinite(count)) refuse_row(row.cause, "one count must be something");
  return count;
}

}  // namespace zavrek::bench::internal
