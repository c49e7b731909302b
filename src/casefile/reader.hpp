// From TOML to structs, by their field tables. Flaws are collected, not thrown, each with its line.
#pragma once

#include <map>
#include <string>
#include <utility>
#include <vector>

// Debian ships the parser compiled; only the header's declarations are wanted here, but in an exported
// library.
#ifndef ZAVREK_TOML_WITHIN
#define TOML_HEADER_ONLY 0
#endif
#include <toml++/toml.h>

#include "zavrek/network/field.hpp"

namespace zavrek::casefile::internal {

/// A struct to fill and its table.
struct Target {
  const network::Table* table;
  void* object;
};
template <class T>
[[nodiscard]] Target target(T& object) {
  return {&table(&object), &object};
}

class Reader {
 public:
  /// Throws Error when `text` is no TOML.
  Reader(std::string_view text, std::string file);

  [[nodiscard]] const toml::table& root() const { return root_; }

  /// Fills the targets from `from`; keys in `apart` are left to the caller; others are flaws. `place`
  /// stands in messages.
  void fields(const toml::table& from, const std::string& place, const std::vector<Target>& targets,
              const std::vector<std::string>& apart = {});

  /// Calls read(name, table) for every [KIND.NAME].
  template <class Read>
  void each_named(const std::string& kind, Read&& read) {
    each_named(root_, kind, "", read);
  }
  /// The same below `from`; `above` stands in front of the kind in messages.
  template <class Read>
  void each_named(const toml::table& from, const std::string& kind, const std::string& above, Read&& read) {
    const toml::node* node = from.get(kind);
    if (!node) return;
    const toml::table* group = node->as_table();
    const std::string full = above + kind;
    if (!group) return report(*node, full, "", "tables are wanted, such as [" + full + ".NAME]");
    for (const auto& [key, value] : *group) {
      const std::string name(key.str());
      if (const toml::table* body = value.as_table()) {
        read(name, *body);
      } else {
        report(value, full + "." + name, "", "a table is wanted: [" + full + "." + name + "]");
      }
    }
  }

  void report(const toml::node& at, std::string place, std::string field, std::string text);
  /// That a field is missing, unless something is reported of it already.
  void report_missing(const toml::node& at, const std::string& place, const network::Field& field);
  /// Flaws found later by name (place, field): each gets the line where that stood.
  void report_by_name(const std::vector<Flaw>& flaws);
  /// Whether `place` stands in this file.
  [[nodiscard]] bool knows(const std::string& place) const { return lines_.contains(place + "/"); }
  /// Whether its `field` does.
  [[nodiscard]] bool knows(const std::string& place, const std::string& field) const {
    return lines_.contains(place + "/" + field);
  }
  /// Where that stands, or else its place; 0 for what does not stand here.
  [[nodiscard]] int line_of(const std::string& place, const std::string& field) const;
  /// Notes where `place` (and its `field`) stands.
  void remember(const std::string& place, const std::string& field, const toml::node& at);

  [[nodiscard]] std::vector<Flaw>& flaws() { return flaws_; }
  [[nodiscard]] const std::string& file() const { return file_; }

 private:
  [[nodiscard]] bool told(const std::string& place, const std::string& field) const;

  std::string file_;
  toml::table root_;
  std::map<std::string, int> lines_;
  std::vector<Flaw> flaws_;
};

}  // namespace zavrek::casefile::internal
