#pragma once

#include <string>
#include <string_view>

#include "zavrek/limits.hpp"

namespace zavrek::record::internal {

/// A name as it may stand in a line of fields: commas, line ends and other control characters are blanks.
[[nodiscard]] inline std::string plain(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if (c == ',' || (c >= 0 && c < ' ') || c == 127) c = ' ';
  }
  return out;
}

/// Text as it may be shown: control characters are blanks, what is no UTF-8 becomes question marks.
[[nodiscard]] inline std::string readable(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if ((c >= 0 && c < ' ') || c == 127) c = ' ';
  }
  for (std::size_t k = 0; k < out.size();) {
    const auto byte = static_cast<unsigned char>(out[k]);
    const std::size_t length = byte < 0x80                    ? 1
                               : byte >= 0xC2 && byte <= 0xDF ? 2
                               : byte >= 0xE0 && byte <= 0xEF ? 3
                               : byte >= 0xF0 && byte <= 0xF4 ? 4
                                                              : 0;
    bool whole = length > 0 && k + length <= out.size();
    for (std::size_t m = 1; whole && m < length; ++m)
      whole = (static_cast<unsigned char>(out[k + m]) & 0xC0U) == 0x80U;
    // Forms longer than they need be, surrogates, beyond the last character.
    const unsigned second = whole && length > 1 ? static_cast<unsigned char>(out[k + 1]) : 0;
    if ((byte == 0xE0 && second < 0xA0) || (byte == 0xED && second > 0x9F) ||
        (byte == 0xF0 && second < 0x90) || (byte == 0xF4 && second > 0x8F))
      whole = false;
    if (!whole) out[k] = '?';
    k += whole ? length : 1;
  }
  return out;
}

/// A name out of somebody's file: both, and it has an end.
[[nodiscard]] inline std::string plain_utf8(std::string_view text) {
  return readable(plain(text.substr(0, limits::name_letters)));
}

}  // namespace zavrek::record::internal
