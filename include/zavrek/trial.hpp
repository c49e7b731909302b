#pragma once

#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/emt/study.hpp"
#include "zavrek/network.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/protection.hpp"
#include "zavrek/record.hpp"
#include "zavrek/wire.hpp"

namespace zavrek::trial {

using network::Table;
using network::unset;

/// A merging unit: the currents of a CT and the voltages of a VT as one stream of samples, 80 per cycle.
struct Stream {
  std::string name;
  std::string ct;
  std::string vt;
  int appid = 0x4000;
};
const Table& table(const Stream*);

/// A relay and how it is connected.
struct Device {
  std::string name;
  std::string place = "process";    ///< "plant": same process; "process": own process, started by the run;
                                    ///< "outside": already there, on the interface
  std::string settings;             ///< file, relative to the case: what a stand-in runs with
  std::string approved;             ///< file with the settings it should have; `settings` when empty
  std::vector<std::string> reads;   ///< streams, one for each of its places
  std::vector<std::string> trips;   ///< breakers that its trip opens
  std::vector<std::string> opens;   ///< "BREAKER: OUTPUT"
  std::vector<std::string> closes;  ///< "BREAKER: OUTPUT"
  std::vector<std::string> inputs;  ///< "NAME: DEVICE.OUTPUT" or "NAME: BREAKER", on while that is closed
  int appid = 1;                    ///< of its GOOSE
  std::string current_wiring = "straight";   ///< a fault in the wiring to a relay in the plant's process
  double current_factor = 1;                 ///< a wrong ratio in front of it
  protection::RelaySettings relay;           ///< from `settings`
  protection::RelaySettings approved_relay;  ///< from `approved`; expectations follow these
};
const Table& table(const Device*);

/// What stands between plant and devices.
struct Bench {
  std::string interface = "lo";
  std::string medium = "automatic";  ///< "automatic", "raw" or "datagram"
  std::vector<std::string> record;   ///< further plant signals to record
  /// Contacts that people operate, "remote" or "remote: closed"; devices read them as "bench.remote", trials
  /// set them to 0 or 1.
  std::vector<std::string> contacts;
  int points_per_cycle = 80;  ///< of the records; a multiple of 80, the rate of the streams
  std::vector<Stream> streams;
  std::vector<Device> devices;
  std::string control = "plant";  ///< "plant": blocks in the plant's process; "process": in one of their own,
                                  ///< started by the run; "outside": already there, at `control_port`
  int control_port = 0;           ///< of this computer; 0 for any when the run starts the process
  int control_delay = 1;  ///< periods from what the control saw to what it does, when not in the plant
};
const Table& table(const Bench*);

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
  std::string before;  ///< "DEVICE.OUTPUT" that must not rise sooner
  int times = 0;       ///< how often the output rises in all; 0 for any
  std::string breaker;
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
  int count = 100;               ///< of a random sweep
  int seed = 1;
  std::vector<Vary> vary;
  Trial trial;
};
const Table& table(const Sweep*);

/// Where the parts of a case stand, relative to its folder.
struct CaseFiles {
  std::string network = "network.toml";
  std::string bench = "bench.toml";
  std::string trials = "trials.toml";
  std::string control = "control.toml";
};
const Table& table(const CaseFiles*);

/// Everything a run needs.
struct Case {
  std::filesystem::path folder;
  network::Network network;
  control::Description control;
  Bench bench;
  std::vector<Trial> trials;
  std::vector<Sweep> sweeps;
  control::OwnMaker own_code;  ///< gives the classes that `own` blocks name by `code`; set by a program
};

/// Gives the code of `own` blocks: libraries in the folder of the case, and the program's own.
[[nodiscard]] control::OwnMaker own_maker(const Case& all);
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

struct RunOptions {
  /// Overrides every device's place when not empty: "plant" runs the relays in this process.
  std::string place;
  /// Overrides the interface of the bench when not empty.
  std::string interface;
  /// Free when every device is in the plant's process and this is set; else paced to the wall.
  bool free = false;
  /// Program that has the verb `relay`; needed for devices of place "process".
  std::filesystem::path relay_program;
  /// Threads that share each step, where the network falls into parts that allow it.
  int cores = 1;
};

/// One expectation judged.
struct Verdict {
  std::string expectation;  ///< "R1 trip", "Q1 open"
  std::string expected;     ///< "0.612 s +/- 31 ms (stage phase1)"
  std::string measured;     ///< "0.618 s", "none"
  std::string margin;       ///< how much was left of the tolerance; negative when exceeded
  bool passed = false;
  double value = unset;  ///< what was measured, in SI units; from the inception when it is a time
  double left = unset;   ///< margin over the tolerance: 1 in its middle, 0 at its edge
};

/// What would explain that a device did not do what its approved settings say, or what else is to be known
/// about a trial that failed.
struct Explanation {
  std::string text;          ///< "R1 behaves as if ..."; "{}" stands for the factor when there is one
  double low = 0, high = 0;  ///< factors that would explain it; both 0 when there is none
  /// Factors are looked for between these.
  static constexpr double least = 0.2, most = 5;
  [[nodiscard]] bool has_factor() const { return high > 0; }
  /// The text with its factor.
  [[nodiscard]] std::string words() const;
};

struct TrialResult {
  std::string name;
  std::vector<Verdict> verdicts;
  std::string failure;  ///< why the trial could not be carried through; empty otherwise
  record::Record record;
  double inception_s = 0;
  double fault_current_A = 0;  ///< rms of the largest phase, one cycle that starts two cycles after inception
  std::string medium;          ///< how frames travelled; empty when none did
  pace::Timing timing;
  std::vector<std::string> notes;    ///< of the compiler
  std::vector<std::string> remarks;  ///< of the run: steps that met their bound or had more to do than others
  /// What would explain what failed: "R1 behaves as if ...".
  std::vector<Explanation> findings;
  [[nodiscard]] bool passed() const;
};

/// The network of `all` with the faults of `trial` alone: "fault", then "fault2" and so on for those that
/// join it.
[[nodiscard]] network::Network struck(const Case& all, const Trial& trial);
/// Their closing and opening, for a first inception at `inception_s`.
[[nodiscard]] std::vector<emt::Command> strikes(const Trial& trial, double inception_s);

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

/// Runs one trial from a fresh plant with fresh devices. A device that dies or falls silent fails the
/// trial, it does not throw. Throws Error only for a case that cannot be compiled.
[[nodiscard]] TrialResult run_trial(const Case& all, const Trial& trial, const RunOptions& options);

}  // namespace zavrek::trial
