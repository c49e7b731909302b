// A text as TOML writes it.
#pragma once

#include <string>

#include <fmt/format.h>

namespace zavrek::casefile::internal {

[[nodiscard]] inline std::string quoted(const std::string& text) {
  std::string s = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') s += '\\';
    if (static_cast<unsigned char>(c) < 0x20 || c == 0x7F)
      s += fmt::format("\\u{:04x}", static_cast<unsigned>(c));
    else
      s += c;
  }
  return s + "\"";
}

}  // namespace zavrek::casefile::internal
