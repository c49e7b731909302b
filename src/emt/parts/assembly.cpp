#include "emt/parts/assembly.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double same_place = 1e-9;  // of the length

}  // namespace

Assembly::Assembly(const network::Network& network, double step_s) : network_(&network), step_s_(step_s) {
  for (const network::Bus& bus : network.buses) {
    buses_[bus.name] = &bus;
    bus_nodes_[bus.name] = new_nodes(bus.name, bus.phases);
    std::vector<Terms> voltages;
    for (const NodeId node : bus_nodes_[bus.name]) voltages.push_back({voltage_of(node)});
    phase_signals(bus.name + ".v", "V", voltages, bus.phases);
  }
}

double Assembly::omega() const { return 2 * std::numbers::pi * network_->frequency_Hz; }

const network::Bus& Assembly::bus(const std::string& name) const { return *buses_.at(name); }

std::vector<NodeId> Assembly::nodes(const std::string& bus, std::size_t phases) const {
  if (bus == network::ground) return std::vector<NodeId>(phases, ground_node);
  return bus_nodes_.at(bus);
}

NodeId Assembly::terminal(const std::string& owner, const std::string& field, const std::string& name) const {
  if (name == network::ground) return ground_node;
  std::vector<std::string> known{std::string(network::ground)};
  for (const auto& [bus, nodes] : bus_nodes_) {
    for (const NodeId node : nodes) {
      if (node_name(node) == name) return node;
      known.push_back(node_name(node));
    }
  }
  throw Error(
      Flaw{.file = {},
           .place = owner,
           .field = field,
           .text = fmt::format("no terminal \"{}\"{}; a bus and its phase are wanted, such as \"dc.p\"", name,
                               suggestion(name, known))});
}

Span Assembly::span(const std::string& owner, const std::array<std::string, 2>& between) const {
  if (between[0].find('.') != std::string::npos || between[1].find('.') != std::string::npos) {
    const NodeId near = terminal(owner, "between", between[0]), far = terminal(owner, "between", between[1]);
    return {"a", {near}, {far}};
  }
  Span span;
  const auto has = [&](const std::string& name, char letter) {
    return name == network::ground || bus(name).phases.find(letter) != std::string::npos;
  };
  const auto node = [&](const std::string& name, char letter) {
    return name == network::ground ? ground_node : bus_nodes_.at(name)[bus(name).phases.find(letter)];
  };
  for (const char letter : {'a', 'b', 'c', 'p', 'n', 'm'}) {
    if (!has(between[0], letter) || !has(between[1], letter)) continue;
    span.letters += letter;
    span.near.push_back(node(between[0], letter));
    span.far.push_back(node(between[1], letter));
  }
  if (span.letters.empty()) {
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "between",
             .text = fmt::format("\"{}\" and \"{}\" have no phase in common", between[0], between[1])});
  }
  return span;
}

std::vector<Tap> Assembly::stations(const std::string& element,
                                    const std::array<std::string, 2>& between) const {
  const Span ends = span(element, between);
  std::vector<Tap> stations{{0, ends.near}, {1, ends.far}};
  if (const auto found = taps_.find(element); found != taps_.end()) {
    stations.insert(stations.end(), found->second.begin(), found->second.end());
  }
  std::sort(stations.begin(), stations.end(),
            [](const Tap& a, const Tap& b) { return a.fraction < b.fraction; });
  return stations;
}

const StretchCurrents* Assembly::shared_stretch(const std::string& line, double from) const {
  const auto found = shared_stretches_.find(line);
  if (found == shared_stretches_.end()) return nullptr;
  for (const auto& [begin, currents] : found->second) {
    if (std::abs(begin - from) < same_place) return &currents;
  }
  return nullptr;
}

NodeId Assembly::new_node(std::string name) {
  node_names_.push_back(std::move(name));
  group_of_.push_back(groups_.size());
  lane_of_.push_back(0);
  groups_.push_back({node_count() - 1});
  return node_count() - 1;
}

