#pragma once

#include <complex>
#include <functional>
#include <limits>
#include <string>
#include <vector>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

/// Something that opens or closes at an instant, a knob that is turned then, or a valve that fails.
struct ScheduledCommand {
  double at_s = 0;
  std::string operable;  ///< breaker or fault; empty for a knob
  bool close = false;
  std::string knob = {};
  double value = 0;        ///< of the knob, in SI units; how late pulses are
  std::string fails = {};  ///< gate of the valve
  Failure how = Failure::none;
};

/// Carries commands out while a plant runs, each ahead of the step that its instant lies in: only then do
/// interlocking and positions count as they stand. The plant keeps the instants of openings and closings.
class Commander {
 public:
  /// Throws Error with the nearest name for one that the plant does not know.
  Commander(Plant& plant, const std::vector<ScheduledCommand>& commands);
  /// Call it ahead of each step.
  void turn_due(Plant& plant) noexcept;
  /// When the next command is due, infinite behind the last.
  [[nodiscard]] double next_due_s() const noexcept {
    return next_ < turns_.size() ? turns_[next_].at_s : std::numeric_limits<double>::infinity();
  }

 private:
  struct Turn {
    double at_s;
    KnobId knob;
    double value;
    GateId gate;  // fails when it is one
    Failure how;
    OperableId operable = {};  // opens or closes when it is one
    bool close = false;
  };
  std::vector<Turn> turns_;  // by time
  std::size_t next_ = 0;
};

/// What to calculate: the same for the fixed step and for the reference.
struct Study {
  network::Network network;
  std::vector<ScheduledCommand> commands;
  double duration_s = 0.1;
  double sample_s = 50e-6;           ///< between the samples of the result
  std::vector<std::string> signals;  ///< all when empty
  /// A control: called at each of its instants, `drive_period_s` apart from 0 on, with what calculates the
  /// plant. Its handles are those of any plant compiled from the network. Made anew for each calculation.
  std::function<std::function<void(ControlledPlant&)>()> drive{};
  double drive_period_s = 0;
};

/// Samples of signals at even instants from 0 on.
struct Series {
  std::vector<double> time_s;
  std::vector<std::string> names, units;
  std::vector<std::vector<double>> values;  ///< per signal
  long long steps = 0;                      ///< that the calculation took
  bool interrupted = false;                 ///< it was ended early; holds the samples up to there
};

/// The plant with its fixed step (`step_s`, or the network's when 0); samples between grid points are
/// interpolated. Throws Error when it diverges.
[[nodiscard]] Series simulate(const Study& study, double step_s = 0);

/// The network's own differential-algebraic equations, solved with variable step and order (backward
/// differentiation formulas of SUNDIALS IDA) to the relative tolerance; converters are switched, whatever
/// their depth. Throws Error naming what it cannot
/// follow: an element without continuous equations, or a loop of capacitances.
[[nodiscard]] Series solve_reference(const Study& study, double relative_tolerance = 1e-8);

/// How the reference goes about it.
struct ReferenceOptions {
  double relative_tolerance = 1e-8;
  /// Steps at most, and at most for a microsecond of the study: beyond either it throws an Error that names
  /// what is stiff.
  long long most_steps = 20'000'000, most_steps_per_us = 200'000;
  /// Asked now and then with the simulated time and the steps so far; false ends the calculation.
  std::function<bool(double time_s, long long steps)> goes_on{};
};
[[nodiscard]] Series solve_reference(const Study& study, const ReferenceOptions& options);

/// A mode of the network at rest, e^(s t).
struct Mode {
  std::complex<double> s;  ///< 1/s
  std::string where;       ///< bus or element that takes the largest part in it
};

/// All oscillating or decaying modes of the network with its switches as they stand at the start, lines of
/// travelling waves taken as what they are at either end, fastest first. Machines stand still in their steady
/// state.
[[nodiscard]] std::vector<Mode> modes(const network::Network& network);

}  // namespace zavrek::emt
