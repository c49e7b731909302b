#include "emt/compile/condense.hpp"

#include <algorithm>
#include <utility>

namespace zavrek::emt::internal {
namespace {

[[nodiscard]] int at(const Layout& layout, NodeId node) {
  return layout.node_position[static_cast<std::size_t>(node)];
}
[[nodiscard]] int at(const Layout& layout, Slot slot) {
  return slot.index < 0 ? -1 : layout.slot_position[static_cast<std::size_t>(slot.index)];
}
[[nodiscard]] bool touches(const Layout& layout, const Shard& shard, const Ends& ends) {
  const auto inside = [&](NodeId node) {
    return at(layout, node) >= shard.first && at(layout, node) < shard.end;
  };
  return inside(ends.p) || inside(ends.q);
}
[[nodiscard]] bool is_condensed(const Shard& shard, const std::vector<bool>& condensable) {
  return shard.first_partition < shard.end_partition &&
         condensable[static_cast<std::size_t>(shard.first_partition)];
}

/// What lines and models drive into a condensed shard.
Condensed::Outside outside_of(const Assembly& assembly, const Layout& layout, const Shard& shard,
                              Core& core) {
  Condensed::Outside outside;
  for (const SourceNode& source : core.sources.nodes()) {
    const auto drives = [&](const Coupling& coupling) { return coupling.known == source.position; };
    if (std::any_of(shard.couplings.begin(), shard.couplings.end(), drives))
      outside.known.push_back(source.position);
  }
  const auto inside = [&](int position) { return position >= shard.first && position < shard.end; };
  const auto add_port = [&](int position) {
    auto& ports = outside.ports;
    if (inside(position) && std::find(ports.begin(), ports.end(), position) == ports.end())
      ports.push_back(position);
  };
  for (const WavePart& part : assembly.wave_parts) {
    for (const auto* nodes : {&part.near, &part.far})
      std::for_each(nodes->begin(), nodes->end(), [&](NodeId node) { add_port(at(layout, node)); });
  }
  for (std::size_t model = 0; model < core.models.size(); ++model) {
    ModelRow& row = core.models[model];
    for (std::size_t k = 0; k < row.history.size(); ++k) {
      const int p = row.places.p[k], q = row.places.q[k];
      const auto fits = [&](int position) { return inside(position) || position < core.map.first_unknown; };
      if (fits(p) && fits(q) && (inside(p) || inside(q))) {
        outside.ends.push_back({model, k, p, q});
        row.in_condensed[k] = 1;
      } else {
        add_port(p);
        add_port(q);
      }
    }
  }
  return outside;
}

/// The switches that a condensed part drives, measures and finds itself.
void give_over(const Condensed& condensed, Core& core) {
  for (const std::size_t k : condensed.valves()) core.valves.set_in_condensed(k);
  for (const std::size_t k : condensed.segments()) core.segments.set_in_condensed(k);
  for (const std::size_t k : condensed.poles()) core.poles[k].in_condensed = true;
  if (!condensed.holds_all_valves()) return;
  for (const std::size_t k : condensed.valves())
    core.map.evaluated_each_step[static_cast<std::size_t>(core.valves.voltage(k))] = 0;
  core.valves.move_voltages(condensed.valve_voltages());
}

/// Visits what a condensed shard does not keep up: positions of its node voltages and of the currents of its
/// parts.
template <class Visit>
void for_each_left_out(const Assembly& assembly, const Layout& layout, const Shard& shard, Visit&& visit) {
  const auto visit_slots = [&](Slot first, const std::vector<Ends>& ends) {
    const bool inside =
        std::any_of(ends.begin(), ends.end(), [&](const Ends& e) { return touches(layout, shard, e); });
    if (first.index < 0 || !inside) return;
    for (std::size_t k = 0; k < ends.size(); ++k) {
      const Slot slot{first.index + static_cast<int>(k)};
      if (at(layout, slot) >= 0) visit(at(layout, slot));
    }
  };
  for (int position = shard.first; position < shard.end; ++position) visit(position);
  for (const SeriesPart& part : assembly.series_parts) {
    visit_slots(part.first_current, part.ends);
    if (part.capacitive()) visit_slots(part.first_charge_voltage, part.ends);
  }
  for (const CapacitancePart& part : assembly.capacitance_parts) visit_slots(part.first_current, part.ends);
  for (const PolePart& part : assembly.pole_parts) visit_slots(part.current, {part.ends});
}

/// The most that a shard's product may come to, and what may lead to it.
Condensed::Room room_for(const Assembly& assembly, const Layout& layout, Shard& shard) {
  const auto inside = [&](const auto& part) { return touches(layout, shard, part.ends); };
  const auto count = [&](const auto& parts) {
    return static_cast<int>(std::count_if(parts.begin(), parts.end(), inside));
  };
  const int segments = count(assembly.segment_parts);
  Condensed::Room room{.history = Condensed::history_of(shard.parts, segments),
                       .valves = count(assembly.valve_parts),
                       .others = segments,
                       .drive = static_cast<int>(assembly.known_nodes.size()) + shard.end - shard.first,
                       .junction = shard.end - shard.first + 2 * lanes};
  for_each_left_out(assembly, layout, shard, [&](int) { ++room.others; });
  for (const ModelPart& part : assembly.model_parts) room.drive += static_cast<int>(part.ends.size());
  // Each area fills up its lanes.
  const int filling = lanes * (static_cast<int>(Divided::most_areas) + 1);
  room.history += filling;
  room.others += filling;
  room.drive += room.history;
  return room;
}

/// Nodes of each partition that valves, bent characteristics and models touch whose conductances change.
std::vector<std::set<NodeId>> junctions_of(const Assembly& assembly, const Topology& topology) {
  std::vector<std::set<NodeId>> junctions(topology.members.size());
  const auto touch = [&](const Ends& ends) {
    for (const NodeId node : {ends.p, ends.q}) {
      const auto at = static_cast<std::size_t>(node);
      if (!topology.known[at]) junctions[static_cast<std::size_t>(topology.partition_of[at])].insert(node);
    }
  };
  for (const ValvePart& part : assembly.valve_parts) touch(part.ends);
  for (const SegmentPart& part : assembly.segment_parts) touch(part.ends);
  for (const ModelPart& part : assembly.model_parts) {
    if (!part.model->varies_by_itself()) continue;
    std::for_each(part.ends.begin(), part.ends.end(), touch);
  }
  return junctions;
}

}  // namespace

std::vector<bool> find_condensable(const Assembly& assembly, const Topology& topology) {
  constexpr std::size_t most_groups = 48, most_junction = 40;
  std::vector<bool> wanted(topology.members.size(), false);
  const auto mark = [&](NodeId node, bool wants) {
    if (!topology.known[static_cast<std::size_t>(node)])
      wanted[static_cast<std::size_t>(topology.partition_of[static_cast<std::size_t>(node)])] = wants;
  };
  const auto mark_ends = [&](const Ends& ends, bool wants) {
    mark(ends.p, wants);
    mark(ends.q, wants);
  };
  if (assembly.network().rule == "euler") return wanted;
  for (const ValvePart& part : assembly.valve_parts) mark_ends(part.ends, true);
  const auto junctions = junctions_of(assembly, topology);
  for (std::size_t k = 0; k < wanted.size(); ++k) {
    if (topology.members[k].size() > most_groups || junctions[k].size() > most_junction) wanted[k] = false;
  }
  for (const LegPart& part : assembly.leg_parts) mark(part.x, false);
  return wanted;
}

std::vector<Condensed::Places> place_condensed_shards(const Assembly& assembly,
                                                      const std::vector<bool>& condensable, Core& core,
                                                      Layout& layout) {
  std::vector<Condensed::Places> all;
  // From the begin of a cache line on.
  const auto whole_lines = [](int position) {
    return (position + 2 * lanes - 1) / (2 * lanes) * (2 * lanes);
  };
  int position = whole_lines(layout.values);
  for (Shard& shard : core.shards) {
    Condensed::Places places;
    if (is_condensed(shard, condensable)) {
      const Condensed::Room room = room_for(assembly, layout, shard);
      for (auto [place, count] : {std::pair{&places.history, room.history},
                                  {&places.result, room.result()},
                                  {&places.drive, room.drive}}) {
        *place = position;
        position = whole_lines(position + count);
      }
    }
    all.push_back(places);
  }
  layout.values = position;
  return all;
}

void condense(const Assembly& assembly, const Layout& layout, const std::vector<bool>& condensable,
              const std::vector<Condensed::Places>& places, Core& core) {
  for (std::size_t k = 0; k < core.shards.size(); ++k) {
    Shard& shard = core.shards[k];
    if (!is_condensed(shard, condensable)) continue;
    const Condensed::Outside outside = outside_of(assembly, layout, shard, core);
    shard.condensed = std::make_unique<Condensed>(core.view_of(shard), places[k], outside, core.models);
    give_over(*shard.condensed, core);
    for_each_left_out(assembly, layout, shard, [&](int position) {
      core.map.evaluated_each_step[static_cast<std::size_t>(position)] = 0;
      core.map.shard_of_value[static_cast<std::size_t>(position)] = static_cast<int>(k);
    });
    for (const int port : outside.ports) core.map.evaluated_each_step[static_cast<std::size_t>(port)] = 1;
    for (const Condensed::ModelEnd& end : outside.ends)
      core.map.evaluated_each_step[static_cast<std::size_t>(end.p)] =
          core.map.evaluated_each_step[static_cast<std::size_t>(end.q)] = 1;
    std::vector<int> inputs;
    for (const ModelRow& row : core.models) {
      for (const auto& input : row.places.inputs) {
        for (const auto& [position, coefficient] : input) {
          if (core.map.evaluated_each_step[static_cast<std::size_t>(position)] ||
              core.map.shard_of_value[static_cast<std::size_t>(position)] != static_cast<int>(k))
            continue;
          inputs.push_back(position);
          core.map.evaluated_each_step[static_cast<std::size_t>(position)] = 1;
        }
      }
    }
    shard.condensed->keep(inputs);
  }
  core.all_condensed = std::all_of(core.shards.begin(), core.shards.end(),
                                   [](const Shard& s) { return s.condensed != nullptr; });
  core.find_ranges();
}

}  // namespace zavrek::emt::internal
