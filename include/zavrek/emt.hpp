#pragma once

#include <complex>
#include <cstddef>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "zavrek/network.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt {

namespace internal {
class Core;
class Leap;
}  // namespace internal

/// Handle of a signal of one plant.
struct SignalId {
  int index = -1;
};

/// Handle of something that opens and closes: a breaker or a fault.
struct OperableId {
  int index = -1;
};

/// Handle of a gate of valves, such as "bridge.a_upper".
struct GateId {
  int index = -1;
};

/// Handle of a value that may be changed while the plant runs, such as a load torque.
struct KnobId {
  int index = -1;
};

/// `diverged`: a node voltage stopped being finite; `Plant::culprit()` names the node.
enum class Status { running, diverged };

/// How a valve fails. `shorted`: it conducts either way for good; `dead`: it obeys no gate any more (a diode
/// beside it still works); `lost`: its pulses do not arrive; `late`: they arrive later; `none`: it obeys
/// again, unless it is shorted or dead.
enum class Failure { none, shorted, dead, lost, late };

/// A voltage that nothing in the network explains.
struct Excess {
  std::string node;
  double volts = 0;  ///< to ground, the first that was met
  double bound_V =
      0;  ///< twenty times the peak between phases of its bus, of the highest bus for nodes of none
  double at_s = 0;
};

/// What a network compiled to.
struct Summary {
  int buses = 0;
  int nodes = 0;               ///< unknown node voltages
  int known_nodes = 0;         ///< imposed by stiff sources
  int partitions = 0;          ///< solved independently of each other
  int shards = 0;              ///< partitions bundled for a crew: no more cores than that can help
  int largest_partition = 0;   ///< in nodes
  int states = 0;              ///< energy stores: inductor currents, capacitor voltages, line waves
  int switch_nodes = 0;        ///< nodes in the blocks that a switching refactors
  int factor_entries = 0;      ///< numbers read by one solve
  int condensed = 0;           ///< partitions whose solution is a few products, and what joins their switches
  int areas = 0;               ///< of these: each has its product, kept as its breakers and knobs stand
  int junction_nodes = 0;      ///< of these: where valves and bent characteristics stand
  std::size_t made_ahead = 0;  ///< matrices of areas, made before the first step
  std::size_t kept_matrices = 0;   ///< most that are kept
  std::size_t kept_bytes = 0;      ///< memory that these take
  double largest_step_s = 0;       ///< bound set by the shortest line travel time; infinite without lines
  int events_per_step = 0;         ///< most discontinuities located inside one step
  std::vector<std::string> notes;  ///< modelling choices that the compiler made
};

/// Helpers on other cores. Partitions that share nothing within a step are handed to them; how many there are
/// changes no bit of the result.
class StepWorkers {
 public:
  virtual ~StepWorkers() = default;
  /// Calls work(what, k) for each k below `count`, on any of the cores, and returns when all are done. Never
  /// allocates or blocks for long.
  virtual void run(int count, void (*work)(const void* what, int k) noexcept, const void* what) noexcept = 0;
};

/// What a control needs of a plant, whatever calculates it.
class ControlledPlant {
 public:
  virtual ~ControlledPlant() = default;
  [[nodiscard]] virtual double time_s() const noexcept = 0;
  [[nodiscard]] virtual double step_s() const noexcept = 0;
  [[nodiscard]] virtual double value(SignalId signal) const noexcept = 0;
  virtual bool open(OperableId what, double at_s) noexcept = 0;
  virtual bool close(OperableId what, double at_s) noexcept = 0;
  virtual bool fire(GateId gate, bool on, double at_s) noexcept = 0;
  virtual void turn(KnobId knob, double value) noexcept = 0;

 protected:
  ControlledPlant() = default;
  ControlledPlant(const ControlledPlant&) = default;
  ControlledPlant& operator=(const ControlledPlant&) = default;
};

/// A command that interlocking did not let through.
struct Refusal {
  double time_s;  ///< of the command
  OperableId what;
  bool close;
};