std::vector<NodeId> Assembly::new_nodes(const std::string& name, const std::string& letters) {
  std::vector<NodeId> made;
  for (const char letter : letters) {
    node_names_.push_back(name + "." + letter);
    group_of_.push_back(groups_.size());
    lane_of_.push_back(phase_index(letter));
    made.push_back(node_count() - 1);
  }
  groups_.push_back(made);
  return made;
}

std::size_t Assembly::waveform(Waveform waveform) {
  waveforms.push_back(std::move(waveform));
  return waveforms.size() - 1;
}

void Assembly::impose(NodeId node, const std::string& owner, std::size_t waveform, double angle_rad,
                      Slot knob) {
  for (const KnownNode& known : known_nodes) {
    if (known.node != node) continue;
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "bus",
             .text = fmt::format("loop of stiff sources: {} already imposes the voltage of {}; give one of "
                                 "them a short_circuit",
                                 known.owner, node_name(node))});
  }
  known_nodes.push_back({node, owner, waveform, angle_rad, knob});
}

Slot Assembly::take_slots(std::size_t count) {
  const Slot first{slots_};
  slots_ += static_cast<int>(count);
  return first;
}

Slot Assembly::series(SeriesPart part) {
  const auto n = static_cast<Eigen::Index>(part.ends.size());
  if (part.elastance.size() == 0) part.elastance = Eigen::VectorXd::Zero(n);
  part.first_current = take_slots(part.ends.size());
  if (part.capacitive()) part.first_charge_voltage = take_slots(part.ends.size());
  series_parts.push_back(std::move(part));
  return series_parts.back().first_current;
}

Slot Assembly::capacitance(CapacitancePart part) {
  std::vector<NodeId> key;
  for (const Ends& ends : part.ends) key.insert(key.end(), {ends.p, ends.q});
  const auto [known, fresh] = capacitance_between_.try_emplace(key, capacitance_parts.size());
  if (fresh)
    capacitance_parts.push_back({part.owner, part.ends, 0 * part.capacitance, take_slots(part.ends.size())});
  CapacitancePart* whole = &capacitance_parts[known->second];
  whole->capacitance += part.capacitance;
  const Slot first = take_slots(part.ends.size());
  shares_.push_back({first, part.capacitance, known->second});
  return first;
}

bool Assembly::between_groups(const std::vector<Ends>& ends) const {
  if (ends.size() < 2 || ends.size() > 3) return false;
  const auto group = [&](NodeId node) { return group_of_[static_cast<std::size_t>(node)]; };
  unsigned seen = 0;
  for (const Ends& pair : ends) {
    for (NodeId Ends::*side : {&Ends::p, &Ends::q}) {
      const NodeId first = ends[0].*side;
      if ((first == ground_node) != (pair.*side == ground_node)) return false;
      if (first != ground_node && group(first) != group(pair.*side)) return false;
    }
    if (pair.p != ground_node && pair.q != ground_node && lane_of(pair.p) != lane_of(pair.q)) return false;
    const unsigned bit = 1U << lane_of(pair);
    if (seen & bit) return false;
    seen |= bit;
  }
  return true;
}

Terms Assembly::resolved(const Terms& terms) const {
  Terms out;
  for (const Term& term : terms) {
    // Shares were numbered in ascending order: the one at or before the term is the only candidate.
    auto share = std::upper_bound(shares_.begin(), shares_.end(), term.index,
                                  [](int index, const CapacitanceShare& s) { return index < s.first.index; });
    const bool found = !term.is_node && share != shares_.begin() &&
                       term.index < (share - 1)->first.index + (share - 1)->capacitance.rows();
    if (!found) {
      out.push_back(term);
      continue;
    }
    --share;
    const CapacitancePart& whole = capacitance_parts[share->part];
    // A sequence without capacitance makes the whole singular; it carries nothing there.
    if (share->portion.size() == 0)
      share->portion = product(share->capacitance, pseudo_inverse(whole.capacitance));
    for (Eigen::Index k = 0; k < share->portion.cols(); ++k) {
      const double coefficient = term.coefficient * share->portion(term.index - share->first.index, k);
      if (coefficient != 0)
        out.push_back(value_of({whole.first_current.index + static_cast<int>(k)}, coefficient));
    }
  }
  return out;
}

