// From a description to a plant: assemble the elements, check that it is solvable, find the
// partitions, order their nodes (poles' nodes last), lay out the value array, fill the arrays of
// the step, factor, and start.
#include <algorithm>
#include <limits>
#include <numeric>
#include <set>

#include <camd.h>
#include <fmt/format.h>

#include "emt/core.hpp"
#include "emt/steady.hpp"

namespace zavrek::emt {
namespace internal {
namespace {

class Groups {  // union-find
 public:
  explicit Groups(int count) : parent_(static_cast<std::size_t>(count)) {
    std::iota(parent_.begin(), parent_.end(), 0);
  }
  int find(int k) {
    while (parent_[static_cast<std::size_t>(k)] != k)
      k = parent_[static_cast<std::size_t>(k)] =
          parent_[static_cast<std::size_t>(parent_[static_cast<std::size_t>(k)])];
    return k;
  }
  void join(int a, int b) { parent_[static_cast<std::size_t>(find(a))] = find(b); }

 private:
  std::vector<int> parent_;
};

struct Entry {
  NodeId row, column;
  double siemens;
};

class Compiler {
 public:
  Compiler(const network::Network& network, double step_s)
      : network_(network), assembly_(network, step_s), core_(std::make_unique<Core>()) {
    core_->step_s = step_s;
  }

  std::unique_ptr<Core> run() {
    assemble_elements();
    check_floating();
    stamp_parts();
    find_partitions();
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

  void check_floating() {
    Groups islands(assembly_.node_count());
    const auto join = [&](const std::vector<Ends>& all) {
      for (const Ends& ends : all) islands.join(ends.p, ends.q);
    };
    for (const auto& part : assembly_.series_parts) join(part.ends);
    for (const auto& part : assembly_.capacitance_parts) join(part.ends);
    for (const auto& part : assembly_.conductance_parts) join({part.ends});
    for (const auto& part : assembly_.pole_parts) join({part.ends});
    for (const auto& part : assembly_.wave_parts) {
      for (const NodeId node : part.near) islands.join(node, ground_node);
      for (const NodeId node : part.far) islands.join(node, ground_node);
    }
    for (const auto& known : assembly_.known_nodes) islands.join(known.node, ground_node);
    std::vector<Flaw> flaws;
    std::set<std::string> named;
    for (NodeId node = 1; node < assembly_.node_count(); ++node) {
      if (islands.find(node) == islands.find(ground_node)) continue;
      std::string name = assembly_.node_name(node);
      name = name.substr(0, name.rfind('.'));
      if (!named.insert(name).second) continue;
      flaws.push_back(
          {.file = {},
           .place = network_.find_bus(name) ? "bus." + name : name,
           .field = {},
           .text = "floats: nothing ties it to ground; connect a source, a grounded star, a capacitance or "
                   "a load between it and ground"});
    }
    if (!flaws.empty()) throw Error(std::move(flaws));
  }

  void stamp(const std::vector<Ends>& ends, const Eigen::MatrixXd& g) {
    for (std::size_t k = 0; k < ends.size(); ++k) {
      for (std::size_t m = 0; m < ends.size(); ++m) {
        const double value = g(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m));
        if (value == 0) continue;
        entries_.push_back({ends[k].p, ends[m].p, value});
        entries_.push_back({ends[k].q, ends[m].q, value});
        entries_.push_back({ends[k].p, ends[m].q, -value});
        entries_.push_back({ends[k].q, ends[m].p, -value});
      }
    }
  }

