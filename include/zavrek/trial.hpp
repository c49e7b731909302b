#pragma once

#include <atomic>
#include <cmath>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::trial {

using bench::Bench;
using bench::Device;
using bench::RunOptions;
using bench::Stream;
using network::Table;
using network::unset;

/// A fault with its timing.
struct Disturbance {
  network::Fault fault;
  double inception_rad = 0;  ///< of the faulted voltage, from its rising zero
  double lasts_s = 1;
  double after_s = 0;  ///< of a fault that joins a first one: how much later it strikes
};
const Table& table(const Disturbance*);

/// Something that is done while the trial runs: exactly one of its texts (`to` goes with `set`).
struct Operation {
  double at_s = 0;   ///< from the inception of the fault; without one, from the end of `prefault`
  std::string open;  ///< breaker, disconnector, earthing switch
  std::string close;
  std::string set;       ///< knob, such as "motor.load_torque"
  std::string to;        ///< its new value, with its unit
  std::string shorted;   ///< gate of a valve that conducts for good from then on
  std::string dead;      ///< gate of a valve that obeys it no more
  std::string lost;      ///< gate whose pulses do not arrive any more
  std::string late;      ///< gate whose pulses arrive late
  double by_s = 5e-6;    ///< how late
  std::string restored;  ///< gate that gets its pulses again
};
const Table& table(const Operation*);

/// What must hold. Times count from the inception of the fault (without one, from the end of `prefault`).
struct Expectation {
  std::string device;
  std::string output = "trip";
  std::string time;                                    ///< "from settings" or a time
  std::vector<std::string> tolerance{"5 %", "30 ms"};  ///< the greater one holds
  double value_tolerance = 0;  ///< share by which the currents that a time follows from may be measured wrong
  std::vector<std::string> window;  ///< earliest and latest
  bool never = false;
  std::string before;   ///< "DEVICE.OUTPUT" that must not rise sooner
  int times = 0;        ///< how often the output rises in all; 0 for any
  std::string breaker;  ///< switch, contactor, contact or other two-state point that opens, or goes off
  double open_before_s = unset;
  std::vector<std::string> closes_between;  ///< earliest and latest time at which it is closed again
  std::string signal;                       ///< of the plant
  std::string measure = "rms";              ///< what of it is judged (record/measure.hpp)
  double frequency_Hz = unset;              ///< of its fundamental, when that is not the network's
  double from_s = 0;                        ///< window of the measure
  double until_s = unset;                   ///< end of the run when unset
  std::vector<std::string> between;         ///< least and greatest value, with units
  double settles_before_s = unset;  ///< when set, the measure must enter that band for good before this
};
const Table& table(const Expectation*);

struct Trial {
  std::string name;
  double prefault_s = 0.2;
  double postfault_s = 0.2;
  /// Where devices are elsewhere: how far the computer may hold the run, or one of its own devices, back
  /// behind the clock for the trial to be judged; half of the least tolerance of its expectations when
  /// unset.
  double held_back_s = network::unset;
  std::optional<Disturbance> fault;
  std::vector<Disturbance> evolves;  ///< faults that join it; at its place unless they name their own
  std::vector<Operation> operate;
  std::vector<Expectation> expect;
};
const Table& table(const Trial*);

/// One field of a sweep and the values that it takes: listed, or `steps` of them evenly from `from` to `to`.
struct Vary {
  std::string
      field;  ///< "fault.at", "trial.prefault", "network.step", or one of an element: "grid.short_circuit"
  std::vector<std::string> values;
  std::string from, to;
  int steps = 5;
  std::string together;  ///< fields with the same word here change together, not against each other
};
const Table& table(const Vary*);

/// A trial repeated with other values in some of its fields, or in those of the network.
struct Sweep {
  std::string name;
  std::string combine = "full";  ///< every value with every other; "paired": all change together; "random"
  int count = 100;               ///< of a random sweep, or of a search
  int seed = 1;
  std::string search = "none";  ///< "least margin": looks for the values at which a verdict has least left
  std::vector<Vary> vary;
  Trial trial;
};
const Table& table(const Sweep*);

