// Element tests: quantities straight to a relay, without a network, and what its settings say it should do.
#pragma once

#include <atomic>
#include <cmath>
#include <filesystem>
#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "zavrek/bench/account.hpp"
#include "zavrek/pace.hpp"
#include "zavrek/protection.hpp"
#include "zavrek/record.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial {

/// What is injected while a state lasts: phasors at the places of the relay, in the values of its settings,
/// at the frequency of each, which moves by its `frequency_rate`.
struct Stimulus {
  protection::Measured measured;
  /// Samples of each place instead, in primary values; the last stays.
  std::shared_ptr<const std::vector<std::vector<protection::Sample>>> played;
  /// The same with second and fifth harmonics in every current, as shares of it.
  [[nodiscard]] Stimulus with_harmonics(double second, double fifth) const;
  /// The same a third of a turn later: what was phase a is phase b, `times` over.
  [[nodiscard]] Stimulus in_next_phase(int times) const;
};

/// One quantity by which a function is tested, and how it looks at the terminals.
struct Probe {
  std::string function;
  std::string quantity;  ///< "phase current", "residual current" ...
  std::string unit;
  double threshold = 0;  ///< in the values of the settings
  bool operates_above = true;
  double drop_off = 1;  ///< threshold for falling back, over the one for starting
  Stimulus before;
  std::function<Stimulus(double)> at;
  double measuring_s = 0.03;  ///< that a device may take to see it
  /// Where the quantity stands in one phase, pair or loop at a time: "A", "A-B" or "B-C", and how it looks
  /// there.
  struct Single {
    std::string where;
    std::function<Stimulus(double)> at;
  };
  std::vector<Single> singles;
  /// Of one that looks a way: the current turned by so much from where it looks most clearly.
  std::function<Stimulus(double, double turn_rad)> turned;
};
/// The probe of a function; empty for those that one steady quantity cannot test.
[[nodiscard]] std::optional<Probe> probe_of(const protection::RelaySettings& settings,
                                            const protection::FunctionSettings& function,
                                            double frequency_Hz);

/// A fault seen as an impedance: loop "A-E" or "B-C".
[[nodiscard]] Stimulus impedance_stimulus(const protection::RelaySettings& settings,
                                          const protection::Zone& zone, bool earth, protection::Phasor ohm,
                                          double frequency_Hz);
/// Differential and restraining current, of the rated ones, on all three phases of two places.
[[nodiscard]] Stimulus differential_stimulus(const protection::RelaySettings& settings,
                                             const protection::Differential& function, double differential,
                                             double restraint, double frequency_Hz);

struct InjectionPlan;

/// How far the tests of a relay have come.
struct InjectionProgress {
  std::string at;         ///< function or sequence at hand
  std::size_t done = 0;   ///< functions or sequences
  std::size_t total = 0;  ///< of them
  std::size_t points = 0, failed = 0;
  double injected_s = 0;
  double spent_s = 0;
  /// As long as each of those that are done took.
  [[nodiscard]] double left_s() const {
    return done > 0 ? spent_s / static_cast<double>(done) * static_cast<double>(total - done) : 0;
  }
};

struct InjectionOptions {
  std::string place = "plant";  ///< "plant": the relay in this process; "process"; "outside"
  std::string interface = "lo";
  std::string medium = "automatic";
  std::filesystem::path relay_program;
  std::string name = "R1";  ///< of the device and its GOOSE
  int goose_appid = 1;
  int stream_appid = 0x4000;  ///< of its first place; further places follow
  double frequency_Hz = 50;
  std::string only;                                    ///< functions with this in their name
  std::vector<std::string> tolerance{"5 %", "30 ms"};  ///< of times; the greater holds
  double value_tolerance = 0.02;  ///< of thresholds, and of the values at which times are expected
  double accurate_above = 1.2;    ///< multiple of pickup from which on inverse times are judged
  int rays = 24;                  ///< of a boundary
  double longest_s = 120;         ///< points expected to take longer are left out
  double longest_rest_s = 60;     ///< that a device elsewhere is given between two points, to forget
  bool explain = true;            ///< look for what would explain points that failed
  /// What to inject instead of what the settings propose (injection_plan.hpp); it must outlive the call.
  const InjectionPlan* plan = nullptr;
  /// Once true nothing more is injected; the report holds what was tried to its end.
  const std::atomic<bool>* stop = nullptr;
  std::function<void(const InjectionProgress&)> report = {};  ///< called behind each thing tried
};

