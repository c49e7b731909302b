// What an exported library carries behind its code: named parts, and at the very end what finds them.
#pragma once

#include <map>
#include <string>
#include <string_view>

namespace zavrek::exported {

/// Part by name: "network", "control.0" ..., "outputs" (a name a line), "manifest" (JSON), "token".
using Parts = std::map<std::string, std::string>;

/// To be appended to a library. Each part: length of its name (4 octets), name, length (8), content; behind
/// them the number of parts (4), the length of all (8), "ZVMODEL1". Lengths with the low octet first.
[[nodiscard]] std::string joined(const Parts& parts);
/// Of a whole file; empty when none are there or they are damaged.
[[nodiscard]] Parts parts_of(std::string_view file);

}  // namespace zavrek::exported