void Assembly::conductance(Ends ends, double siemens) { conductance_parts.push_back({ends, siemens}); }

int Assembly::pole(PolePart part) {
  part.current = take_slots(1);
  part.position = take_slots(1);
  pole_parts.push_back(std::move(part));
  return static_cast<int>(pole_parts.size()) - 1;
}

int Assembly::wave(WavePart part) {
  part.first_near_current = take_slots(part.near.size());
  part.first_far_current = take_slots(part.far.size());
  if (part.far.empty()) part.first_leaving = take_slots(2 * part.near.size());
  wave_parts.push_back(std::move(part));
  return static_cast<int>(wave_parts.size()) - 1;
}

const SegmentPart& Assembly::segments(SegmentPart part) {
  part.current = take_slots(1);
  part.state = take_slots(1);
  segment_parts.push_back(std::move(part));
  return segment_parts.back();
}

int Assembly::valve(ValvePart part) {
  part.current = take_slots(1);
  part.conducts = take_slots(1);
  valve_parts.push_back(std::move(part));
  return static_cast<int>(valve_parts.size()) - 1;
}

Slot Assembly::model(ModelPart part) {
  part.first = take_slots(static_cast<std::size_t>(part.model->slots()));
  model_parts.push_back(std::move(part));
  return model_parts.back().first;
}

Slot Assembly::knob(std::string name, std::string unit, double value, double low, double high, bool smooth) {
  const Slot slot = take_slots(1);
  signal(name, unit, {value_of(slot)});
  knobs.push_back({std::move(name), std::move(unit), low, high, slot, smooth});
  knob_values.push_back(value);
  return slot;
}

void Assembly::operable(Operable operable) { operables.push_back(std::move(operable)); }

void Assembly::signal(std::string name, std::string unit, Terms terms) {
  signal_index_[name] = signals.size();
  signals.push_back({std::move(name), std::move(unit), std::move(terms)});
}

void Assembly::phase_signals(const std::string& name, const std::string& unit,
                             const std::vector<Terms>& per_phase, const std::string& letters) {
  for (std::size_t k = 0; k < per_phase.size(); ++k) signal(name + letters[k], unit, per_phase[k]);
}

void Assembly::end_currents(const std::string& element, const std::vector<Terms>& near,
                            const std::vector<Terms>& far, const std::string& letters) {
  phase_signals(element + ".i", "A", near, letters);
  for (std::size_t k = 0; k < far.size(); ++k) signal(element + ".i" + letters[k] + "_far", "A", far[k]);
}

Terms Assembly::drawn_from(NodeId node) {
  Terms sum;
  const auto add = [&](const Ends& ends, Slot current) {
    if (ends.p == node) sum.push_back(value_of(current));
    if (ends.q == node) sum.push_back(value_of(current, -1));
  };
  const auto add_all = [&](const std::vector<Ends>& ends, Slot first) {
    for (std::size_t k = 0; k < ends.size(); ++k) add(ends[k], {first.index + static_cast<int>(k)});
  };
  for (const SeriesPart& part : series_parts) add_all(part.ends, part.first_current);
  for (const CapacitancePart& part : capacitance_parts) add_all(part.ends, part.first_current);
  for (const PolePart& part : pole_parts) add(part.ends, part.current);
  for (const SegmentPart& part : segment_parts) add(part.ends, part.current);
  for (const ValvePart& part : valve_parts) add(part.ends, part.current);
  for (const WavePart& part : wave_parts) {
    for (std::size_t k = 0; k < part.near.size(); ++k) {
      add({part.near[k], ground_node}, {part.first_near_current.index + static_cast<int>(k)});
      if (!part.far.empty())
        add({part.far[k], ground_node}, {part.first_far_current.index + static_cast<int>(k)});
    }
  }
  const auto add_conducted = [&](const Ends& ends, const Ends& across, double siemens) {
    const double out = (ends.p == node ? siemens : 0) - (ends.q == node ? siemens : 0);
    if (out == 0) return;
    if (across.p != ground_node) sum.push_back(voltage_of(across.p, out));
    if (across.q != ground_node) sum.push_back(voltage_of(across.q, -out));
  };
  for (const ConductancePart& part : conductance_parts) add_conducted(part.ends, part.ends, part.siemens);
  for (const DrivePart& part : drive_parts) add_conducted(part.ends, {part.node, ground_node}, part.siemens);
  for (ModelPart& part : model_parts) {
    const bool touches = std::any_of(part.ends.begin(), part.ends.end(),
                                     [&](const Ends& ends) { return ends.p == node || ends.q == node; });
    if (!touches) continue;
    if (part.currents.index < 0) part.currents = take_slots(part.ends.size());
    add_all(part.ends, part.currents);
  }
  return sum;
}

