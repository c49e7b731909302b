// How the files of a bench name things.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "zavrek/bench/description.hpp"

namespace zavrek::bench::internal {

/// "NAME: SOURCE" in its two parts; empty texts when it has no colon.
[[nodiscard]] std::pair<std::string, std::string> split_pair(const std::string& text);

/// Breakers, disconnectors, earthing switches and contactors: what has a position, in the order of the
/// network.
[[nodiscard]] std::vector<std::string> switchgear_of(const network::Network& network);

inline constexpr std::string_view contact_prefix = "bench.";
/// Behind the name of a fault, or of a pole of a place of faults.
inline constexpr std::string_view resistance_suffix = ".resistance";
/// "NAME", "NAME: open" or "NAME: closed" as the bench writes a contact; `state` is what stands behind the
/// colon.
struct Contact {
  std::string name, state;
  [[nodiscard]] bool closed() const { return state == "closed"; }
};
[[nodiscard]] Contact contact_of(const std::string& text);
/// Contacts as devices and trials name them, "bench.NAME", in the order of the bench.
[[nodiscard]] std::vector<std::string> contacts_of(const Bench& bench);

/// Whether a device is in the plant's process, by its own place or the one that overrides all.
[[nodiscard]] bool is_here(const Device& device, const std::string& place);

/// Whether any device is not.
[[nodiscard]] bool anybody_elsewhere(const Bench& bench, const std::string& place);

/// What a text such as "-CT1.ia" or "not Q1" says.
struct Signed {
  std::string name;
  bool reversed = false;
};
[[nodiscard]] Signed signed_signal(const std::string& text);
[[nodiscard]] Signed signed_point(const std::string& text);

}  // namespace zavrek::bench::internal
