// From a description to a plant: assemble the elements, check that nothing floats, stamp the parts
// (stamps.hpp), find the partitions (topology.hpp), lay out the value array, fill the arrays of the step,
// factor, and start.
#include <algorithm>
#include <limits>
#include <set>

#include "emt/core.hpp"
#include "emt/steady.hpp"
#include "emt/topology.hpp"

namespace zavrek::emt {
namespace internal {
namespace {

class Compiler {
 public:
  Compiler(const network::Network& network, double step_s)
      : network_(network), assembly_(network, step_s), core_(std::make_unique<Core>()) {
    core_->step_s = step_s;
  }

  std::unique_ptr<Core> run() {
    assemble_elements();
    refuse_floating(assembly_);
    stamps_ = stamp_parts(assembly_);
    topology_ = find_topology(assembly_, stamps_.entries);
    lay_out();
    lower_parts();
    factor();
    lower_signals();
    start();
    summarise();
    return std::move(core_);
  }

 private:
  void assemble_elements() {
    // Elements that refer to other elements (current transformers) read their signals: they come second.
    for (const bool refers : {false, true}) {
      for (const network::Element& element : network_.elements) {
        const auto& fields = network::table_of(element).fields;
        const bool does =
            std::any_of(fields.begin(), fields.end(), [](const auto& f) { return f.names_element; });
        if (does == refers) std::visit([&](const auto& e) { assemble(e, assembly_); }, element);
      }
    }
  }