const Terms* Assembly::find_signal(const std::string& name) const {
  const auto found = signal_index_.find(name);
  return found == signal_index_.end() ? nullptr : &signals[found->second].terms;
}

std::vector<WindingTap> Assembly::winding_taps(const std::string& transformer) const {
  const auto found = winding_taps_.find(transformer);
  return found == winding_taps_.end() ? std::vector<WindingTap>() : found->second;
}

std::vector<NodeId> Assembly::tap(const std::string& element, double fraction, const std::string& letters) {
  auto& taps = taps_[element];
  for (const Tap& tap : taps) {
    if (std::abs(tap.fraction - fraction) < same_place) return tap.nodes;
  }
  taps.push_back(
      {fraction, new_nodes(fmt::format("{}@{}", element, print_quantity(fraction, "%")), letters)});
  return taps.back().nodes;
}

std::vector<NodeId> Assembly::tap_winding(const std::string& transformer, const std::string& winding,
                                          double fraction) {
  auto& taps = winding_taps_[transformer];
  for (const WindingTap& tap : taps) {
    if (tap.winding == winding && tap.fraction == fraction) return tap.nodes;
  }
  const std::string name = fmt::format("{}.{}@{}", transformer, winding, print_quantity(fraction, "%"));
  std::vector<NodeId> place;
  for (const char limb : {'a', 'b', 'c'}) place.push_back(new_node(name + "." + limb));
  taps.push_back({winding, fraction, place});
  return place;
}

Eigen::MatrixXd from_sequence(std::size_t phases, double positive, double zero) {
  if (phases == 1) return Eigen::MatrixXd::Constant(1, 1, positive);
  const auto n = static_cast<Eigen::Index>(phases);
  Eigen::MatrixXd matrix = Eigen::MatrixXd::Constant(n, n, (zero - positive) / 3);
  matrix.diagonal().setConstant((zero + 2 * positive) / 3);
  return matrix;
}

std::vector<Slot> uncoupled_series(Assembly& assembly, const std::string& owner,
                                   const std::vector<Ends>& ends, double resistance_ohm, double inductance_H,
                                   double elastance) {
  std::vector<Slot> currents;
  const auto add = [&](const std::vector<Ends>& some) {
    const auto n = static_cast<Eigen::Index>(some.size());
    const Slot first = assembly.series({.owner = owner,
                                        .ends = some,
                                        .resistance = resistance_ohm * Eigen::MatrixXd::Identity(n, n),
                                        .inductance = inductance_H * Eigen::MatrixXd::Identity(n, n),
                                        .elastance = Eigen::VectorXd::Constant(n, elastance),
                                        .first_current = {},
                                        .first_charge_voltage = {}});
    for (int k = 0; k < static_cast<int>(n); ++k) currents.push_back({first.index + k});
  };
  if (assembly.between_groups(ends)) {
    add(ends);
  } else {
    for (const Ends& pair : ends) add({pair});
  }
  return currents;
}

}  // namespace zavrek::emt::internal
