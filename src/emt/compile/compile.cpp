// From a description to a plant: assemble the elements, check that nothing floats, stamp the parts
// (kinds/stamps.hpp), find the partitions (topology.hpp), lay out the value array, fill the arrays of the
// step, factor, and start.
#include <algorithm>
#include <limits>

#include "emt/compile/compiler.hpp"
#include "emt/elements/fault.hpp"
#include "emt/elements/lines/right_of_way.hpp"
#include "emt/elements/source.hpp"

namespace zavrek::emt::internal {

Compiled Compiler::run() {
  assemble_elements();
  refuse_floating(assembly_);
  note_held_by_valves(assembly_);
  refuse_capacitor_loops();
  stamp();
  topology_ = find_topology(assembly_, stamps_.entries);
  lay_out();
  build_partitions();
  lower_parts();
  place_condensed();
  factor();
  condense(assembly_, layout_, topology_.condensable, condensed_places_, *core_);
  lower_signals();
  start();
  summarise();
  return {std::move(core_), std::move(assembly_owner_), std::move(layout_)};
}

void Compiler::assemble_elements() {
  assemble_faults(assembly_);
  assemble_rights_of_way(assembly_);
  // Elements that refer to other elements (current transformers) read their signals: they come second.
  for (const bool refers : {false, true}) {
    if (refers) assemble_stiff_currents(assembly_);
    for (const network::Element& element : network_.elements) {
      const auto& fields = network::table_of(element).fields;
      const bool does =
          std::any_of(fields.begin(), fields.end(), [](const auto& f) { return f.names_element; });
      if (does == refers) std::visit([&](const auto& e) { assemble(e, assembly_); }, element);
    }
  }
}

void Compiler::refuse_capacitor_loops() const {
  const auto imposed = [&](NodeId node) {
    return node == ground_node || std::any_of(assembly_.known_nodes.begin(), assembly_.known_nodes.end(),
                                              [&](const KnownNode& k) { return k.node == node; });
  };
  for (const CapacitancePart& part : assembly_.capacitance_parts) {
    if (!part.owner.starts_with("capacitor.")) continue;
    if (!std::all_of(part.ends.begin(), part.ends.end(),
                     [&](const Ends& e) { return imposed(e.p) && imposed(e.q); }))
      continue;
    throw Error(Flaw{
        .file = {},
        .place = part.owner,
        .field = "bus",
        .text = "closes a loop of capacitors and stiff sources; give the source a short_circuit or put a "
                "branch in between"});
  }
}

void Compiler::stamp() {
  for (const PartKind* kind : part_kinds()) kind->stamp(assembly_, stamps_);
}

void Compiler::build_partitions() {
  std::vector<std::vector<Eigen::Triplet<double>>> triplets(topology_.members.size());
  for (const Entry& entry : stamps_.entries) {
    const bool row_known = topology_.known[static_cast<std::size_t>(entry.row)];
    const bool column_known = topology_.known[static_cast<std::size_t>(entry.column)];
    if (row_known) continue;
    if (column_known) {
      if (entry.column != ground_node && entry.siemens != 0)
        lowering_.couplings_of(entry.row).push_back({at(entry.row), at(entry.column), -entry.siemens});
      continue;
    }
    const auto partition =
        static_cast<std::size_t>(topology_.partition_of[static_cast<std::size_t>(entry.row)]);
    const int first = base(topology_.members[partition].front());
    triplets[partition].emplace_back(at(entry.row) - first, at(entry.column) - first, entry.siemens);
  }
  for (std::size_t k = 0; k < topology_.members.size(); ++k) {
    const auto n = static_cast<Eigen::Index>(lanes * topology_.members[k].size());
    Eigen::SparseMatrix<double> matrix(n, n);
    matrix.setFromTriplets(triplets[k].begin(), triplets[k].end());
    const int first = base(topology_.members[k].front());
    std::vector<bool> holds_node;
    for (int position = first; position < first + static_cast<int>(n); ++position) {
      holds_node.push_back(layout_.unknown[static_cast<std::size_t>(position)] >= 0);
    }
    core_->conductances.partitions.emplace_back().build(matrix, holds_node, first);
  }
}

void Compiler::factor() {
  core_->make_room();
  for (Partition& partition : core_->conductances.partitions)
    refuse_singular(partition.first(), partition.factor(core_->conductances.adjustable.data()));
  core_->refactor();
}

void Compiler::refuse_singular(int first, int local) const {
  if (local < 0) return;
  throw Error(
      Flaw{.file = {},
           .place = core_->map.position_names[static_cast<std::size_t>(first + local)],
           .field = {},
           .text = "its voltage is not determined: the elements around it cancel or differ by more than 15 "
                   "decades; check their values"});
}

void Compiler::summarise() {
  Summary& s = core_->summary;
  s.buses = static_cast<int>(network_.buses.size());
  s.nodes = layout_.unknowns;
  s.known_nodes = static_cast<int>(assembly_.known_nodes.size());
  s.partitions = static_cast<int>(topology_.members.size());
  s.shards = static_cast<int>(core_->shards.size());
  for (const Partition& partition : core_->conductances.partitions) {
    s.largest_partition = std::max(s.largest_partition, partition.nodes());
  }
  s.largest_step_s = std::numeric_limits<double>::infinity();
  for (const PartKind* kind : part_kinds()) kind->count(lowering_, s);
  for (const Shard& shard : core_->shards) {
    if (!shard.condensed) {
      for (int k = shard.first_partition; k < shard.end_partition; ++k) {
        const Partition& partition = core_->conductances.partitions[static_cast<std::size_t>(k)];
        s.switch_nodes += partition.adjustable_nodes();
        s.factor_entries += partition.entries();
      }
      continue;
    }
    s.switch_nodes += shard.condensed->junction_nodes();
    s.factor_entries += shard.condensed->numbers_read();
    ++s.condensed;
    s.areas += static_cast<int>(shard.condensed->areas());
    s.junction_nodes += shard.condensed->junction_nodes();
    s.kept_matrices += shard.condensed->matrices();
    s.kept_bytes += shard.condensed->bytes();
    s.made_ahead += static_cast<std::size_t>(shard.condensed->made_ahead());
  }
  s.events_per_step = Core::events_per_step;
  s.notes = assembly_.notes();
}

Compiled compile_parts(const network::Network& network, double step_s, Condensing condensing) {
  if (auto flaws = network::validate(network); !flaws.empty()) throw Error(std::move(flaws));
  return Compiler(network, step_s > 0 ? step_s : network.step_s, condensing).run();
}

}  // namespace zavrek::emt::internal

namespace zavrek::emt {

Plant compile(const network::Network& network, double step_s) {
  return Plant(internal::compile_parts(network, step_s).core);
}

}  // namespace zavrek::emt
