// What a new user asks for first: a demo of their own to change, a case to start from.
#include <algorithm>
#include <filesystem>
#include <set>

#include <fmt/format.h>

#include "tool/data.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

namespace fs = std::filesystem;

/// A line on a case: the title of its network, or what its files begin with.
std::string line_on(const fs::path& folder) {
  try {
    return casefile::read_case(folder).network.title;
  } catch (const Error&) {
    return {};
  }
}

/// Cases of the neighbourhood from whose folders a case takes files: those its own files name by "../NAME".
void add_neighbours(const fs::path& all, const std::string& name, std::set<std::string>& wanted) {
  if (!wanted.insert(name).second) return;
  for (const auto& entry : fs::recursive_directory_iterator(all / name)) {
    if (!entry.is_regular_file()) continue;
    const std::string text = record::read_file(entry.path());
    for (const std::string& other : folders_in(all)) {
      if (text.find("../" + other) != std::string::npos) add_neighbours(all, other, wanted);
    }
  }
}

fs::path named_folder(const std::string& name) {
  fs::path into = name;
  if (fs::exists(into))
    throw Error(fmt::format("{} is already there; take another name, or another folder to work in", name));
  return into;
}

[[nodiscard]] std::string one_of(const std::string& name, const std::vector<std::string>& known,
                                 const char* what) {
  if (const auto at = std::find(known.begin(), known.end(), name); at != known.end()) return *at;
  throw Error(fmt::format("no {} \"{}\"{}", what, name, suggestion(name, known)));
}

}  // namespace

int copy_demo(const DemoOptions& options) {
  const fs::path all = data_folder("demo");
  const std::vector<std::string> known = folders_in(all);
  if (options.name.empty()) {
    std::size_t width = 0;
    for (const std::string& name : known) width = std::max(width, name.size());
    for (const std::string& name : known) fmt::print("{:<{}}  {}\n", name, width, line_on(all / name));
    fmt::print("\nzavrek demo NAME copies one here, for you to change\n");
    return done;
  }
  std::set<std::string> wanted;
  add_neighbours(all, one_of(options.name, known, "demo"), wanted);
  for (const std::string& name : wanted) {
    if (name == options.name) named_folder(name);
    if (!fs::exists(name)) fs::copy(all / name, name, fs::copy_options::recursive);
  }
  fmt::print("{} is in the folder {}{}\n", line_on(options.name).empty() ? "it" : line_on(options.name),
             options.name,
             wanted.size() > 1 ? fmt::format(", and what it takes from its neighbours beside it") : "");
  fmt::print("try next:\n  zavrek check {0}\n", options.name);
  if (fs::exists(fs::path(options.name) / "trials.toml")) fmt::print("  zavrek test {0}\n", options.name);
  for (const auto& entry : fs::directory_iterator(options.name)) {
    const bool script = entry.is_regular_file() && !entry.path().has_extension();
    if (script) fmt::print("  {}\n", entry.path().string());
  }
  fmt::print("  zavrek serve {0}\n", options.name);
  return done;
}

int begin_case(const NewOptions& options) {
  const fs::path all = data_folder("starts");
  const std::string kind = one_of(options.kind, folders_in(all), "kind of case");
  const fs::path into = named_folder(options.folder.empty() ? kind : options.folder);
  fs::copy(all / kind, into, fs::copy_options::recursive);
  const std::string name = into.string();
  fmt::print(
      "{} is a {} to start from: network.toml says what there is, bench.toml what is connected, trials.toml "
      "what is "
      "tried\ntry next:\n  zavrek check {}\n  zavrek test {}{}\n  zavrek describe\n",
      name, kind, name, name, kind == "converter" ? " --pace free" : "");
  return done;
}

}  // namespace zavrek::tool
