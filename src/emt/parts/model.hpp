// A part with equations of its own, such as a machine. To the network it is, at each instant, n conductances
// and history currents, i = G v + J, with v and i along its n pairs of nodes; between instants it advances
// its states, which stand in slots of the plant's value array, so that going back to a discontinuity takes
// them along.
#pragma once

#include <complex>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include <Eigen/Core>

#include "emt/parts/rule.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

using NodeId = int;  // 0 is ground
inline constexpr NodeId ground_node = 0;

/// A part's terminal pair; its voltage is v[p] - v[q], its current flows from p to q.
struct Ends {
  NodeId p = ground_node;
  NodeId q = ground_node;
};

/// Reference to a value of the running plant other than a node voltage.
struct Slot {
  int index = -1;
};

/// Where a model's numbers stand in the value array.
struct Places {
  std::vector<int> p, q;   // per end
  int first = 0;           // of its slots
  std::vector<int> knobs;  // of the knobs it asked for, in its order
  /// Terms of its inputs: position and coefficient.
  std::vector<std::vector<std::pair<int, double>>> inputs;
  std::vector<std::complex<double>> input_phasors;  // at the start
  [[nodiscard]] double input(std::size_t k, const double* values) const noexcept {
    double sum = 0;
    for (const auto& [position, coefficient] : inputs[k]) sum += coefficient * values[position];
    return sum;
  }
};

/// A stretch of time that a rule spans: half of a step for `half_euler`.
struct Interval {
  Rule rule;
  double step_s;   // of the plant
  double until_s;  // plant time at its end
  double grid_s;   // of the grid point that the step begins at: what a model decides once a step goes by it
  bool beyond = false;  // the third half step behind an event: nothing goes on from there
  [[nodiscard]] double length_s() const { return rule == Rule::trapezoidal ? step_s : step_s / 2; }
};

/// What the reference remembers of a model's slots at the instants that it has accepted.
class Past {
 public:
  virtual ~Past() = default;
  [[nodiscard]] virtual double begins_s() const noexcept = 0;
  /// Remembered slot k at an instant not before that.
  [[nodiscard]] virtual double at(int k, double time_s) const noexcept = 0;
};

/// A model's equations as C knows them: numbers of a row of the struct in written/pieces/law_KIND.c. A kind
/// that ends on a number, such as KIND_3, means the piece for so many (@ in it).
struct WrittenLaw {
  std::string kind;
  std::vector<std::pair<std::string, double>> numbers{};
  std::vector<std::pair<std::string, Eigen::VectorXd>> arrays{};
  std::vector<std::pair<std::string, Eigen::MatrixXd>> matrices{};
  std::vector<std::pair<std::string, std::vector<double>>> lists{};  ///< pointers in C
  /// What it keeps beside its slots, as it starts.
  std::vector<double> memory{};
  bool varies = false;   ///< whether KIND_begin gives the conductances too, of any of its kind
  bool jumps = false;    ///< whether there is a KIND_jumps, as `Model::jumps`; it has a memory
  bool leaps = false;    ///< whether there is a KIND_leap, as `Model::stand_behind`
  std::string shares{};  ///< shared_NAME.c, which stands ahead of its piece, once
};

class Model {
 public:
  virtual ~Model() = default;
  [[nodiscard]] virtual std::unique_ptr<Model> clone() const = 0;
  /// What it remembers beside its slots.
  virtual void visit_state(StateArchive& /*archive*/) {}

  [[nodiscard]] virtual int slots() const = 0;
  /// Slots that hold currents of capacitances: the first and how many.
  [[nodiscard]] virtual std::pair<int, int> charging_slots() const { return {0, 0}; }
  /// Slots of knobs that it reads.
  [[nodiscard]] virtual std::vector<Slot> knobs() const { return {}; }
  /// Whether `conductance` may differ from step to step; if not, it becomes part of the network's own.
  [[nodiscard]] virtual bool varies() const { return false; }
  /// Whether it does so all the time, not only where somebody turns a knob of it.
  [[nodiscard]] virtual bool varies_by_itself() const { return varies(); }
  /// n x n, symmetric, positive semidefinite: at the start.
  [[nodiscard]] virtual Eigen::MatrixXd conductance(double step_s) const = 0;

  /// Whether it only reads: it has no ends, and its slots follow from its inputs and their own past.
  [[nodiscard]] virtual bool measures() const { return false; }

