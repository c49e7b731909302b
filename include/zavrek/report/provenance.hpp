// What a report says beside its verdicts: how they came about, and what changed since an earlier run.
#pragma once

#include <string>
#include <vector>

#include <nlohmann/json_fwd.hpp>

#include "zavrek/trial.hpp"

namespace zavrek::report {

/// How results came about.
struct Provenance {
  /// One relay or controller.
  struct Tested {
    std::string name, model, serial;
    std::string where;     ///< as `place_words` says
    std::string settings;  ///< file
    std::string sha256;    ///< of that file; empty when it cannot be read
    std::string approved;  ///< file with the settings that expectations follow, where that is another
  };
  std::string place, tested_by;  ///< as case.toml says
  std::string when;              ///< UTC, when it was written
  std::string version;           ///< of this library
  std::string machine;           ///< name, system, processor
  std::string time_source;       ///< of the bench
  std::vector<Tested> tested;
  std::vector<std::string> allowed;  ///< deviations that its expectations allow, each once
};
/// Of "plant", "process" or "outside": "in this process" and so on.
[[nodiscard]] std::string place_words(const std::string& place);
/// `place`: where all devices run, whatever the bench says; empty: as it says.
[[nodiscard]] Provenance provenance_of(const trial::Case& all, const std::string& place);

/// Of element tests of one relay: its name, what it is, and its settings' files in `relay`; `allowed` of
/// times and values.
[[nodiscard]] Provenance provenance_of(Provenance::Tested relay, const std::string& place,
                                       const std::string& tested_by, std::vector<std::string> allowed);

/// A verdict that is otherwise than in an earlier run.
struct Change {
  enum class Kind { failed, mended, worse, better, added, gone } kind = Kind::failed;
  std::string trial, expectation;
  std::string before, now;  ///< what was measured, and the margin
};
/// "fails now", "passes now", "less margin" ...
[[nodiscard]] std::string_view words(Change::Kind kind);
/// Between results as `results_json` writes them, the worst first. A margin counts as changed from a tenth of
/// its tolerance on. Throws Error for what is no such file.
[[nodiscard]] std::vector<Change> changes_since(const nlohmann::json& earlier, const nlohmann::json& now);

/// As it stands in JSON: the fields by their names.
[[nodiscard]] nlohmann::json provenance_json(const Provenance& provenance);

/// What a run of trials leaves for programs, and for later comparison: "format": "zavrek results 1".
[[nodiscard]] nlohmann::json results_json(const trial::Case& all,
                                          const std::vector<trial::TrialResult>& results,
                                          const std::vector<trial::Explanation>& causes,
                                          const Provenance& provenance);

}  // namespace zavrek::report
