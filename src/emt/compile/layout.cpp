// Where nodes, currents and states stand in the value array, and which of them are worked on together.
#include <algorithm>
#include <numbers>

#include "emt/compile/compiler.hpp"

namespace zavrek::emt::internal {

void Compiler::place(const std::vector<NodeId>& nodes, int& position) {
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    layout_.node_position[static_cast<std::size_t>(nodes[k])] = position + assembly_.lane_of(nodes[k]);
  }
  position += lanes;
}

void Compiler::lay_out() {
  layout_.node_position.assign(static_cast<std::size_t>(assembly_.node_count()), 0);
  int position = lanes;  // ground
  for (const auto& nodes : assembly_.groups()) {
    if (topology_.known[static_cast<std::size_t>(nodes[0])]) place(nodes, position);
  }
  core_->map.first_unknown = position;
  for (const auto& members : topology_.members) {
    for (const int member : members) place(group(member), position);
  }
  layout_.voltages = core_->map.voltages = position;
  layout_.unknown.assign(static_cast<std::size_t>(position), -1);
  core_->map.position_names.assign(static_cast<std::size_t>(position), "ground");
  for (NodeId node = 1; node < assembly_.node_count(); ++node) {
    core_->map.position_names[static_cast<std::size_t>(at(node))] = assembly_.node_name(node);
    if (!topology_.known[static_cast<std::size_t>(node)])
      layout_.unknown[static_cast<std::size_t>(at(node))] = layout_.unknowns++;
  }
  bound_voltages();
  place_slots(position);
  layout_.values = position;
  core_->history.rhs.assign(static_cast<std::size_t>(layout_.voltages), 0.0);
  divide_in_shards();
}

/// A resonance, a restrike or an impulse makes some times the voltage of a bus; twenty times its peak between
/// phases nothing does. Nodes of no bus may have that of the highest.
void Compiler::bound_voltages() {
  constexpr double times = 20;
  double highest = 0;
  for (const network::Bus& bus : network_.buses) highest = std::max(highest, bus.voltage_V);
  core_->map.voltage_bounds.assign(static_cast<std::size_t>(layout_.voltages),
                                   times * std::numbers::sqrt2 * highest);
  for (const network::Bus& bus : network_.buses) {
    for (const NodeId node : assembly_.nodes(bus.name))
      core_->map.voltage_bounds[static_cast<std::size_t>(at(node))] =
          times * std::numbers::sqrt2 * bus.voltage_V;
  }
}

void Compiler::divide_in_shards() {
  constexpr int most_shards = 16;
  constexpr int least_groups = 96;
  const int groups = (layout_.voltages - core_->map.first_unknown) / lanes;
  const int wanted = std::max(least_groups, (groups + most_shards - 1) / most_shards);
  int position = core_->map.first_unknown;
  topology_.condensable.assign(topology_.members.size(), false);
  if (condensing_ == Condensing::where_it_helps)
    topology_.condensable = find_condensable(assembly_, topology_);
  bool full = true;
  for (std::size_t k = 0; k < topology_.members.size(); ++k) {
    const int partition = static_cast<int>(k);
    if (full || topology_.condensable[k]) core_->shards.emplace_back(partition, position);
    position += static_cast<int>(topology_.members[k].size()) * lanes;
    Shard& shard = core_->shards.back();
    shard.end = position;
    ++shard.end_partition;
    full = topology_.condensable[k] || (position - shard.first) / lanes >= wanted;
    topology_.shard_of.push_back(static_cast<int>(core_->shards.size()) - 1);
  }
  const int partitions = static_cast<int>(topology_.members.size());
  if (core_->shards.empty() || has_parts_between_known_nodes())
    core_->shards.emplace_back(partitions, position);
}

bool Compiler::has_parts_between_known_nodes() const {
  const auto between = [&](const auto& part) {
    return std::all_of(part.ends.begin(), part.ends.end(), [&](const Ends& e) {
      return topology_.known[static_cast<std::size_t>(e.p)] && topology_.known[static_cast<std::size_t>(e.q)];
    });
  };
  return std::any_of(assembly_.series_parts.begin(), assembly_.series_parts.end(), between) ||
         std::any_of(assembly_.capacitance_parts.begin(), assembly_.capacitance_parts.end(), between);
}

void Compiler::place_condensed() {
  core_->map.first_condensed = (layout_.values + lanes - 1) / lanes * lanes;
  condensed_places_ = place_condensed_shards(assembly_, topology_.condensable, *core_, layout_);
  core_->at.make_room(static_cast<std::size_t>(layout_.values));
  // Lanes that only fill up a group, and what condensed parts hold by themselves, are nobody's values.
  core_->map.evaluated_each_step.assign(static_cast<std::size_t>(layout_.values), 0);
  const auto stand = [&](int position) {
    if (position >= 0) core_->map.evaluated_each_step[static_cast<std::size_t>(position)] = 1;
  };
  std::for_each(layout_.node_position.begin(), layout_.node_position.end(), stand);
  std::for_each(layout_.slot_position.begin(), layout_.slot_position.end(), stand);
  for (std::size_t k = 0; k < assembly_.valve_parts.size(); ++k) stand(layout_.valves + static_cast<int>(k));
  core_->map.shard_of_value.assign(static_cast<std::size_t>(layout_.values), -1);
}

void Compiler::place_slots(int& position) {
  layout_.slot_position.assign(static_cast<std::size_t>(assembly_.slot_count()), -1);
  SlotPlaces places(assembly_, layout_, position);
  for (const bool in_lanes : {true, false}) {
    places.begin_round(in_lanes);
    for (const PartKind* kind : part_kinds()) kind->place(assembly_, places);
  }
  for (const auto& knob : assembly_.knobs) places.take(knob.slot, 1);
  position = places.position();
}

}  // namespace zavrek::emt::internal
