
#include <fmt/format.h>

#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::tool {
namespace {

std::string manual_of(const network::Table& table) {
  std::string text = fmt::format("{}: {}\n", table.kind, table.doc);
  for (const network::Field& field : table.fields) {
    const std::string need = field.need == network::Need::required ? "required"
                             : field.standard.empty()              ? "optional"
                                                                   : "default " + field.standard;
    text += fmt::format("  {:<23} {}; {}{}\n  {:<24}{}\n", field.name, field.expects, need,
                        field.changeable ? "; changeable while running" : "", "", field.doc);
  }
  return text;
}

}  // namespace

int describe(const std::string& kind) {
  std::vector<std::string> known;
  bool found = false;
  constexpr const char* calls = "engine";
  if (kind == calls) {
    fmt::print("{}", engine::calls_manual());
    return done;
  }
  std::vector<const network::Table*> tables = casefile::all_tables();
  for (const network::Table* table : engine::page_tables()) tables.push_back(table);
  for (const network::Table* table : tables) {
    if (kind.empty()) fmt::print("  {:<26}{}\n", table->kind, table->doc);
    if (table->kind == kind) {
      fmt::print("{}", manual_of(*table));
      found = true;
    }
    known.push_back(table->kind);
  }
  if (kind.empty()) fmt::print("  {:<26}the calls of an engine's interface\n", calls);
  known.emplace_back(calls);
  if (!kind.empty() && !found) throw Error("nothing is called \"" + kind + "\"" + suggestion(kind, known));
  return done;
}

}  // namespace zavrek::tool
