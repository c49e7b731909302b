// What an element model may say to the compiler: nodes, parts between them, signals, operables, knobs.
// A part is one of nine kinds: series block, capacitance block, conductance, pole, chain of segments (a bent
// characteristic), valve, averaged leg, travelling wave, and model (a part with equations of its own:
// machines, arcs, loads of constant power). Every element is made of these, so that the step only loops over
// nine kinds of arrays.
#pragma once

#include <array>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include <Eigen/Core>

#include "emt/model.hpp"
#include "emt/waveform.hpp"
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
  double on_ohm = 1e-3, drop_V = 0;
  double reverse_ohm = 1e-3, reverse_drop_V = 0;  // of a transistor's diode
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
  double on_ohm = 1e-3, drop_V = 0;
  std::vector<int> valves;   // all of the leg
  std::vector<Way> out, in;  // tried in this order; without any, out of the last pole and into the first
  std::vector<Flow> flows;
};

/// Valves that share a current, and which of them are likely to conduct together: a digit per valve, 1 for
/// one that does.
struct LikelyPart {
  std::vector<int> valves;
  std::vector<std::string> conducting;
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
};

/// A two-ended line of n phases in n modes: v = voltages * modal v, i = currents * modal i, with
/// voltages^T currents = 1.
struct WavePart {
  std::string owner;
  std::vector<NodeId> near;        // n
  std::vector<NodeId> far;         // n
  Eigen::MatrixXd voltages;        // n x n
  Eigen::MatrixXd currents;        // n x n
  Eigen::VectorXd surge_ohm;       // n, lossless surge impedance
  Eigen::VectorXd resistance_ohm;  // n, of the whole length
  Eigen::VectorXd travel_s;        // n
  Slot first_near_current;         // n slots, into the line
  Slot first_far_current;          // n slots, into the line
};

/// A node whose voltage is that of a source, one of its phases.
struct KnownNode {
  NodeId node = 0;
  std::string owner;
  std::size_t waveform = 0;  // of Assembly::waveforms
  double angle_rad = 0;      // of this phase beside the waveform's own
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
};

/// A value that may be changed while the plant runs.
struct Knob {
  std::string name;
  std::string unit;
  double low = 0, high = 0;
  Slot slot{};
};

/// Two ends of an element, on the phases that both buses have.
struct Span {
  std::string letters;  // "abc", "bc", ...
  std::vector<NodeId> near, far;
};

/// A place along a line or cable that has nodes of its own.
struct Tap {
  double fraction = 0;
  std::vector<NodeId> nodes;
};

/// A place inside a transformer's winding, on all three limbs.
struct WindingTap {
  std::string winding;  // "high", "low" or "tertiary"
  double fraction = 0;  // of the turns, from the coil's far end
  std::vector<NodeId> nodes;
};

class Assembly {
 public:
  Assembly(const network::Network& network, double step_s);

  // --- asked by element models ---------------------------------------------------------------
  [[nodiscard]] double step_s() const { return step_s_; }
  [[nodiscard]] double omega() const;  ///< of the network, rad/s
  [[nodiscard]] const network::Bus& bus(const std::string& name) const;
  /// The nodes of a bus, one per phase; of "ground", `phases` times the ground node.
  [[nodiscard]] std::vector<NodeId> nodes(const std::string& bus, std::size_t phases = 0) const;
  /// A node by name, such as "dc.p", "quay.a" or "ground". Throws Error in the name of `owner`.
  [[nodiscard]] NodeId terminal(const std::string& owner, const std::string& field,
                                const std::string& name) const;
  /// Nodes of the phases that both buses have; "ground" has all. Two terminals (see above) make a span of
  /// one. Throws Error in the name of `owner` when there are none.
  [[nodiscard]] Span span(const std::string& owner, const std::array<std::string, 2>& between) const;
  /// The places where `element` is tapped, with its two ends: fractions 0 ... 1, ascending.
  [[nodiscard]] std::vector<Tap> stations(const std::string& element,
                                          const std::array<std::string, 2>& between) const;

  [[nodiscard]] std::vector<WindingTap> winding_taps(const std::string& transformer) const;

  // --- said by element models ----------------------------------------------------------------
  NodeId new_node(std::string name);
  std::vector<NodeId> new_nodes(const std::string& name, const std::string& letters);
  std::size_t waveform(Waveform waveform);
  void impose(NodeId node, const std::string& owner, std::size_t waveform, double angle_rad);
  Slot series(SeriesPart part);            ///< returns its first current
  Slot capacitance(CapacitancePart part);  ///< returns its first current
  void conductance(Ends ends, double siemens);
  int pole(PolePart part);  ///< returns the index of the pole
  int wave(WavePart part);  ///< returns the index of the part
  const SegmentPart& segments(SegmentPart part);
  int valve(ValvePart part);  ///< returns its index
  void averaged_leg(LegPart part) { leg_parts.push_back(std::move(part)); }
  /// Helps no more than that these states of the valves take no time when they come.
  void likely(std::vector<int> valves, std::vector<std::string> conducting) {
    likely_parts.push_back({std::move(valves), std::move(conducting)});
  }
  void gate(std::string name, std::vector<int> valves) {
    gates.push_back({std::move(name), std::move(valves)});
  }
  void charge(Ends ends, double voltage_V) { charged.push_back({ends, voltage_V}); }
  Slot model(ModelPart part);  ///< returns the first slot
  Slot knob(std::string name, std::string unit, double value, double low, double high);
  void operable(Operable operable);
  void signal(std::string name, std::string unit, Terms terms);
  /// Signals NAME+"a", "b", "c", one per entry and letter.
  void phase_signals(const std::string& name, const std::string& unit, const std::vector<Terms>& per_phase,
                     const std::string& letters = "abc");
  /// Currents into the two ends of an element: `NAME.ia` ... and `NAME.ia_far` ...
  void end_currents(const std::string& element, const std::vector<Terms>& near, const std::vector<Terms>& far,
                    const std::string& letters = "abc");
  void note(std::string text) { notes_.push_back(std::move(text)); }