/// What steps and commands change of a plant, as it stood at one instant (`Plant::save`).
class PlantState {
 public:
  [[nodiscard]] std::size_t bytes() const noexcept { return bytes_.size(); }
  void reserve(std::size_t bytes) { bytes_.reserve(bytes); }
  void visit_state(StateArchive& archive) { archive(bytes_); }

 private:
  friend class Plant;
  std::vector<std::byte> bytes_;
};

/// A network compiled for one step size. Nothing here allocates after `compile` except `signal_names`.
class Plant final : public ControlledPlant {
 public:
  Plant(Plant&&) noexcept;
  Plant& operator=(Plant&&) noexcept;
  ~Plant() override;

  /// Advances by one step. No allocation, no lock, bounded work.
  [[nodiscard]] Status step() noexcept;

  /// Makes ready for leaps of `steps` steps each, after which the signals watched by now can be read. False
  /// when this network never leaps. Allocates.
  bool ready_leaps(int steps);
  /// Advances by that many steps at once, which costs about one, where nothing can happen in between: no
  /// switching is due, and the network is linear (lines of constant parameters, instrument transformers and
  /// all that is made of resistances, inductances and capacitances; steady sources). False, and nothing
  /// happened, where single steps are called for. Reading a signal that is not watched, and any command,
  /// first makes the steps of the latest leap one by one. The results are those of single steps but for
  /// rounding.
  [[nodiscard]] bool leap() noexcept;

  [[nodiscard]] double time_s() const noexcept override;  ///< of the values that can be read now
  [[nodiscard]] double step_s() const noexcept override;
  [[nodiscard]] long long steps() const noexcept;  ///< done so far
  /// Steps in which more discontinuities stood than `Summary::events_per_step`; the rest waited a step.
  [[nodiscard]] long long steps_at_event_limit() const noexcept;
  /// Discontinuities resolved so far: switchings, commutations, turned knobs.
  [[nodiscard]] long long discontinuities() const noexcept;
  /// States of switches that a condensed partition (`Summary::condensed`) had not made ready before the first
  /// step: the step that stays in one first is longer for it.
  [[nodiscard]] long long matrices_made_in_run() const noexcept;
  /// Looks at the voltages of all nodes as they stand: those beyond any bound that the network's buses allow
  /// are kept, the first instant of each, eight nodes at most. Bounded work, about that of a step; asked once
  /// a cycle it costs nothing. Behind a leap it does nothing.
  void look_over() noexcept;
  [[nodiscard]] std::vector<Excess> excesses() const;
  [[nodiscard]] std::string culprit() const;  ///< node that diverged, empty while running

  /// Throws Error with the nearest known name.
  [[nodiscard]] SignalId signal(std::string_view name) const;
  [[nodiscard]] std::vector<std::string> signal_names() const;
  [[nodiscard]] const std::string& unit(SignalId signal) const noexcept;  ///< "V", "A" or ""
  [[nodiscard]] double value(SignalId signal) const noexcept override;
  /// Several values at once, one into each of `into`.
  void read(std::span<const SignalId> signals, std::span<double> into) const noexcept;
  /// Keeps signals up to date after every step from now on. Signals that are read at every step should be:
  /// one that is not may have to be found first, at the cost of a longer step. All at once takes the time of
  /// one. Allocates.
  void watch(std::span<const SignalId> signals);
  void watch(SignalId signal) { watch({&signal, 1}); }
  /// Peak phasor (of cos) of the steady state at the start, at the frequency of the network.
  [[nodiscard]] std::complex<double> phasor(SignalId signal) const noexcept;

  /// Throws Error with the nearest known name.
  [[nodiscard]] OperableId operable(std::string_view name) const;
  /// In the order of their handles.
  [[nodiscard]] std::vector<std::string> operable_names() const;
  /// Commands at `at_s` of plant time, not before the present. A breaker's own opening or closing
  /// time is added; each pole opens at its first current zero after that. A new command replaces a
  /// pending one of the same kind.
  /// False, and nothing happens, when the interlocking refuses.
  bool open(OperableId what, double at_s) noexcept override;
  bool close(OperableId what, double at_s) noexcept override;

