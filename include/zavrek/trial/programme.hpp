// Programmes: sweeps of hundreds and thousands of trials, unattended, their results in a database as they
// come.
#pragma once

#include <atomic>
#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/pace.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial {

/// How many trials a sweep has.
[[nodiscard]] std::size_t size_of(const Sweep& sweep);
/// Along how many axes it moves: fields that change together are one.
[[nodiscard]] std::size_t axes_in(const Sweep& sweep);

/// Fields that are varied, each with its value.
using SweptFields = std::vector<std::pair<std::string, std::string>>;
/// Those of one trial, counted from 0.
[[nodiscard]] SweptFields fields_of(const Sweep& sweep, std::size_t index);
/// Those at a place of each axis, 0 to 1.
[[nodiscard]] SweptFields fields_at(const Sweep& sweep, const std::vector<double>& places);

/// One trial of a sweep, and the case that it runs in.
struct SweptTrial {
  Case all;
  Trial trial;
  SweptFields fields;  ///< those varied, with their values
};
[[nodiscard]] SweptTrial swept_trial(const Case& all, const Sweep& sweep, const SweptFields& fields);
/// `index` counts from 0. The same sweep gives the same trials, whatever the order they are asked for. Throws
/// Error that names the field when one is unknown or a value does not fit.
[[nodiscard]] SweptTrial swept_trial(const Case& all, const Sweep& sweep, std::size_t index);

/// Names the network that a trial of a sweep runs in: trials with the same name differ in what is done alone
/// (inception, duration, resistance of the fault, the trial's own fields), so that one compiled plant serves
/// them.
[[nodiscard]] std::string network_of(const Sweep& sweep, const SweptFields& fields);
[[nodiscard]] std::string network_of(const Sweep& sweep, std::size_t index);

/// A trial of a programme as its database keeps it.
struct StoredTrial {
  long long number = 0;  ///< over all sweeps, from 1
  std::string sweep;
  std::string name;
  SweptFields fields;
  std::string failure;
  bool passed = false;
  double fault_current_A = 0;
  double simulated_s = 0, spent_s = 0;
  pace::Punctuality kept;  ///< to real time
  std::string record;      ///< stem of its files, relative to the database's folder; empty when not kept
  std::string unwritten;   ///< why its record could not be written; not stored
  std::vector<Verdict> verdicts;
  std::vector<Explanation> findings;  ///< what would explain its failure
};

/// What would explain what failed.
struct Finding {
  std::string text;
  long long explained = 0;
  long long of = 0;  ///< verdicts, passed ones too, that it was held against; 0 where it is counted over the
                     ///< trials that failed
};

/// Results of a programme in an SQLite file, one transaction for each trial, so that a killed run loses at
/// most the trials under way. One process writes at a time.
class Results {
 public:
  /// Opens or makes `file`. Throws Error when it cannot, or when it holds another programme than the one with
  /// `fingerprint` (any, when that is empty).
  Results(const std::filesystem::path& file, const std::string& fingerprint);
  ~Results();
  Results(const Results&) = delete;
  Results& operator=(const Results&) = delete;

  void put(const StoredTrial& trial);
  [[nodiscard]] std::vector<long long> numbers() const;
  [[nodiscard]] std::vector<StoredTrial> all() const;
  [[nodiscard]] std::string fingerprint() const;
  /// The least that a verdict of one trial has left of its tolerance, as `least_left`; empty where there is
  /// none.
  [[nodiscard]] std::optional<double> left_of(long long number) const;
  /// How many trials a sweep of the programme has, in all shards together.
  void plan(const std::string& sweep, long long trials);
  /// Of all sweeps that were planned, here or in what was merged.
  [[nodiscard]] long long planned() const;
  /// What would explain what failed in the whole, the likeliest first.
  void put_causes(const std::vector<Finding>& causes);
  [[nodiscard]] std::vector<Finding> causes() const;
  /// Takes over the trials of another database of the same programme that are not here yet; their count.
  long long merge(const std::filesystem::path& other);

 private:
  struct Handle;
  std::unique_ptr<Handle> handle_;
};

struct ProgrammeOptions {
  RunOptions run;
  int workers = 1;                  ///< trials at a time; one when a device is not in this process
  std::filesystem::path folder;     ///< of results.sqlite and of the records kept
  std::string only;                 ///< sweeps with this in their name
  long long shard = 1, shards = 1;  ///< every `shards`-th trial, from this one on
  std::string keep = "failures";    ///< records: "failures", "all", "none"
};

struct Progress {
  long long total = 0;   ///< of this shard
  long long before = 0;  ///< found in the database
  long long done = 0;    ///< now
  long long failed = 0;  ///< now
  double spent_s = 0, simulated_s = 0;
  [[nodiscard]] double left_s() const {
    return done > 0 ? spent_s / static_cast<double>(done) * static_cast<double>(total - before - done) : 0;
  }
};

/// Runs what the database does not hold yet. `report` is called after each trial, from one thread at a time.
/// Throws Error for sweeps that cannot be expanded.
Progress run_programme(const Case& all, const ProgrammeOptions& options,
                       const std::function<void(const Progress&, const StoredTrial&)>& report = {});
/// The least that any verdict of a trial has left of its tolerance: below 0 where one failed; empty where
/// none has a tolerance and all passed.
[[nodiscard]] std::optional<double> least_left(const StoredTrial& trial);

/// What explains most of the trials that failed, by what each of them found, and how many of them, the
/// likeliest first. Of a factor, the one that explains most.
[[nodiscard]] std::vector<Finding> findings_of(const std::vector<StoredTrial>& trials);
/// What would explain the verdicts of a whole programme: those of some trials that failed, by the records
/// kept in `folder`, and of some that passed, which are run once more. Empty where no record was kept.
[[nodiscard]] std::vector<Finding> causes_of_programme(const Case& all,
                                                       const std::vector<StoredTrial>& trials,
                                                       const std::filesystem::path& folder);
/// Tells one programme from another: case, sweeps, network, settings.
[[nodiscard]] std::string fingerprint_of(const Case& all);

}  // namespace zavrek::trial