  // --- read by the compiler -------------------------------------------------------------------
  [[nodiscard]] const network::Network& network() const { return *network_; }
  [[nodiscard]] const std::string& node_name(NodeId node) const {
    return node_names_[static_cast<std::size_t>(node)];
  }
  [[nodiscard]] int node_count() const { return static_cast<int>(node_names_.size()); }
  [[nodiscard]] int slot_count() const { return slots_; }
  [[nodiscard]] const Terms* find_signal(const std::string& name) const;
  /// `terms` with the slots of merged capacitances replaced by shares of those that are solved.
  [[nodiscard]] Terms resolved(const Terms& terms) const;
  /// Whether two or three ends lie between two groups of nodes (or a group and ground), phase by phase, so
  /// that a block of lanes can hold them.
  [[nodiscard]] bool between_groups(const std::vector<Ends>& ends) const;
  /// The lane of a node within its group: its phase.
  [[nodiscard]] int lane_of(NodeId node) const { return lane_of_[static_cast<std::size_t>(node)]; }
  [[nodiscard]] int lane_of(const Ends& ends) const {
    return lane_of(ends.p == ground_node ? ends.q : ends.p);
  }
  /// Nodes that belong together: the phases of a bus, or a single node. Ground is none of them.
  [[nodiscard]] const std::vector<std::vector<NodeId>>& groups() const { return groups_; }
  std::vector<SeriesPart> series_parts;
  std::vector<CapacitancePart> capacitance_parts;
  std::vector<ConductancePart> conductance_parts;
  std::vector<PolePart> pole_parts;
  std::vector<WavePart> wave_parts;
  std::vector<SegmentPart> segment_parts;
  std::vector<ValvePart> valve_parts;
  std::vector<LegPart> leg_parts;
  std::vector<LikelyPart> likely_parts;
  std::vector<Gate> gates;
  std::vector<ChargedPart> charged;
  std::vector<ModelPart> model_parts;
  std::vector<Waveform> waveforms;
  std::vector<KnownNode> known_nodes;
  std::vector<Knob> knobs;
  std::vector<double> knob_values;  // at the start
  std::vector<SignalDefinition> signals;
  std::vector<Operable> operables;
  [[nodiscard]] const std::vector<std::string>& notes() const { return notes_; }

 private:
  [[nodiscard]] Slot take_slots(std::size_t count);
  void add_faults();
  [[nodiscard]] std::vector<NodeId> place_along(const network::Fault& fault, std::string& letters);
  [[nodiscard]] std::vector<NodeId> place_inside(const network::Fault& fault);

  const network::Network* network_;
  double step_s_;
  int slots_ = 0;
  std::vector<std::string> node_names_{"ground"};
  std::vector<std::vector<NodeId>> groups_;
  std::vector<std::size_t> group_of_{0};  // per node; ground's entry has no meaning
  std::vector<int> lane_of_{0};           // per node
  std::vector<CapacitanceShare> shares_;
  std::map<std::vector<NodeId>, std::size_t> capacitance_between_;  // ends to part
  std::map<std::string, const network::Bus*> buses_;
  std::map<std::string, std::vector<NodeId>> bus_nodes_;
  std::map<std::string, std::vector<Tap>> taps_;
  std::map<std::string, std::vector<WindingTap>> winding_taps_;
  std::map<std::string, std::size_t> signal_index_;
  std::vector<std::string> notes_;
};

/// The model of one kind of element; each kind's source in this room specialises it.
template <class Kind>
void assemble(const Kind& element, Assembly& assembly);

/// Matrix of a transposed element from its sequence values, of three phases or two of them; for one phase the
/// positive value alone.
[[nodiscard]] Eigen::MatrixXd from_sequence(std::size_t phases, double positive, double zero);

/// Equal series branches, not coupled, one for each of `ends`; returns their current slots. Three between
/// whole groups of nodes (a bus and a bus or ground) make one block.
std::vector<Slot> uncoupled_series(Assembly& assembly, const std::string& owner,
                                   const std::vector<Ends>& ends, double resistance_ohm, double inductance_H,
                                   double elastance = 0);

/// The lane of a phase or a d.c. pole: a, b, c or p (positive), n (negative), m (middle).
[[nodiscard]] constexpr int phase_index(char letter) {
  return letter == 'p' ? 0 : letter == 'n' ? 1 : letter == 'm' ? 2 : letter - 'a';
}

}  // namespace zavrek::emt::internal
