#include "emt/assembly.hpp"

#include <algorithm>
#include <numbers>

#include <fmt/format.h>

#include "emt/fault.hpp"

namespace zavrek::emt::internal {

Assembly::Assembly(const network::Network& network, double step_s) : network_(&network), step_s_(step_s) {
  for (const network::Bus& bus : network.buses) {
    bus_nodes_[bus.name] = new_nodes(bus.name, bus.phases.size());
    std::vector<Terms> voltages;
    for (const NodeId node : bus_nodes_[bus.name]) voltages.push_back({voltage_of(node)});
    phase_signals(bus.name + ".v", "V", voltages);
  }
  add_faults();
}

double Assembly::omega() const { return 2 * std::numbers::pi * network_->frequency_Hz; }

const network::Bus& Assembly::bus(const std::string& name) const { return *network_->find_bus(name); }

std::vector<NodeId> Assembly::nodes(const std::string& bus, std::size_t phases) const {
  if (bus == network::ground) return std::vector<NodeId>(phases, ground_node);
  return bus_nodes_.at(bus);
}

std::vector<Tap> Assembly::stations(const std::string& element,
                                    const std::array<std::string, 2>& between) const {
  std::vector<Tap> stations{{0, nodes(between[0])}, {1, nodes(between[1])}};
  if (const auto found = taps_.find(element); found != taps_.end()) {
    stations.insert(stations.end(), found->second.begin(), found->second.end());
  }
  std::sort(stations.begin(), stations.end(),
            [](const Tap& a, const Tap& b) { return a.fraction < b.fraction; });
  return stations;
}

NodeId Assembly::new_node(std::string name) {
  node_names_.push_back(std::move(name));
  group_of_.push_back(groups_.size());
  groups_.push_back({node_count() - 1});
  return node_count() - 1;
}

std::vector<NodeId> Assembly::new_nodes(const std::string& name, std::size_t phases) {
  std::vector<NodeId> made;
  for (std::size_t k = 0; k < phases; ++k) {
    node_names_.push_back(name + "." + phase_letter(k));
    group_of_.push_back(groups_.size());
    made.push_back(node_count() - 1);
  }
  groups_.push_back(made);
  return made;
}

void Assembly::impose(NodeId node, const std::string& owner, double amplitude_V, double omega,
                      double angle_rad) {
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
  known_nodes.push_back({node, owner, amplitude_V, omega, angle_rad});
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
  if (ends.size() != 3) return false;
  const auto whole = [&](NodeId a, NodeId b, NodeId c) {
    if (a == ground_node) return b == ground_node && c == ground_node;
    return groups_[group_of_[static_cast<std::size_t>(a)]] == std::vector<NodeId>{a, b, c};
  };
  return whole(ends[0].p, ends[1].p, ends[2].p) && whole(ends[0].q, ends[1].q, ends[2].q);
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
    const Eigen::MatrixXd part =
        share->capacitance * whole.capacitance.completeOrthogonalDecomposition().pseudoInverse();
    for (Eigen::Index k = 0; k < part.cols(); ++k) {
      const double coefficient = term.coefficient * part(term.index - share->first.index, k);
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
  wave_parts.push_back(std::move(part));
  return static_cast<int>(wave_parts.size()) - 1;
}

void Assembly::operable(Operable operable) { operables.push_back(std::move(operable)); }

void Assembly::signal(std::string name, std::string unit, Terms terms) {
  signal_index_[name] = signals.size();
  signals.push_back({std::move(name), std::move(unit), std::move(terms)});
}

void Assembly::phase_signals(const std::string& name, const std::string& unit,
                             const std::vector<Terms>& per_phase) {
  for (std::size_t k = 0; k < per_phase.size(); ++k) signal(name + phase_letter(k), unit, per_phase[k]);
}

void Assembly::end_currents(const std::string& element, const std::vector<Terms>& near,
                            const std::vector<Terms>& far) {
  phase_signals(element + ".i", "A", near);
  for (std::size_t k = 0; k < far.size(); ++k) signal(element + ".i" + phase_letter(k) + "_far", "A", far[k]);
}

const Terms* Assembly::find_signal(const std::string& name) const {
  const auto found = signal_index_.find(name);
  return found == signal_index_.end() ? nullptr : &signals[found->second].terms;
}

void Assembly::add_faults() {
  for (const network::Fault& fault : network_->faults) {
    std::vector<NodeId> place;
    if (const network::Bus* bus = network_->find_bus(fault.on)) {
      place = nodes(bus->name);
    } else {
      auto& taps = taps_[fault.on];
      for (const Tap& tap : taps) {
        if (tap.fraction == fault.at) place = tap.nodes;
      }
      const auto ends = ends_of_length(network_->find_element(fault.on), fault);
      if (fault.at == 0) place = nodes(ends[0]);
      if (fault.at == 1) place = nodes(ends[1]);
      if (place.empty()) {
        const std::string name = fmt::format("{}@{}", fault.on, print_quantity(fault.at, "%"));
        place = new_nodes(name, nodes(ends[0]).size());
        taps.push_back({fault.at, place});
      }
    }
    assemble_fault(fault, place, *this);
  }
}

Eigen::MatrixXd from_sequence(std::size_t phases, double positive, double zero) {
  if (phases == 1) return Eigen::MatrixXd::Constant(1, 1, positive);
  const double self = (zero + 2 * positive) / 3;
  const double mutual = (zero - positive) / 3;
  Eigen::MatrixXd matrix = Eigen::MatrixXd::Constant(3, 3, mutual);
  matrix.diagonal().setConstant(self);
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
