// What a programme, or the element tests of a relay, would find: they are run again with each setting and
// each wire made wrong in the usual ways and amounts.
#pragma once

#include <atomic>
#include <functional>
#include <string>
#include <vector>

#include "zavrek/trial/injection.hpp"
#include "zavrek/trial/mistakes.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {

struct CoverageRow {
  std::string device, what, before;
  std::vector<std::string> amounts;  ///< that were tried, the smallest first
  std::size_t found_from = 0;        ///< index of the smallest that some verdict finds; their count: none
  std::string from;                  ///< the least amount that is found, looked for below that one
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

/// The trials that together find most, and few of them.
struct Choice {
  std::vector<Trial> trials;  ///< of the case's own
  std::vector<Sweep> sweeps;  ///< each as those of its trials that were chosen, all their values together
  long long chosen = 0, of = 0;
  long long found = 0,
            of_found = 0;  ///< mistakes, each amount by itself: by these, by all that were replayed
  double paced_s = 0;      ///< that they take in real time
};
/// Looks at every mistake in every trial that is replayed, and takes at most `most` of them: each time the
/// one that finds most of what none before it does, the shorter of two.
[[nodiscard]] Choice choose_trials(const Case& all, long long most, const CoverageOptions& options);

/// Replays trials and sweeps of a case, relays in this process. Throws Error when no trial passes as it
/// stands.
[[nodiscard]] Coverage coverage_of(const Case& all, const CoverageOptions& options);
/// Repeats the element tests of a relay.
[[nodiscard]] Coverage coverage_of(const protection::RelaySettings& approved, const InjectionOptions& how,
                                   const CoverageOptions& options);

}  // namespace zavrek::trial
