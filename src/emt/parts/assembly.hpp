// What an element model may say to the compiler: nodes, parts between them (parts.hpp), signals, operables,
// knobs.
#pragma once

#include <array>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include <Eigen/Core>

#include "emt/parts/parts.hpp"
#include "emt/parts/waveform.hpp"
#include "zavrek/network.hpp"

namespace zavrek::emt::internal {

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

/// Currents into the two ends of a stretch of a line, one entry per phase.
struct StretchCurrents {
  std::vector<Terms> near, far;
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

  /// The stretch of a line that begins at a fraction of it, where it is part of a right of way; null
  /// elsewhere.
  [[nodiscard]] const StretchCurrents* shared_stretch(const std::string& line, double from) const;

  [[nodiscard]] std::vector<WindingTap> winding_taps(const std::string& transformer) const;

  // --- said by element models ----------------------------------------------------------------
  NodeId new_node(std::string name);
  std::vector<NodeId> new_nodes(const std::string& name, const std::string& letters);
  /// The nodes of a place along an element, or within a transformer's winding; made when asked for first.
  std::vector<NodeId> tap(const std::string& element, double fraction, const std::string& letters);
  std::vector<NodeId> tap_winding(const std::string& transformer, const std::string& winding,
                                  double fraction);
  void share_stretch(const std::string& line, double from, StretchCurrents currents) {
    shared_stretches_[line].emplace_back(from, std::move(currents));
  }
  std::size_t waveform(Waveform waveform);
  /// A `knob`'s voltage behind the start, which is that of the waveform's sinusoid.
  void impose(NodeId node, const std::string& owner, std::size_t waveform, double angle_rad, Slot knob = {});
  Slot series(SeriesPart part);            ///< returns its first current
  Slot capacitance(CapacitancePart part);  ///< returns its first current
  void conductance(Ends ends, double siemens);
  void drive(Ends ends, NodeId imposed, double siemens) { drive_parts.push_back({ends, imposed, siemens}); }
  /// What all parts draw from a node. Parts to come do not count.
  [[nodiscard]] Terms drawn_from(NodeId node);
  int pole(PolePart part);  ///< returns the index of the pole
  int wave(WavePart part);  ///< returns the index of the part
  const SegmentPart& segments(SegmentPart part);
  int valve(ValvePart part);  ///< returns its index
  void averaged_leg(LegPart part) { leg_parts.push_back(std::move(part)); }
  /// Valves that share a current, next to each other. Helps no more than that their commutations take less
  /// time.
  void share_current(std::vector<int> valves) { sharing_valves.push_back(std::move(valves)); }
  void gate(std::string name, std::vector<int> valves) {
    gates.push_back({std::move(name), std::move(valves)});
  }
  void charge(Ends ends, double voltage_V) { charged.push_back({ends, voltage_V}); }
  Slot model(ModelPart part);  ///< returns the first slot
  /// A `smooth` one may be turned at every step without being a discontinuity.
  Slot knob(std::string name, std::string unit, double value, double low, double high, bool smooth = false);
  /// Knobs enter the very step that they are turned ahead of, whatever could be made ready before.
  void tell_each_step() { told_each_step_ = true; }
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
  std::vector<DrivePart> drive_parts;
  std::vector<PolePart> pole_parts;
  std::vector<WavePart> wave_parts;
  std::vector<SegmentPart> segment_parts;
  std::vector<ValvePart> valve_parts;
  std::vector<LegPart> leg_parts;
  std::vector<std::vector<int>> sharing_valves;
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
  [[nodiscard]] bool is_told_each_step() const { return told_each_step_; }

 private:
  [[nodiscard]] Slot take_slots(std::size_t count);

  const network::Network* network_;
  double step_s_;
  int slots_ = 0;
  bool told_each_step_ = false;
  std::vector<std::string> node_names_{"ground"};
  std::vector<std::vector<NodeId>> groups_;
  std::vector<std::size_t> group_of_{0};  // per node; ground's entry has no meaning
  std::vector<int> lane_of_{0};           // per node
  std::vector<CapacitanceShare> shares_;
  std::map<std::vector<NodeId>, std::size_t> capacitance_between_;  // ends to part
  std::map<std::string, const network::Bus*> buses_;
  std::map<std::string, std::vector<NodeId>> bus_nodes_;
  std::map<std::string, std::vector<Tap>> taps_;
  std::map<std::string, std::vector<std::pair<double, StretchCurrents>>> shared_stretches_;
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