  void stamp_parts() {
    const double h = core_->step_s;
    for (const SeriesPart& part : assembly_.series_parts) {
      Eigen::MatrixXd z = part.resistance + 2 / h * part.inductance;
      z.diagonal() += h / 2 * part.elastance;
      const Eigen::FullPivLU<Eigen::MatrixXd> lu(z);
      if (!lu.isInvertible() || z.diagonal().minCoeff() <= 0) {
        throw Error(Flaw{
            .file = {},
            .place = part.owner,
            .field = {},
            .text = "has no impedance; give it a resistance or an inductance, or join its buses into one"});
      }
      series_conductance_.push_back(lu.inverse());
      stamp(part.ends, series_conductance_.back());
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts)
      stamp(part.ends, 2 / h * part.capacitance);
    for (const ConductancePart& part : assembly_.conductance_parts) {
      stamp({part.ends}, Eigen::MatrixXd::Constant(1, 1, part.siemens));
    }
    for (const WavePart& part : assembly_.wave_parts) {
      const Eigen::VectorXd y = (part.surge_ohm + part.resistance_ohm / 4).cwiseInverse();
      const Eigen::MatrixXd g = part.transform * y.asDiagonal() * part.transform.transpose();
      for (const auto* nodes : {&part.near, &part.far}) {
        std::vector<Ends> ends;
        for (const NodeId node : *nodes) ends.push_back({node, ground_node});
        stamp(ends, g);
      }
    }
  }

  void find_partitions() {
    const int count = assembly_.node_count();
    known_.assign(static_cast<std::size_t>(count), false);
    known_[0] = true;
    for (const KnownNode& known : assembly_.known_nodes) known_[static_cast<std::size_t>(known.node)] = true;
    touched_.assign(static_cast<std::size_t>(count), false);
    Groups groups(count);
    const auto join = [&](NodeId a, NodeId b) {
      if (!known_[static_cast<std::size_t>(a)] && !known_[static_cast<std::size_t>(b)]) groups.join(a, b);
    };
    for (const Entry& entry : entries_) join(entry.row, entry.column);
    for (const PolePart& pole : assembly_.pole_parts) {
      join(pole.ends.p, pole.ends.q);
      touched_[static_cast<std::size_t>(pole.ends.p)] = touched_[static_cast<std::size_t>(pole.ends.q)] =
          true;
    }
    for (const auto& group : assembly_.groups()) {
      for (const NodeId node : group) {
        join(group[0], node);
        if (touched_[static_cast<std::size_t>(node)]) touched_[static_cast<std::size_t>(group[0])] = true;
      }
    }
    std::vector<int> number(static_cast<std::size_t>(count), -1);
    partition_of_.assign(static_cast<std::size_t>(count), -1);
    for (std::size_t g = 0; g < assembly_.groups().size(); ++g) {
      const auto& group = assembly_.groups()[g];
      if (known_[static_cast<std::size_t>(group[0])]) continue;
      int& at = number[static_cast<std::size_t>(groups.find(group[0]))];
      if (at < 0) {
        at = static_cast<int>(members_.size());
        members_.emplace_back();
      }
      for (const NodeId node : group) partition_of_[static_cast<std::size_t>(node)] = at;
      members_[static_cast<std::size_t>(at)].push_back(static_cast<int>(g));
    }
  }

