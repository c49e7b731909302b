// The manual of everything that files of a case can contain: field tables, what things show, and an example
// of each from the demos.
#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::tool {

/// What one word means in one kind of file.
struct KindManual {
  const network::Table* table = nullptr;
  std::string file;          ///< in which it stands: "network.toml", "settings of a relay"
  std::string group;         ///< word that tells it from others of its name: "control" in control.latch
  std::string example;       ///< as it stands in a file; empty where no demo has one
  std::string example_from;  ///< that file, such as "demo/veskar/network.toml"
};

/// All of them, in the order of the files; without examples, which are looked for by `add_example`.
[[nodiscard]] std::vector<KindManual> all_kinds();
/// From the demos, and from the cases to start from.
void add_examples(std::vector<KindManual>& kinds);

/// "required", "optional", "default 50 us", and whether it is a knob.
[[nodiscard]] std::string need_of(const network::Field& field);
/// "NAME.ia, ib, ic": as it is read.
[[nodiscard]] std::string shown_as(const network::Output& output);
/// How currents and powers count, in one sentence or two.
[[nodiscard]] std::string sign_convention();

}  // namespace zavrek::tool
