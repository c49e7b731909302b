#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

#include "record/plain.hpp"
#include "zavrek/limits.hpp"
#include "zavrek/record.hpp"

#include "record/csv_field.hpp"

namespace zavrek::record {
namespace {

std::vector<std::string_view> cells_of(std::string_view line) {
  std::vector<std::string_view> cells;
  for (;;) {
    const std::size_t comma = line.find(',');
    cells.push_back(line.substr(0, comma));
    if (comma == std::string_view::npos) return cells;
    line.remove_prefix(comma + 1);
  }
}

bool is_two_state(const std::vector<double>& samples) {
  return std::all_of(samples.begin(), samples.end(), [](double x) { return x == 0 || x == 1; });
}

}  // namespace

Record from_csv(std::string_view text, const std::string& name) {
  const auto fail = [&](int line, std::string what) {
    throw Error(Flaw{.file = name, .line = line, .place = {}, .field = {}, .text = std::move(what)});
  };
  Record record;
  std::vector<std::vector<double>> columns;
  std::vector<std::string_view> heads;
  int line_number = 0;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    std::string_view line = text.substr(0, end);
    text.remove_prefix(end == std::string_view::npos ? text.size() : end + 1);
    ++line_number;
    if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
    if (line.empty()) continue;
    const std::vector<std::string_view> cells = cells_of(line);
    if (heads.empty()) {
      heads = cells;
      columns.resize(heads.size());
      if (heads[0] != "time_s") fail(line_number, "the first column must be time_s");
      continue;
    }
    if (cells.size() != heads.size())
      fail(line_number, fmt::format("{} cells; the head has {}", cells.size(), heads.size()));
    for (std::size_t k = 0; k < cells.size(); ++k) {
      double value = 0;
      const auto [rest, error] = std::from_chars(cells[k].data(), cells[k].data() + cells[k].size(), value);
      if (error != std::errc() || rest != cells[k].data() + cells[k].size())
        fail(line_number, fmt::format("\"{}\" is no number", cells[k]));
      columns[k].push_back(value);
    }
    const std::vector<double>& time = columns[0];
    if (!std::isfinite(time.back()) || (time.size() > 1 && time.back() <= time[time.size() - 2]))
      fail(line_number, "time does not rise");
    if (std::abs(time.back()) > limits::record_s) fail(line_number, "time is beyond 30 years");
  }
  if (heads.empty() || columns[0].empty()) fail(line_number, "holds no samples");
  record.time_s = std::move(columns[0]);
  for (std::size_t k = 1; k < heads.size(); ++k) {
    const std::string head = internal::plain_utf8(heads[k]);
    const std::size_t space = head.rfind(' ');
    if (space == std::string::npos && is_two_state(columns[k])) {
      Binary binary{head, false, {}};
      for (const double x : columns[k]) binary.samples.push_back(x != 0);
      record.binaries.push_back(std::move(binary));
    } else {
      Analog analog;
      analog.name = head.substr(0, space);
      analog.unit = space == std::string::npos ? "" : head.substr(space + 1);
      analog.samples = std::move(columns[k]);
      record.analogs.push_back(std::move(analog));
    }
  }
  return record;
}

}  // namespace zavrek::record

namespace zavrek::record::internal {

std::vector<std::vector<std::string>> csv_rows(std::string_view csv, char separator) {
  std::vector<std::vector<std::string>> rows;
  bool quoted = false, begun = false;
  for (std::size_t k = 0; k < csv.size(); ++k) {
    const char c = csv[k];
    if (!begun) {
      rows.emplace_back(1);
      begun = true;
    }
    std::string& field = rows.back().back();
    if (quoted && c == '"' && k + 1 < csv.size() && csv[k + 1] == '"')
      field += csv[++k];
    else if (c == '"')
      quoted = !quoted;
    else if (!quoted && c == separator)
      rows.back().emplace_back();
    else if (!quoted && c == '\n')
      begun = false;
    else if (c != '\r')
      field += c;
  }
  return rows;
}

}  // namespace zavrek::record::internal