/// Where the parts of a case stand, relative to its folder.
struct CaseFiles {
  std::string base;  ///< folder of the case from which everything but the trials is taken
  std::string network = "network.toml";
  std::string bench = "bench.toml";
  std::vector<std::string> trials{"trials.toml"};
  std::vector<std::string> control{"control.toml"};
  double step_s = network::unset;  ///< in place of the network's own
  double least_coverage = 0;       ///< share of mistakes that its trials shall find
  std::string place, tested_by;    ///< for reports
};
const Table& table(const CaseFiles*);

/// A setup and what is tried on it.
struct Case : bench::Setup {
  std::vector<Trial> trials;
  std::vector<Sweep> sweeps;
  double least_coverage = 0;     ///< share of mistakes that they shall find
  std::string place, tested_by;  ///< for reports

  // Compiled once: to copy all kinds of them costs every other source seconds.
  Case();
  Case(const Case&);
  Case(Case&&) noexcept;
  Case& operator=(const Case&);
  Case& operator=(Case&&) noexcept;
  ~Case();
};

[[nodiscard]] bool has_control(const Case& all);

/// Throws Error when the control of the case cannot be wired to its plant: an unknown signal, gate, knob or
/// breaker, an algebraic loop, periods that do not fit.
void check_control(const Case& all, const emt::Plant& plant);
/// Knobs of the control, each with its unit behind a space where it has one.
[[nodiscard]] std::vector<std::string> control_knobs(const Case& all, const emt::Plant& plant);

/// How late the control may run because its period is no multiple of the step; 0 when it is.
[[nodiscard]] double control_lateness_s(const Case& all, const emt::Plant& plant);

/// References and values that do not hold together across the parts of a case.
[[nodiscard]] std::vector<Flaw> validate(const Case& all);

/// One expectation judged.
struct Verdict {
  std::string expectation;  ///< "R1 trip", "Q1 open"
  std::string expected;     ///< "0.612 s +/- 31 ms (stage phase1)"
  std::string measured;     ///< "0.618 s", "none"
  std::string margin;       ///< how much was left of the tolerance; negative when exceeded
  bool passed = false;
  double value = unset;      ///< what was measured, in SI units; from the inception when it is a time
  double left = unset;       ///< margin over the tolerance: 1 in its middle, 0 at its edge
  std::string held_back;     ///< trips that a condition of the settings kept away, and what made it hold
  std::string doubt;         ///< why it proves less than it says; empty where nothing is known
  double spare = unset;      ///< margin, in the units of `value`
  double uncertain = unset;  ///< by which `value` may be off: step, samples, decisions, lateness; resolution
  /// Whether it could be the other way round within what is uncertain.
  [[nodiscard]] bool at_edge() const { return network::is_set(spare) && std::abs(spare) <= uncertain; }
};

/// What would explain that a device did not do what its approved settings say, or what else is to be known
/// about a trial that failed.
struct Explanation {
  /// "R1 behaves as if ..."; "{}" stands for the factor, "{ms}" for the size of something added, in that
  /// unit, when there is one.
  std::string text;
  double low = 0, high = 0;   ///< amounts that would explain it; both 0 when there is none
  double best = 0;            ///< the one of them that fits best; 0 where that is not known
  int explained = 0, of = 0;  ///< observations of the device that it explains, those that passed too
  /// Factors are looked for between these.
  static constexpr double least = 0.2, most = 5;
  [[nodiscard]] bool has_amount() const { return high > 0; }
  /// The text with its amount.
  [[nodiscard]] std::string words() const;
};

struct TrialResult {
  std::string name;
  std::vector<Verdict> verdicts;
  std::string failure;       ///< why the trial could not be carried through; empty otherwise
  bool interrupted = false;  ///< it was ended early by RunOptions::stop
  std::string not_judged;    ///< why nothing of it proves anything; empty otherwise
  int repeats = 0;           ///< runs before this one that could not be judged
  record::Record record;
  std::shared_ptr<record::RowFile> rows;  ///< its samples, where they are on disk
  double inception_s = 0;
  double fault_current_A = 0;  ///< rms of the largest phase, one cycle that starts two cycles after inception
  std::string medium;          ///< how frames travelled; empty when none did
  pace::Timing timing;
  std::vector<bench::Account> accounts;  ///< of the ports
  double step_s = 0;
  std::vector<std::string> notes;    ///< of the compiler
  std::vector<std::string> remarks;  ///< of the run: steps that met their bound or had more to do than others
  /// What would explain what failed: "R1 behaves as if ...".
  std::vector<Explanation> findings;
  [[nodiscard]] bool passed() const;
};