  /// Gives a fault of one or two phases, or of three without ground, another resistance, at least 0 ohm, from
  /// now on: what follows is the same as if it had been compiled with it. False, and nothing happens, where
  /// compile alone can do that: at faults of several phases to ground, whose resistance lies behind their
  /// star point, within condensed parts, and for what is no fault.
  bool set_resistance(OperableId fault, double ohm) noexcept;
  /// Whether it has one that can be set.
  [[nodiscard]] bool has_resistance(OperableId what) const noexcept;

  [[nodiscard]] const std::string& name(OperableId what) const noexcept;
  /// Commands refused so far, the first 256 of them.
  [[nodiscard]] const std::vector<Refusal>& refusals() const noexcept;

  /// Throws Error with the nearest known name.
  [[nodiscard]] GateId gate(std::string_view name) const;
  [[nodiscard]] std::vector<std::string> gate_names() const;
  /// Turns a gate on or off at `at_s` of plant time, not before the present; the instant is kept to the
  /// rounding of a double, wherever in a step it lies. Edges of one gate come in the order of their times; up
  /// to 16 of them wait. False when there was no room.
  bool fire(GateId gate, bool on, double at_s) noexcept override;
  /// Breaks the valves of a gate, from now on; `late_s` is how much later the pulses come.
  void fail(GateId gate, Failure how, double late_s = 0) noexcept;

  /// Throws Error with the nearest known name.
  [[nodiscard]] KnobId knob(std::string_view name) const;
  [[nodiscard]] std::vector<std::string> knob_names() const;
  [[nodiscard]] const std::string& unit(KnobId knob) const noexcept;
  /// Least and greatest.
  [[nodiscard]] std::pair<double, double> bounds(KnobId knob) const noexcept;
  /// Sets a knob, from now on; the value is kept within the knob's bounds. The signal of the same name shows
  /// it.
  void turn(KnobId knob, double value) noexcept override;
  /// The next step begins as behind a discontinuity, though nothing changed: with half steps of backward
  /// Euler.
  void start_anew() noexcept;

  /// Keeps the plant as it stands, its leaps and all that waits (commands, gate edges) included; `into` may
  /// have kept another instant, and then nothing is allocated where it has room. Between two steps; the steps
  /// of the latest leap are made one by one first. Costs about a copy of its values (measured by
  /// benchmarks/state.cpp).
  void save(PlantState& into);
  [[nodiscard]] PlantState save() {
    PlantState state;
    save(state);
    return state;
  }
  /// Goes back (or on) to a state that this plant, a clone of it or another of the same network and step
  /// kept: what follows is the same to the bit as what followed then. Which signals are watched and for how
  /// many steps leaps are ready are no part of the state, and must be as they were. Throws Error when the
  /// state is that of another network. Not within a step; not bounded work.
  void restore(const PlantState& from);
  /// A second plant that stands where this one stands and shares nothing with it. Allocates as compile does,
  /// in a fraction of its time.
  [[nodiscard]] Plant clone() const;

  /// Whether what valves commutated to is remembered and tried first when the same gates change in the same
  /// state again, as it is from the start. It saves solutions and changes no result.
  void remember_commutations(bool remember) noexcept;

  /// Lets a crew help with each step from now on; it must outlive the plant or be taken back with nullptr.
  void share(StepWorkers* crew) noexcept;

  [[nodiscard]] const Summary& summary() const noexcept;

  /// Used by `compile`.
  explicit Plant(std::unique_ptr<internal::Core> core);

 private:
  void replay_since_leap() const noexcept;

  std::unique_ptr<internal::Core> core_;
  std::unique_ptr<internal::Leap> leap_;  // that looks at the core, when there are any
};

/// Names of all signals in volts or amperes.
[[nodiscard]] std::vector<std::string> voltages_and_currents(const Plant& plant);

/// Compiles `network` for its step, or for `step_s` when positive. Throws Error that names the bus or
/// element: a floating bus, two stiff sources on one bus, a zero impedance, a step longer than a
/// line's travel time, or whatever `network::validate` finds.
[[nodiscard]] Plant compile(const network::Network& network, double step_s = 0);

}  // namespace zavrek::emt
