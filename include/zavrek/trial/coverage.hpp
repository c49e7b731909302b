// What a programme, or the element tests of a relay, would find: they are run again with each setting and
// each wire made wrong in the usual ways and amounts.
#pragma once

#include <atomic>
#include <functional>
#include <string>
#include <vector>

#include "zavrek/trial/injection.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {

/// One thing made wrong in one way: larger, smaller, or another word.
struct MistakeGroup {
  std::string device;  ///< "R1"; empty in element tests
  std::string what;    ///< "phase1 pickup", "current wiring"
  std::string before;  ///< as approved: "420 A", "straight"
  struct Amount {
    std::string text;  ///< "+5 %", "-50 ms", "reversed"
    std::function<void(Device&)> make;
  };
  std::vector<Amount> amounts;  ///< the smallest first
};

/// Settings of a relay: quantities by 5, 10 and 20 %, times by 20 and 50 ms, frequencies by 50, 100 and 200
/// mHz, angles by 10 and 30 degrees, either way; words by each other word; conditions left away.
[[nodiscard]] std::vector<MistakeGroup> mistakes_in_settings(const protection::RelaySettings& settings);
/// Those of the settings of all relays of a case, and of their wiring: phases exchanged, reversed or dead,
/// ratios, inputs that are not connected.
[[nodiscard]] std::vector<MistakeGroup> mistakes_in(const Case& all);

struct CoverageRow {
  std::string device, what, before;
  std::vector<std::string> amounts;  ///< that were tried, the smallest first
  std::size_t found_from = 0;        ///< index of the smallest that some verdict finds; their count: none
  std::string by;                    ///< trial, or function of the element tests, that finds it
  [[nodiscard]] bool found() const { return found_from < amounts.size(); }
};

struct Coverage {
  std::vector<CoverageRow> rows;
  long long trials = 0;               ///< that were replayed for each mistake until one found it
  long long of = 0;                   ///< that there are
  std::vector<std::string> left_out;  ///< trials that fail as the case stands
  bool interrupted = false;
  /// Of all mistakes, each amount by itself.
  [[nodiscard]] long long mistakes() const;
  [[nodiscard]] long long found() const;
  [[nodiscard]] double share() const;
};

struct CoverageOptions {
  int workers = 1;
  std::string only;            ///< devices and settings with this in "R1 phase1 pickup"
  long long most_trials = 60;  ///< of the sweeps, evenly chosen; trials of the case come on top
  const std::atomic<bool>* stop = nullptr;
  std::function<void(long long done, long long all)> report;  ///< from one thread at a time
};

/// Replays trials and sweeps of a case, relays in this process. Throws Error when no trial passes as it
/// stands.
[[nodiscard]] Coverage coverage_of(const Case& all, const CoverageOptions& options);
/// Repeats the element tests of a relay.
[[nodiscard]] Coverage coverage_of(const protection::RelaySettings& approved, const InjectionOptions& how,
                                   const CoverageOptions& options);

}  // namespace zavrek::trial
