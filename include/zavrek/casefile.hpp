#pragma once

#include <filesystem>
#include <map>
#include <string>

#include "zavrek/emt/line_constants.hpp"
#include "zavrek/trial.hpp"
#include "zavrek/trial/injection_plan.hpp"

namespace zavrek::casefile {

/// Reads network.toml, bench.toml and trials.toml of a case folder and the settings files that the bench
/// names; only network.toml must be there. Throws Error with every flaw of all files at once, each with
/// file, line and what would be right.
[[nodiscard]] trial::Case read_case(const std::filesystem::path& folder);
/// The same of a case that somebody else sent: no file outside of the folder `within` is read.
[[nodiscard]] trial::Case read_case_within(const std::filesystem::path& folder,
                                           const std::filesystem::path& within);
/// An error of compiling or running a case that was read: its flaws get the file and the line where their
/// place stands.
[[nodiscard]] Error located(const Error& error, const std::filesystem::path& folder);
/// The folder of the case that is its base; empty without one. Throws Error.
[[nodiscard]] std::filesystem::path base_of(const std::filesystem::path& folder);
/// The texts of what a model is made of: its network, and its control in one file or several.
struct ModelTexts {
  std::string network;
  std::vector<std::string> control;
};
/// Of a case that was read before. Throws Error.
[[nodiscard]] ModelTexts model_texts(const std::filesystem::path& folder);
/// What the case would run or open of this computer beside its own files, as "own block K1, library": own
/// libraries, drivers of cards, terminal boards, sockets.
[[nodiscard]] std::vector<std::string> wants_of_computer(const trial::Case& all);

/// From now on the case's own libraries are not run: each is taken to have the inputs and parameters that its
/// block gives, and the outputs that the files of the case ask of it. Returns a note on each. Throws Error
/// for one that is not there.
std::vector<std::string> assume_libraries(trial::Case& all);

/// Reads a relay's settings file. Throws Error like `read_case`.
[[nodiscard]] protection::RelaySettings read_relay_settings(const std::filesystem::path& file);

/// Reads a plan of element tests. Throws Error like `read_case`, and for what does not fit the settings.
[[nodiscard]] trial::InjectionPlan read_injection_plan(const std::filesystem::path& file,
                                                       const protection::RelaySettings& settings);

/// Reads an overhead line's cross-section, a file of its own. Throws Error like `read_case`.
[[nodiscard]] network::LineGeometry read_line_geometry(const std::filesystem::path& file);

/// The same from text; `name` stands in messages. For tests and for fuzzing.
[[nodiscard]] trial::Case read_case_texts(const std::map<std::string, std::string>& texts_by_file);
[[nodiscard]] network::Network read_network_text(std::string_view text, const std::string& name);
[[nodiscard]] protection::RelaySettings read_relay_settings_text(std::string_view text,
                                                                 const std::string& name);

[[nodiscard]] trial::InjectionPlan read_injection_plan_text(std::string_view text, const std::string& name,
                                                            const protection::RelaySettings& settings);

/// A field of a relay's settings as a line of a table: "stage.phase1.pickup", "420", "A". Lists stand with
/// ";".
struct SettingRow {
  std::string name, value, unit, comment;
};
/// All that are set, those that are as when left out too.
[[nodiscard]] std::vector<SettingRow> setting_rows(const protection::RelaySettings& settings);
/// The same as CSV (RFC 4180), with a heading line: name, value, unit, comment.
[[nodiscard]] std::string settings_csv(const protection::RelaySettings& settings);
/// A settings file of such a table, or of somebody else's with a mapping (docs/protection.md); without one,
/// `mapping` is empty. Throws Error with file and line.
[[nodiscard]] std::string settings_from_csv(const std::filesystem::path& csv,
                                            const std::filesystem::path& mapping);
/// A setting that two relays have otherwise; empty where one has it not.
struct SettingDifference {
  std::string name, here, there;
};
[[nodiscard]] std::vector<SettingDifference> setting_differences(const protection::RelaySettings& one,
                                                                 const protection::RelaySettings& other);

/// Trials and sweeps as a file of a case holds them: what is read back is the same.
[[nodiscard]] std::string trials_text(const std::vector<trial::Trial>& trials,
                                      const std::vector<trial::Sweep>& sweeps);

/// A table, and where what it describes is written.
struct TableOfFile {
  const network::Table* table;
  std::string file;   ///< "network.toml", "settings of a relay"
  std::string group;  ///< a word for it: "network", "relay"
};
/// All that files of a case may contain, for the manual.
[[nodiscard]] std::vector<TableOfFile> all_tables();

}  // namespace zavrek::casefile
