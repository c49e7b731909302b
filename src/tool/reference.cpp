#include "tool/reference.hpp"

#include <algorithm>
#include <filesystem>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "handover/blocks_of_text.hpp"
#include "tool/data.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/engine.hpp"

namespace zavrek::tool {
namespace {

namespace fs = std::filesystem;
using handover::BlocksOfText;

/// In which of the manual's files a file of a case belongs.
std::string file_kind(const fs::path& file) {
  const std::string name = file.filename().string();
  for (const char* known : {"network.toml", "bench.toml", "trials.toml", "case.toml", "page.toml"}) {
    if (name == known) return known;
  }
  if (name.starts_with("control") || name == "drive.toml") return "control.toml";
  const BlocksOfText text(file);
  for (const auto& block : text.blocks()) {
    if (block.keys.front() == "geometry") return "network.toml";
    if (block.keys.front() == "sequence") return "plan of element tests";
  }
  return "settings of a relay";
}

/// What a kind is called where it stands in a list of a block.
std::string entry_of(const std::string& kind) {
  if (kind == "state" || kind == "quantities") return "states";
  return kind == "state expectation" ? "expect" : kind;
}

/// How a kind is written: as blocks, or as an entry of one, which may also be the name of something else.
enum class Form { as_block, as_entry };

/// About half a dozen lines when there is a choice.
std::string example_in(const BlocksOfText& text, const std::string& kind, Form how) {
  constexpr std::ptrdiff_t usual = 6, longest = 40;
  std::string found;
  const auto lines = [](const std::string& of) { return std::count(of.begin(), of.end(), '\n'); };
  const auto take = [&](std::string candidate) {
    while (candidate.ends_with("\n\n")) candidate.pop_back();
    const auto n = lines(candidate);
    if (n < 1 || n > longest) return;
    if (found.empty() || std::abs(n - usual) < std::abs(lines(found) - usual)) found = std::move(candidate);
  };
  if (how == Form::as_block) {
    for (const auto& block : text.blocks()) {
      const auto& keys = block.keys;
      const bool is_it = keys.front() == kind || keys.back() == kind || (keys.size() > 2 && keys[2] == kind);
      if (is_it) take(block.text);
    }
    return found;
  }
  for (const auto& block : text.blocks()) {
    for (const auto& entry : block.entries) {
      if (entry.key == entry_of(kind)) take(fmt::format("[{}]\n{}", fmt::join(block.keys, "."), entry.text));
    }
  }
  if (!found.empty()) return found;
  for (const char* whole : {"network", "bench", "control", "relay", "case"}) {
    if (kind == whole && text.head().find('=') != std::string::npos) take(text.head());
  }
  return found;
}

std::vector<fs::path> files_with_examples() {
  std::vector<fs::path> files;
  for (const char* data : {"demo", "starts", "manual"}) {
    const fs::path all = data_folder(data);
    for (const std::string& name : folders_in(all)) {
      std::vector<fs::path> of_case;
      for (const auto& entry : fs::recursive_directory_iterator(all / name)) {
        if (entry.path().extension() == ".toml") of_case.push_back(entry.path());
      }
      std::sort(of_case.begin(), of_case.end());
      files.insert(files.end(), of_case.begin(), of_case.end());
    }
  }
  return files;
}

}  // namespace

std::vector<KindManual> all_kinds() {
  std::vector<KindManual> kinds;
  for (const casefile::TableOfFile& one : casefile::all_tables())
    kinds.push_back({one.table, one.file, one.group, {}, {}});
  for (const network::Table* table : engine::page_tables())
    kinds.push_back({table, "page.toml", "page", {}, {}});
  return kinds;
}

void add_examples(std::vector<KindManual>& kinds) {
  const std::vector<fs::path> files = files_with_examples();
  for (const Form how : {Form::as_block, Form::as_entry}) {
    for (const fs::path& file : files) {
      const std::string of = file_kind(file);
      const BlocksOfText text(file);
      for (KindManual& kind : kinds) {
        if (!kind.example.empty() || kind.file != of) continue;
        kind.example = example_in(text, kind.table->kind, how);
        if (!kind.example.empty())
          kind.example_from = file.lexically_relative(data_folder("demo").parent_path()).string();
      }
    }
  }
}

std::string need_of(const network::Field& field) {
  const std::string need = field.need == network::Need::required ? "required"
                           : field.standard.empty()              ? "optional"
                                                                 : "default " + field.standard;
  return field.changeable ? need + "; a knob: changeable while running" : need;
}

std::string shown_as(const network::Output& output) {
  std::string name = output.name;
  if (const std::size_t at = name.find('#'); at != std::string::npos) {
    const std::string before = name.substr(0, at), behind = name.substr(at + 1);
    return fmt::format("NAME.{0}a{1}, {0}b{1}, {0}c{1}", before, behind);
  }
  if (const std::size_t at = name.find('*'); at != std::string::npos)
    name.replace(at, 1, name.size() == 1 ? "..." : "VALVE");
  return name.empty() ? "NAME" : "NAME." + name;
}

std::string sign_convention() {
  std::vector<std::string> suppliers;
  network::for_each_kind([&](const auto* null) {
    if (table(null).supplies) suppliers.push_back(table(null).kind);
  });
  return fmt::format(
      "Currents and powers count into an element at its terminal; out of it at what feeds: {}.",
      fmt::join(suppliers, ", "));
}

}  // namespace zavrek::tool
