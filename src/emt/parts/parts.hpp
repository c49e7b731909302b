// What elements are made of. A part is one of nine kinds: series block, capacitance block, conductance, pole,
// chain of segments (a bent characteristic), valve, averaged leg, travelling wave, and model (a part with
// equations of its own: machines, arcs, loads of constant power). So the step only loops over nine kinds of
// arrays. Beside them: what an element shows (signals) and what can be done to it (operables, gates, knobs).
#pragma once

#include <array>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include <Eigen/Core>

#include "emt/parts/model.hpp"
#include "zavrek/network.hpp"

namespace zavrek::emt::internal {

/// One term of a signal: coefficient times a node voltage or a slot.
struct Term {
  bool is_node = false;
  int index = 0;
  double coefficient = 1;
};
using Terms = std::vector<Term>;
[[nodiscard]] inline Term voltage_of(NodeId node, double coefficient = 1) {
  return {true, node, coefficient};
}
[[nodiscard]] inline Term value_of(Slot slot, double coefficient = 1) {
  return {false, slot.index, coefficient};
}

/// n branches in series R, L and elastance: v = R i + L di/dt + S q.
struct SeriesPart {
  std::string owner;
  std::vector<Ends> ends;      // n
  Eigen::MatrixXd resistance;  // n x n, ohm
  Eigen::MatrixXd inductance;  // n x n, H
  Eigen::VectorXd elastance;   // n, 1/F, zero without a capacitor
  Slot first_current;          // n slots
  Slot first_charge_voltage;   // n slots when capacitive
  [[nodiscard]] bool capacitive() const { return elastance.size() > 0 && elastance.maxCoeff() > 0; }
};

/// n coupled capacitances: i = C dv/dt. Parts between the same nodes become one; what each carries is
/// then a fixed share of what the one carries, since all see the same voltages from the same start.
struct CapacitancePart {
  std::string owner;
  std::vector<Ends> ends;       // n
  Eigen::MatrixXd capacitance;  // n x n, F
  Slot first_current;           // n slots
};

/// Current slots that an element was given for its own capacitance within `part`.
struct CapacitanceShare {
  Slot first;
  Eigen::MatrixXd capacitance;
  std::size_t part = 0;
  mutable Eigen::MatrixXd
      portion{};  // of the part's currents; found when all shares are known and one is asked
};

struct ConductancePart {
  Ends ends;
  double siemens = 0;
};

/// A switch pole: a conductance with two values.
struct PolePart {
  std::string owner;
  Ends ends;
  double closed_S = 0;
  double open_S = 0;
  bool closed = false;
  double chop_A = 0;        // it interrupts below this current, not only at zero
  double late_open_s = 0;   // how much later than the command says it parts ...
  double late_close_s = 0;  // ... and touches
  network::Points
      strength{};  // withstand voltage over the time since the current ceased; none: it never restrikes
  Slot current{};
  Slot position{};  // 1 closed, 0 open
};

/// A characteristic of straight pieces, odd about zero: current over voltage (arrester) or over flux linkage
/// (saturable inductance).
struct SegmentPart {
  std::string owner;
  Ends ends;
  bool inductive = false;
  network::Points corners;  // x: V or Vs, y: A; in the first quadrant, rising, without the origin; the last
                            // piece goes on beyond the last corner
  double residual = 0;      // flux linkage when nothing drives it, Vs
  Slot current{};
  Slot state{};  // V or Vs
};

/// Corners of an inductance, straight up to a knee (Vs), that takes `beyond_per_H` amperes per Vs more behind
/// it.
[[nodiscard]] inline network::Points bent_at(double knee_Vs, double beyond_per_H) {
  return {{knee_Vs, knee_Vs * 1e-9 * beyond_per_H}, {2 * knee_Vs, knee_Vs * (1 + 1e-9) * beyond_per_H}};
}

/// What a valve's gate and current may do: a diode has no gate; a thyristor starts by its gate and ends by
/// its current; a transistor obeys its gate and has a diode beside it, the other way round; a contact obeys
/// its gate whatever flows.
enum class ValveKind { diode, thyristor, transistor, contact };

struct ValvePart {
  std::string owner;
  Ends ends;  // it conducts from p to q
  ValveKind kind = ValveKind::diode;
  double on_resistance_ohm = 1e-3, drop_V = 0;
  double diode_resistance_ohm = 1e-3, diode_drop_V = 0;  // of a transistor's diode
  double off_S = 1e-8;
  Slot current{};
  Slot conducts{};  // 1 or 0
};

/// A leg whose pulses may be averaged over a step (leg_group.hpp): valves that exist beside it and how their
/// gates join the terminal x to the poles.
struct LegPart {
  /// A current in this direction takes `pole` when the gates of both valves are on; -1 for one that need not
  /// be.
  struct Way {
    int first = -1, second = -1, pole = 0;
  };
  /// The mean current of a valve: sign times the share of a pole; pole -1: all that flows that way.
  struct Flow {
    int valve = 0, pole = 0;
    double sign = 1;
  };
  std::vector<NodeId> poles;  // p, n or p, m, n
  NodeId x = ground_node;
  double on_resistance_ohm = 1e-3, drop_V = 0;
  std::vector<int> valves;   // all of the leg
  std::vector<Way> out, in;  // tried in this order; without any, out of the last pole and into the first
  std::vector<Flow> flows;
};

/// A name for the gates of one or more valves.
struct Gate {
  std::string name;
  std::vector<int> valves;
};

/// A capacitance that is charged at the start.
struct ChargedPart {
  Ends ends;
  double voltage_V;
};

/// n ends with equations of their own (model.hpp).
struct ModelPart {
  std::string owner;
  std::vector<Ends> ends;  // n
  std::unique_ptr<Model> model;
  std::vector<Terms> inputs{};  // what it reads beside its own ends
  Slot first{};                 // model->slots() of them
  Slot currents{};              // of its ends, n of them, where somebody wants them
};

/// A two-ended line of n phases in n modes: v = voltages * modal v, i = currents * modal i, with
/// voltages^T currents = 1.
/// The far end of a line that is not here: the wave that leaves it, in phases, and that of a step before,
/// come by knobs, `delay_steps` - 1 steps old.
struct FarEnd {
  std::vector<Slot> arriving;  // n, then n
  int delay_steps = 1;
  std::vector<std::complex<double>> starts_with;  // n phasors, at the frequency of the network
};

struct WavePart {
  std::string owner;
  std::vector<NodeId> near;        // n
  std::vector<NodeId> far;         // n
  Eigen::MatrixXd voltages;        // n x n
  Eigen::MatrixXd currents;        // n x n
  Eigen::VectorXd surge_ohm;       // n, lossless surge impedance
  Eigen::MatrixXd resistance_ohm;  // n x n, of the whole length
  Eigen::VectorXd travel_s;        // n
  Slot first_near_current;         // n slots, into the line
  Slot first_far_current;          // n slots, into the line
  FarEnd elsewhere = {};           // where `far` is empty
  Slot first_leaving = {};         // then 2n slots: the wave that leaves in phases, and that of a step before
};

/// A current that follows the voltage of an imposed node, from p to q.
struct DrivePart {
  Ends ends;
  NodeId node = ground_node;
  double siemens = 1;
};

/// A node whose voltage is that of a source, one of its phases.
struct KnownNode {
  NodeId node = 0;
  std::string owner;
  std::size_t waveform = 0;  // of Assembly::waveforms
  double angle_rad = 0;      // of this phase beside the waveform's own
  Slot knob = {};            // that says its voltage behind the start, if any
};

struct SignalDefinition {
  std::string name;
  std::string unit;
  Terms terms;
};

struct Operable {
  std::string name;
  std::vector<int> poles;
  double opening_time_s = 0;
  double closing_time_s = 0;
  std::vector<std::string> only_when_open{};  // operables whose poles must all be open before it moves
  bool always_opens = false;                  // the condition holds for closing alone
  std::vector<int> blocking{};                // the same, as numbers; by the compiler
  std::vector<int> resistive{};               // poles whose closed conductance is that of a resistance,
  double least_ohm = 0;                       // which is not less
};

/// A value that may be changed while the plant runs.
struct Knob {
  std::string name;
  std::string unit;
  double low = 0, high = 0;
  Slot slot{};
  bool smooth = false;  // turning it is no discontinuity
};

}  // namespace zavrek::emt::internal
