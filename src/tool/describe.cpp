#include <fmt/format.h>

#include "tool/reference.hpp"
#include "tool/verbs.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::tool {
namespace {

void print(const KindManual& kind) {
  const network::Table& table = *kind.table;
  fmt::print("{} ({}): {}\n", table.kind, kind.file, table.doc);
  for (const network::Field& field : table.fields)
    fmt::print("  {:<23} {}; {}\n  {:<24}{}\n", field.name, field.expects, need_of(field), "", field.doc);
  if (!table.outputs.empty()) fmt::print("  shows\n");
  for (const network::Output& output : table.outputs) {
    const std::string what = output.unit.empty() || output.doc.empty() ? output.unit + output.doc
                                                                       : output.unit + ", " + output.doc;
    fmt::print("    {:<25} {}\n", shown_as(output), what);
  }
  if (kind.file == "network.toml" && !table.outputs.empty()) fmt::print("  {}\n", sign_convention());
  if (kind.example.empty()) return;
  fmt::print("  for example, in {}\n", kind.example_from);
  for (std::size_t at = 0; at < kind.example.size();) {
    const std::size_t end = std::min(kind.example.find('\n', at), kind.example.size());
    fmt::print("    {}\n", kind.example.substr(at, end - at));
    at = end + 1;
  }
}

}  // namespace

int describe(const std::string& wanted) {
  constexpr const char* calls = "engine";
  if (wanted == calls) {
    fmt::print("{}", engine::calls_manual());
    return done;
  }
  std::vector<KindManual> kinds = all_kinds();
  if (wanted.empty()) {
    std::string file;
    for (const KindManual& kind : kinds) {
      if (kind.file != file) fmt::print("{}{}\n", file.empty() ? "" : "\n", kind.file);
      file = kind.file;
      fmt::print("  {:<26}{}\n", kind.table->kind, kind.table->doc);
    }
    fmt::print("\n  {:<26}the calls of an engine's interface\n\nzavrek describe KIND tells its fields\n",
               calls);
    return done;
  }
  std::vector<std::string> known{calls};
  std::vector<KindManual> found;
  for (const KindManual& kind : kinds) {
    known.push_back(kind.table->kind);
    if (wanted == kind.table->kind || wanted == kind.group + "." + kind.table->kind) found.push_back(kind);
  }
  if (found.empty()) throw Error("nothing is called \"" + wanted + "\"" + suggestion(wanted, known));
  add_examples(found);
  for (const KindManual& kind : found) {
    if (&kind != &found.front()) fmt::print("\n");
    print(kind);
  }
  if (found.size() > 1)
    fmt::print("\n\"{}\" is a word of {} files; {}.{} is the first alone\n", wanted, found.size(),
               found.front().group, wanted);
  return done;
}

}  // namespace zavrek::tool