  [[nodiscard]] const std::vector<NodeId>& group(int number) const {
    return assembly_.groups()[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] bool touched(int number) const { return topology_.touched[static_cast<std::size_t>(number)]; }

  void place(const std::vector<NodeId>& nodes, int& position) {
    for (std::size_t k = 0; k < nodes.size(); ++k) {
      layout_.node_position[static_cast<std::size_t>(nodes[k])] = position + static_cast<int>(k);
    }
    position += lanes;
  }

  void lay_out() {
    layout_.node_position.assign(static_cast<std::size_t>(assembly_.node_count()), 0);
    int position = lanes;  // ground
    for (const auto& nodes : assembly_.groups()) {
      if (topology_.known[static_cast<std::size_t>(nodes[0])]) place(nodes, position);
    }
    core_->first_unknown = position;
    for (const auto& members : topology_.members) {
      for (const int member : members) place(group(member), position);
    }
    layout_.voltages = core_->voltages = position;
    layout_.unknown.assign(static_cast<std::size_t>(position), -1);
    core_->position_names.assign(static_cast<std::size_t>(position), "ground");
    for (NodeId node = 1; node < assembly_.node_count(); ++node) {
      core_->position_names[static_cast<std::size_t>(at(node))] = assembly_.node_name(node);
      if (!topology_.known[static_cast<std::size_t>(node)])
        layout_.unknown[static_cast<std::size_t>(at(node))] = layout_.unknowns++;
    }
    place_slots(position);
    layout_.values = position;
    for (auto* array : {&core_->present, &core_->next, &core_->middle, &core_->end}) {
      array->assign(static_cast<std::size_t>(layout_.values), 0.0);
    }
    core_->ahead.assign(static_cast<std::size_t>(layout_.voltages), 0.0);
  }

  /// Slots of three-phase parts take whole groups of lanes; shares of merged capacitances take none.
  void place_slots(int& position) {
    layout_.slot_position.assign(static_cast<std::size_t>(assembly_.slot_count()), -1);
    const auto take = [&](Slot first, std::size_t count) {
      for (std::size_t k = 0; k < count; ++k) {
        layout_.slot_position[static_cast<std::size_t>(first.index) + k] = position + static_cast<int>(k);
      }
      position += count == 3 ? lanes : static_cast<int>(count);
    };
    for (const bool three_phase : {true, false}) {
      for (const auto& part : assembly_.series_parts) {
        if ((part.ends.size() == 3) != three_phase) continue;
        take(part.first_current, part.ends.size());
        if (part.capacitive()) take(part.first_charge_voltage, part.ends.size());
      }
      for (const auto& part : assembly_.capacitance_parts) {
        if ((part.ends.size() == 3) == three_phase) take(part.first_current, part.ends.size());
      }
    }
    for (const auto& pole : assembly_.pole_parts) {
      take(pole.current, 1);
      take(pole.position, 1);
    }
    for (const auto& part : assembly_.wave_parts) {
      take(part.first_near_current, part.near.size());
      take(part.first_far_current, part.far.size());
    }
  }

  [[nodiscard]] int at(Slot slot) const {
    return slot.index < 0 ? -1 : layout_.slot_position[static_cast<std::size_t>(slot.index)];
  }
  [[nodiscard]] int at(NodeId node) const { return layout_.node_position[static_cast<std::size_t>(node)]; }

  void lower_series(const SeriesPart& part, const Eigen::MatrixXd& g) {
    const auto add = [&](auto& group) {
      group.add(part, g, core_->step_s, layout_.node_position.data(), at(part.first_current),
                at(part.first_charge_voltage));
    };
    const std::size_t n = part.ends.size();
    if (n == 1 && part.capacitive()) return add(std::get<SeriesGroup<1, true>>(core_->series));
    if (n == 1) return add(std::get<SeriesGroup<1, false>>(core_->series));
    if (n == 2) return add(std::get<SeriesGroup<2, false>>(core_->series));
    if (part.capacitive()) return add(std::get<ThreePhaseSeries<true>>(core_->series));
    add(std::get<ThreePhaseSeries<false>>(core_->series));
  }

  void lower_parts() {
    for (std::size_t k = 0; k < assembly_.series_parts.size(); ++k) {
      lower_series(assembly_.series_parts[k], stamps_.series_conductance[k]);
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts) {
      const auto add = [&](auto& group) {
        group.add(part, core_->step_s, layout_.node_position.data(), at(part.first_current));
      };
      if (part.ends.size() == 1) {
        add(std::get<CapacitanceGroup<1>>(core_->capacitance));
      } else {
        add(std::get<ThreePhaseCapacitance>(core_->capacitance));
      }
    }
    for (const WavePart& part : assembly_.wave_parts) {
      core_->lines.add(part, core_->step_s, layout_.node_position.data(), at(part.first_near_current),
                       at(part.first_far_current));
    }
    for (const KnownNode& known : assembly_.known_nodes) {
      core_->waves.push_back({at(known.node), known.amplitude_V, known.omega, known.angle_rad});
    }
  }

  void factor() {
    std::vector<std::vector<Eigen::Triplet<double>>> triplets(topology_.members.size());
    for (const Entry& entry : stamps_.entries) {
      const bool row_known = topology_.known[static_cast<std::size_t>(entry.row)];
      const bool column_known = topology_.known[static_cast<std::size_t>(entry.column)];
      if (row_known) continue;
      if (column_known) {
        if (entry.column != ground_node)
          core_->couplings.push_back({at(entry.row), at(entry.column), -entry.siemens});
        continue;
      }
      const auto partition =
          static_cast<std::size_t>(topology_.partition_of[static_cast<std::size_t>(entry.row)]);
      const int first = at(group(topology_.members[partition].front())[0]);
      triplets[partition].emplace_back(at(entry.row) - first, at(entry.column) - first, entry.siemens);
    }
    for (std::size_t k = 0; k < topology_.members.size(); ++k) {
      const auto n = static_cast<Eigen::Index>(lanes * topology_.members[k].size());
      Eigen::SparseMatrix<double> matrix(n, n);
      matrix.setFromTriplets(triplets[k].begin(), triplets[k].end());
      const int first = at(group(topology_.members[k].front())[0]);
      std::vector<bool> holds_node;
      for (int position = first; position < first + static_cast<int>(n); ++position) {
        holds_node.push_back(layout_.unknown[static_cast<std::size_t>(position)] >= 0);
      }
      const auto leading = std::count_if(topology_.members[k].begin(), topology_.members[k].end(),
                                         [&](int member) { return !touched(member); });
      Partition partition;
      refuse_singular(first, partition.build(matrix, holds_node, static_cast<int>(leading), first));
      core_->partitions.push_back(std::move(partition));
    }
    lower_poles();
    for (Partition& partition : core_->partitions) refuse_singular(partition.first(), partition.refactor());
  }

  void refuse_singular(int first, int local) const {
    if (local < 0) return;
    throw Error(
        Flaw{.file = {},
             .place = core_->position_names[static_cast<std::size_t>(first + local)],
             .field = {},
             .text = "its voltage is not determined: the elements around it cancel or differ by more than 15 "
                     "decades; check their values"});
  }

  void lower_poles() {
    for (const PolePart& part : assembly_.pole_parts) {
      Pole pole{at(part.ends.p),
                at(part.ends.q),
                at(part.current),
                at(part.position),
                part.closed_S,
                part.open_S,
                part.closed,
                -1,
                -1,
                -1,
                Core::never(),
                Core::never()};
      const auto local = [&](NodeId node) {
        if (topology_.known[static_cast<std::size_t>(node)]) return -1;
        pole.partition = topology_.partition_of[static_cast<std::size_t>(node)];
        return at(node) - core_->partitions[static_cast<std::size_t>(pole.partition)].first();
      };
      const int p = local(part.ends.p);
      const int q = local(part.ends.q);
      if (pole.partition >= 0) {
        pole.number =
            core_->partitions[static_cast<std::size_t>(pole.partition)].add_pole(p, q, pole.siemens());
      }
      if ((p < 0) != (q < 0)) {
        const NodeId outside = p < 0 ? part.ends.p : part.ends.q;
        const NodeId inside = p < 0 ? part.ends.q : part.ends.p;
        if (outside != ground_node) {
          pole.coupling = static_cast<int>(core_->couplings.size());
          core_->couplings.push_back({at(inside), at(outside), pole.siemens()});
        }
      }
      core_->poles.push_back(pole);
    }
    core_->due.reserve(core_->poles.size());
    core_->dirty.assign(topology_.members.size(), 0);
  }

  void lower_signals() {
    for (const SignalDefinition& signal : assembly_.signals) {
      const Terms terms = assembly_.resolved(signal.terms);
      core_->signals.push_back({signal.name,
                                signal.unit,
                                static_cast<int>(core_->terms.size()),
                                static_cast<int>(terms.size()),
                                {}});
      for (Term term : terms) {
        term.index = term.is_node ? at(term.index) : at(Slot{term.index});
        core_->terms.push_back(term);
      }
    }
    core_->operables = assembly_.operables;
  }

  void start() {
    core_->euler_throughout = network_.rule == "euler";
    const bool steady = network_.start == "steady";
    if (steady) {
      start_steady();
    } else {
      core_->settle_first = true;
    }
    for (const Wave& wave : core_->waves) {
      core_->present[static_cast<std::size_t>(wave.position)] = wave.amplitude * std::cos(wave.angle);
    }
    for (const Pole& pole : core_->poles)
      core_->present[static_cast<std::size_t>(pole.position)] = pole.closed ? 1 : 0;
  }

  void start_steady() {
    std::set<double> frequencies;
    for (const KnownNode& known : assembly_.known_nodes) frequencies.insert(known.omega);
    std::vector<WaveGroup::Component> components;
    for (const double omega : frequencies) {
      components.push_back({omega, steady_state(assembly_, layout_, omega)});
      for (std::size_t k = 0; k < core_->present.size(); ++k)
        core_->present[k] += components.back().values[k].real();
    }
    core_->lines.fill(components, core_->step_s);
    for (const auto& component : components) {
      if (component.omega != assembly_.omega()) continue;
      for (SignalRow& row : core_->signals) {
        for (int k = row.first; k < row.first + row.count; ++k) {
          const Term& term = core_->terms[static_cast<std::size_t>(k)];
          row.phasor += term.coefficient * component.values[static_cast<std::size_t>(term.index)];
        }
      }
    }
  }

  void summarise() {
    Summary& s = core_->summary;
    s.buses = static_cast<int>(network_.buses.size());
    s.nodes = layout_.unknowns;
    s.known_nodes = static_cast<int>(assembly_.known_nodes.size());
    s.partitions = static_cast<int>(topology_.members.size());
    for (const Partition& partition : core_->partitions) {
      s.largest_partition = std::max(s.largest_partition, partition.nodes());
      s.switch_nodes += partition.trailing();
      s.factor_entries += partition.entries();
    }
    for (const SeriesPart& part : assembly_.series_parts) {
      s.states += static_cast<int>(part.ends.size()) *
                  ((part.inductance.norm() > 0 ? 1 : 0) + (part.capacitive() ? 1 : 0));
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts)
      s.states += static_cast<int>(part.ends.size());
    s.states += static_cast<int>(core_->lines.states());
    s.largest_step_s = std::numeric_limits<double>::infinity();
    for (const WavePart& part : assembly_.wave_parts)
      s.largest_step_s = std::min(s.largest_step_s, part.travel_s.minCoeff());
    s.events_per_step = Core::events_per_step;
    s.notes = assembly_.notes();
  }

  const network::Network& network_;
  Assembly assembly_;
  std::unique_ptr<Core> core_;
  Layout layout_;
  Stamps stamps_;
  Topology topology_;
};

}  // namespace
}  // namespace internal

Plant compile(const network::Network& network, double step_s) {
  if (auto flaws = network::validate(network); !flaws.empty()) throw Error(std::move(flaws));
  return Plant(internal::Compiler(network, step_s > 0 ? step_s : network.step_s).run());
}

}  // namespace zavrek::emt
