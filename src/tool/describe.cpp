#include <memory>

#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::tool {
namespace {

std::string manual_of(const network::Table& table) {
  std::string text = fmt::format("{}: {}\n", table.kind, table.doc);
  for (const network::Field& field : table.fields) {
    const std::string need = field.need == network::Need::required ? "required"
                             : field.standard.empty()              ? "optional"
                                                                   : "default " + field.standard;
    text += fmt::format("  {:<24}{}; {}{}\n  {:<24}{}\n", field.name, field.expects, need,
                        field.changeable ? "; changeable while running" : "", "", field.doc);
  }
  return text;
}

}  // namespace

void add_describe(CLI::App& app, int& exit_code) {
  auto kind = std::make_shared<std::string>();
  CLI::App* verb =
      app.add_subcommand("describe", "the manual of an element, a setting or a file, from its field table");
  verb->add_option("kind", *kind, "cable, breaker, stage, trial, ...; all kinds are listed when left out");
  verb->callback([kind, &exit_code] {
    std::vector<std::string> known;
    bool found = false;
    for (const network::Table* table : casefile::all_tables()) {
      if (kind->empty()) fmt::print("  {:<14}{}\n", table->kind, table->doc);
      if (table->kind == *kind) {
        fmt::print("{}", manual_of(*table));
        found = true;
      }
      known.push_back(table->kind);
    }
    if (!kind->empty() && !found)
      throw Error("nothing is called \"" + *kind + "\"" + suggestion(*kind, known));
    exit_code = done;
  });
}

}  // namespace zavrek::tool
