// Settings of relays to and from the tables that others keep them in.
#include <fmt/format.h>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {

int settings(const SettingsOptions& options) {
  const bool is_table = std::filesystem::path(options.file).extension() == ".csv";
  if (!is_table && !options.map.empty())
    throw Error("--map goes with a table (.csv), whose names it says the meaning of");
  const std::string text = is_table ? casefile::settings_from_csv(options.file, options.map)
                                    : casefile::settings_csv(casefile::read_relay_settings(options.file));
  if (options.out.empty()) {
    fmt::print("{}", text);
    return done;
  }
  record::write_file(options.out, text);
  fmt::print("{}\n", options.out);
  return done;
}

int settings_against(const std::vector<std::string>& files, const std::string& other, bool json) {
  bool same = true;
  nlohmann::json list = nlohmann::json::array();
  const protection::RelaySettings there = casefile::read_relay_settings(other);
  for (const std::string& file : files) {
    const auto found = casefile::setting_differences(casefile::read_relay_settings(file), there);
    same = same && found.empty();
    if (!json) fmt::print("{} against {}{}\n", file, other, found.empty() ? ": the same" : "");
    for (const casefile::SettingDifference& one : found) {
      const auto shown = [](const std::string& text) { return text.empty() ? "not there" : text; };
      if (json)
        list.push_back({{"file", file}, {"setting", one.name}, {"here", one.here}, {"there", one.there}});
      else
        fmt::print("  {:<36} {:<24} {}\n", one.name, shown(one.here), shown(one.there));
    }
  }
  if (json) fmt::print("{}\n", printed("differences", {{"against", other}, {"differences", list}}));
  return same ? done : failed_verdict;
}

}  // namespace zavrek::tool