/// One thing tried on a device.
struct InjectedPoint {
  std::string function;
  std::string
      test;  ///< "time", "timer", "no operation", "pickup", "drop-off", "restraint", "reset ratio", ...
  std::string quantity;  ///< "phase current 840 A"
  double value = 0;      ///< of the probe
  std::string by;        ///< function that operates first, by the settings
  double expected = 0;   ///< s, or the unit of the probe; infinite: never
  double low = 0, high = 0;
  double measured = std::numeric_limits<double>::infinity();
  std::string unit = "s";
  double uncertain = 0;  ///< by which `measured` may be off: samples and decisions, or the step of a search
  bool judged = true;
  bool passed = false;
  /// Whether it could be the other way round within what is uncertain.
  [[nodiscard]] bool at_edge() const {
    return std::isfinite(measured) &&
           (std::abs(measured - low) <= uncertain || std::abs(measured - high) <= uncertain);
  }
};

/// A characteristic searched along rays.
struct Boundary {
  std::string function;
  std::string plane;  ///< "A-E", "B-C" or "differential"
  struct Ray {
    protection::Phasor expected, measured, low, high;  ///< ohm, or restraint + j differential
    bool found = false, passed = false;
  };
  std::vector<Ray> rays;
  std::vector<protection::Phasor> outline;       ///< as set, finer than the rays
  std::vector<protection::Phasor> inner, outer;  ///< the band of tolerance along that; empty where not known
  [[nodiscard]] bool passed() const;
  /// Largest deviation over the tolerance.
  double worst = 0;
};

struct InjectionReport {
  protection::RelaySettings settings;  ///< that it was judged by
  std::string medium;
  std::vector<InjectedPoint> points;
  std::vector<Boundary> boundaries;
  std::vector<std::string> warnings;
  std::string failure;              ///< why it ended early
  bool interrupted = false;         ///< InjectionOptions::stop ended it
  std::vector<Explanation> causes;  ///< that would explain what failed, the likeliest first
  double injected_s = 0;
  std::vector<bench::Account> accounts;  ///< of the ports
  pace::Punctuality kept;                ///< to real time
  double step_s = 0;
  [[nodiscard]] bool passed() const;
};

/// Tests a relay that runs with `settings` (in `file`, when it is a process of its own) against `approved`:
/// trip times of the composite at points proposed from the settings, pickup and drop-off, reset, and the
/// boundaries of zones and differentials; or what a plan says. Throws Error for settings or a plan that
/// cannot work.
[[nodiscard]] InjectionReport inject(const protection::RelaySettings& settings,
                                     const protection::RelaySettings& approved,
                                     const std::filesystem::path& file, const InjectionOptions& options);

/// Currents and voltages of a record, as the samples of a relay's places.
struct Playback {
  std::string name;
  std::vector<std::vector<protection::Sample>> places;  ///< 80 in a cycle, primary
  double trigger_s = 0;                                 ///< from which times count
  double frequency_Hz = 50;

  /// So many times, one behind the other.
  void repeat(int times);
};
/// The channels of a record whose names begin so, "CT1.i" for "CT1.ia" and its likes, or "IL1, IL2, IL3" by
/// name, either with a factor ("CT1.i * 400"), one of each for every place; the first three in A and the
/// first three in V when both are empty, zero where there are no voltages. Values between samples are
/// interpolated. Throws Error that names what is missing, or a record with less than 16 samples in a cycle.
[[nodiscard]] Playback playback_of(const record::Record& record, const std::vector<std::string>& currents,
                                   const std::vector<std::string>& voltages);
/// Plays it to a relay, and compares each of its outputs with what the approved settings say.
[[nodiscard]] InjectionReport play_back(const Playback& playback, const protection::RelaySettings& settings,
                                        const protection::RelaySettings& approved,
                                        const std::filesystem::path& file, const InjectionOptions& options);

/// Values at which a stage should be tried: where it operates first in the composite, at the value itself and
/// at that share above and below it; several for a curve, two for a definite time. Empty when it never does.
[[nodiscard]] std::vector<double> proposed_values(const protection::RelaySettings& settings,
                                                  const protection::FunctionSettings& function,
                                                  const Probe& probe, double longest_s,
                                                  double value_tolerance = 0.02);

}  // namespace zavrek::trial