  [[nodiscard]] const std::vector<NodeId>& group(int number) const {
    return assembly_.groups()[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] bool touched(int number) const {
    return touched_[static_cast<std::size_t>(group(number)[0])];
  }

  /// Orders the groups of a partition for little fill, those that poles touch last (constrained minimum
  /// degree).
  void order(std::vector<int>& members) {
    const int n = static_cast<int>(members.size());
    std::vector<int> local(static_cast<std::size_t>(assembly_.node_count()), -1);
    for (int k = 0; k < n; ++k) {
      for (const NodeId node : group(members[static_cast<std::size_t>(k)]))
        local[static_cast<std::size_t>(node)] = k;
    }
    std::vector<std::set<int>> columns(static_cast<std::size_t>(n));
    for (const Entry& entry : entries_) {
      const int r = local[static_cast<std::size_t>(entry.row)];
      const int c = local[static_cast<std::size_t>(entry.column)];
      if (r >= 0 && c >= 0) columns[static_cast<std::size_t>(c)].insert(r);
    }
    std::vector<int> start{0};
    std::vector<int> rows;
    std::vector<int> constraint;
    for (int k = 0; k < n; ++k) {
      rows.insert(rows.end(), columns[static_cast<std::size_t>(k)].begin(),
                  columns[static_cast<std::size_t>(k)].end());
      start.push_back(static_cast<int>(rows.size()));
      constraint.push_back(touched(members[static_cast<std::size_t>(k)]) ? 1 : 0);
    }
    // CAMD numbers constraint sets from zero without gaps.
    if (std::find(constraint.begin(), constraint.end(), 0) == constraint.end()) {
      std::fill(constraint.begin(), constraint.end(), 0);
    }
    std::vector<int> permutation(static_cast<std::size_t>(n));
    if (camd_order(n, start.data(), rows.data(), permutation.data(), nullptr, nullptr, constraint.data()) <
        CAMD_OK) {
      return;  // keep the given order: only the fill suffers
    }
    std::vector<int> ordered;
    for (const int k : permutation) ordered.push_back(members[static_cast<std::size_t>(k)]);
    std::stable_partition(ordered.begin(), ordered.end(), [&](int member) { return !touched(member); });
    members = std::move(ordered);
  }

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
      if (known_[static_cast<std::size_t>(nodes[0])]) place(nodes, position);
    }
    core_->first_unknown = position;
    for (auto& members : members_) {
      order(members);
      for (const int member : members) place(group(member), position);
    }
    layout_.voltages = core_->voltages = position;
    layout_.unknown.assign(static_cast<std::size_t>(position), -1);
    core_->position_names.assign(static_cast<std::size_t>(position), "ground");
    for (NodeId node = 1; node < assembly_.node_count(); ++node) {
      core_->position_names[static_cast<std::size_t>(at(node))] = assembly_.node_name(node);
      if (!known_[static_cast<std::size_t>(node)])
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
      lower_series(assembly_.series_parts[k], series_conductance_[k]);
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
    std::vector<std::vector<Eigen::Triplet<double>>> triplets(members_.size());
    for (const Entry& entry : entries_) {
      const bool row_known = known_[static_cast<std::size_t>(entry.row)];
      const bool column_known = known_[static_cast<std::size_t>(entry.column)];
      if (row_known) continue;
      if (column_known) {
        if (entry.column != ground_node)
          core_->couplings.push_back({at(entry.row), at(entry.column), -entry.siemens});
        continue;
      }
      const auto partition = static_cast<std::size_t>(partition_of_[static_cast<std::size_t>(entry.row)]);
      const int first = at(group(members_[partition].front())[0]);
      triplets[partition].emplace_back(at(entry.row) - first, at(entry.column) - first, entry.siemens);
    }
    for (std::size_t k = 0; k < members_.size(); ++k) {
      const auto n = static_cast<Eigen::Index>(lanes * members_[k].size());
      Eigen::SparseMatrix<double> matrix(n, n);
      matrix.setFromTriplets(triplets[k].begin(), triplets[k].end());
      const int first = at(group(members_[k].front())[0]);
      std::vector<bool> holds_node;
      for (int position = first; position < first + static_cast<int>(n); ++position) {
        holds_node.push_back(layout_.unknown[static_cast<std::size_t>(position)] >= 0);
      }
      const auto leading =
          std::count_if(members_[k].begin(), members_[k].end(), [&](int member) { return !touched(member); });
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
        if (known_[static_cast<std::size_t>(node)]) return -1;
        pole.partition = partition_of_[static_cast<std::size_t>(node)];
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
    core_->dirty.assign(members_.size(), 0);
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
    s.partitions = static_cast<int>(members_.size());
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
  std::vector<Eigen::MatrixXd> series_conductance_;
  std::vector<Entry> entries_;
  std::vector<bool> known_, touched_;
  std::vector<int> partition_of_;
  std::vector<std::vector<int>> members_;  // per partition: its groups of nodes
};

}  // namespace
}  // namespace internal

Plant compile(const network::Network& network, double step_s) {
  if (auto flaws = network::validate(network); !flaws.empty()) throw Error(std::move(flaws));
  return Plant(internal::Compiler(network, step_s > 0 ? step_s : network.step_s).run());
}

}  // namespace zavrek::emt