/// The network of `all` with the faults of `trial` alone: "fault", then "fault2" and so on for those that
/// join it.
[[nodiscard]] network::Network network_with_faults(const Case& all, const Trial& trial);
/// Their closing and opening, for a first inception at `inception_s`.
[[nodiscard]] std::vector<emt::ScheduledCommand> fault_commands(const Trial& trial, double inception_s);

/// The network of `all` as a study, with the faults of `trial` (and nothing else that its devices would do);
/// without one when `trial` is null. `duration_s` replaces the trial's own when positive.
[[nodiscard]] emt::Study study_of(const Case& all, const Trial* trial, double duration_s);
/// Throws Error with the nearest known name.
[[nodiscard]] const Trial& find_trial(const Case& all, const std::string& name);
[[nodiscard]] record::Record record_of(const emt::Series& series, const Case& all, double trigger_s);

/// Whether every trial, and the first of every sweep, can be carried out: its network compiles, what it
/// operates and judges is there, values and bands have the right dimension. Throws Error with all that is
/// wrong. Returns the compiler's notes but those that are `known`.
std::vector<std::string> check_trials(const Case& all, const std::vector<std::string>& known = {});

/// Judges a record by the settings of a case: fills verdicts and the fault current of `result`, whose
/// inception stands. `ended_s` is when the run ended.
void judge_record(const Case& all, const Trial& trial, const record::Record& record, double ended_s,
                  TrialResult& result);
/// Adds to its findings what would explain the verdicts that failed.
void explain_failures(const Case& all, const Trial& trial, const record::Record& record, double ended_s,
                      TrialResult& result);

/// A trial that was judged, and the case that it ran in.
struct JudgedResult {
  const Case* all;
  const Trial* trial;
  const TrialResult* result;
};
/// Of all that the devices of these trials did, passed or not: what would explain it, the likeliest first.
[[nodiscard]] std::vector<Explanation> likely_causes(const std::vector<JudgedResult>& results);
/// The same for trials of one case.
[[nodiscard]] std::vector<Explanation> likely_causes(const Case& all,
                                                     const std::vector<TrialResult>& results);

/// A device that is outside, and neither started nor tripped in a trial where it should not, has shown
/// nothing: such verdicts are in doubt, unless it started in another of these trials.
void doubt_silent_devices(const Case& all, const RunOptions& how, std::vector<TrialResult>& results);

/// Judges a record that was kept, of this trial or of the real thing. Without the instants of events in it,
/// two-state channels tell them to a sample, and the fault strikes at the trigger. Throws Error for a channel
/// that is wanted and not there.
[[nodiscard]] TrialResult judge_again(const Case& all, const Trial& trial, record::Record record,
                                      bool explain = true);

/// Runs a case undisturbed for `duration_s`, or, where that is 0, until RunOptions::stop is set. The record
/// holds the latest `kept_s`, or, where RunOptions::rows_in is set, all, on disk. What is operated counts its
/// times from the begin.
[[nodiscard]] TrialResult run_undisturbed(const Case& all, double duration_s, double kept_s,
                                          const RunOptions& options,
                                          const std::vector<Operation>& operations = {});
/// An operation in one line, behind its time: "0.2 s: open Q1", "0.3 s: load.active = 2 MW", "1 s: shorted
/// B1.a_upper". Throws Error for another form.
[[nodiscard]] Operation operation_of(const std::string& text);
/// Where rows of the records lie between steps, and so are read off straight lines; empty where they do not.
[[nodiscard]] std::string rows_between_steps(const Case& all, double step_s);
/// Runs one trial from a fresh plant with fresh devices; again where the computer held it back too far to be
/// judged, RunOptions::most_repeats times at most. A device that dies or falls silent fails the
/// trial, it does not throw. Throws Error only for a case that cannot be compiled.
[[nodiscard]] TrialResult run_trial(const Case& all, const Trial& trial, const RunOptions& options);

}  // namespace zavrek::trial