  /// The steady state: n x n admittance at `omega`, with `s` in place of d/dt.
  [[nodiscard]] virtual Eigen::MatrixXcd admittance(std::complex<double> s, double omega) const = 0;
  /// Currents beyond the admittance, at the frequency of the network, for voltages `v` and the same `s`;
  /// asked again until nothing moves any more.
  [[nodiscard]] virtual Eigen::VectorXcd injection(const Eigen::VectorXcd& v, std::complex<double> /*s*/) {
    return Eigen::VectorXcd::Zero(v.size());
  }
  /// Numbers of the steady state that `injection` itself brings nearer to what they should be, each time that
  /// it is asked; about 1 in size.
  [[nodiscard]] virtual std::span<double> steady_unknowns() { return {}; }
  /// Asked once the steady state stands: whether the model changed its admittance (a tap changer moved), so
  /// that all must be solved anew.
  [[nodiscard]] virtual bool revise(const Eigen::VectorXcd& /*v*/, const Eigen::VectorXcd& /*i*/,
                                    double /*omega*/) {
    return false;
  }
  /// Phasors of voltages and currents at the frequency of the network; `values` is the plant's value array,
  /// where its slots want to be filled. All zero for a start from rest.
  virtual void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i,
                     double step_s, double* values) = 0;

  /// Its continuous equations, for the reference: `count` slots from `first` on are states x with dx/dt =
  /// slope(x, v).
  struct States {
    bool known = false;  // whether the model has such equations
    int first = 0, count = 0;
    bool inductive = false;                    // its currents depend on states alone, not on the voltages
    int first_remembered = 0, remembered = 0;  // slots whose past its equations ask for
    bool capacitive = false;                   // its currents depend on the slopes of its voltages
  };
  [[nodiscard]] virtual States states() const { return {}; }
  /// For the summary: energy stores and other states, and the step that must not be exceeded.
  [[nodiscard]] virtual int state_count() const { return states().count; }
  [[nodiscard]] virtual double largest_step_s() const { return 1e300; }
  /// Times after which what happens at one of its ends arrives at another.
  [[nodiscard]] virtual std::vector<double> travel_times_s() const { return {}; }
  /// Ahead of `slopes` at an instant: what its equations ask of the past.
  virtual void look_back(const Past& /*past*/, double /*time_s*/) noexcept {}
  /// Ahead of `slopes`, to a capacitive model: dv/dt across its ends.
  virtual void take_rates(const double* /*rates*/) noexcept {}
  /// From voltages and states in `values`: currents of the ends and slopes; its other slots are written.
  virtual void slopes(const Places& /*places*/, double* /*values*/, double* /*currents*/,
                      double* /*slopes*/) noexcept {}

  /// At an instant of the reference at which all values stand: whether a control of its own, or a knob,
  /// changes something at once. It writes slots that are no states.
  virtual bool act(const Places& /*places*/, double /*time_s*/, double* /*values*/) noexcept { return false; }
  /// Whether states may bring about that it acts: the reference then watches its `margin`,
  [[nodiscard]] virtual bool has_margin() const { return false; }
  /// which passes zero, from above, at an instant at which `act` has something to do.
  [[nodiscard]] virtual double margin(const Places& /*places*/, const double* /*values*/) const noexcept {
    return 1;
  }

  /// Ahead of a solution: J into `history` (n); a varying model writes G (n x n) into `conductance` and
  /// returns whether it changed.
  virtual bool begin(const Interval& span, const Places& places, const double* old, double* history,
                     double* conductance) noexcept = 0;
  /// Behind it: `now` holds the voltages; the model writes its slots.
  virtual void end(const Interval& span, const Places& places, const double* old, double* now,
                   const double* history, const double* conductance) noexcept = 0;
  /// Behind an event, where `now` follows from half steps: what changes by leaps stands as at the second of
  /// them.
  virtual void stand_behind(const Places& /*places*/, const double* /*second*/,
                            double* /*now*/) const noexcept {}
  /// Its equations, where C has them too.
  [[nodiscard]] virtual std::optional<WrittenLaw> law(double /*step_s*/) const { return std::nullopt; }
  /// Whether what it gave is no number.
  [[nodiscard]] virtual bool ill() const noexcept { return false; }
  /// Behind it: whether something that must stay (a flux) meets other equations from now on, so that the next
  /// step begins with a discontinuity.
  [[nodiscard]] virtual bool jumps(const Places& /*places*/, const double* /*now*/) const noexcept {
    return false;
  }
};

}  // namespace zavrek::emt::internal
