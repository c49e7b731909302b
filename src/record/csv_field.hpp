#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace zavrek::record::internal {

/// A field of a CSV file (RFC 4180), in quotes where it needs them.
[[nodiscard]] inline std::string csv_field(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"') out += '"';
    out += c;
  }
  return out + "\"";
}

/// The fields of the lines of a CSV file (RFC 4180).
[[nodiscard]] std::vector<std::vector<std::string>> csv_rows(std::string_view csv, char separator = ',');

}  // namespace zavrek::record::internal
