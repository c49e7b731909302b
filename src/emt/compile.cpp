// From a description to a plant: assemble the elements, check that nothing floats, stamp the parts
// (stamps.hpp), find the partitions (topology.hpp), lay out the value array, fill the arrays of the step,
// factor, and start.
#include <algorithm>
#include <limits>

#include "emt/compile.hpp"
#include "emt/condense.hpp"
#include "emt/steady.hpp"
#include "emt/topology.hpp"

namespace zavrek::emt {
namespace internal {
namespace {

class Compiler {
 public:
  Compiler(const network::Network& network, double step_s)
      : network_(network),
        assembly_owner_(std::make_unique<Assembly>(network, step_s)),
        assembly_(*assembly_owner_),
        core_(std::make_unique<Core>()) {
    core_->step_s = step_s;
  }

  Compiled run() {
    assemble_elements();
    refuse_floating(assembly_);
    refuse_capacitor_loops();
    stamps_ = stamp_parts(assembly_);
    topology_ = find_topology(assembly_, stamps_.entries);
    lay_out();
    lower_parts();
    place_condensed();
    factor();
    condense(assembly_, layout_, condensable_, condensed_places_, *core_);
    lower_signals();
    start();
    summarise();
    return {std::move(core_), std::move(assembly_owner_), std::move(layout_)};
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

  /// A bank across a stiff source: each step of the source would be an impulse of current.
  void refuse_capacitor_loops() const {
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

  [[nodiscard]] const std::vector<NodeId>& group(int number) const {
    return assembly_.groups()[static_cast<std::size_t>(number)];
  }

  void place(const std::vector<NodeId>& nodes, int& position) {
    for (std::size_t k = 0; k < nodes.size(); ++k) {
      layout_.node_position[static_cast<std::size_t>(nodes[k])] = position + assembly_.lane_of(nodes[k]);
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
    core_->rhs.assign(static_cast<std::size_t>(layout_.voltages), 0.0);
    divide_in_shards();
  }

  /// Partitions of about equal work side by side. A small plant is one shard; a condensed partition is a
  /// shard of its own.
  void divide_in_shards() {
    constexpr int most_shards = 16;
    constexpr int least_groups = 96;
    const int groups = (layout_.voltages - core_->first_unknown) / lanes;
    const int wanted = std::max(least_groups, (groups + most_shards - 1) / most_shards);
    int position = core_->first_unknown;
    condensable_ = find_condensable(assembly_, topology_);
    bool full = true;
    for (std::size_t k = 0; k < topology_.members.size(); ++k) {
      const int partition = static_cast<int>(k);
      if (full || condensable_[k]) core_->shards.push_back({{}, partition, partition, position, position});
      position += static_cast<int>(topology_.members[k].size()) * lanes;
      Shard& shard = core_->shards.back();
      shard.end = position;
      ++shard.end_partition;
      full = condensable_[k] || (position - shard.first) / lanes >= wanted;
      shard_of_partition_.push_back(static_cast<int>(core_->shards.size()) - 1);
    }
    const int partitions = static_cast<int>(topology_.members.size());
    if (core_->shards.empty() || has_parts_between_known_nodes())
      core_->shards.push_back({{}, partitions, partitions, position, position});
  }

  [[nodiscard]] bool has_parts_between_known_nodes() const {
    const auto between = [&](const auto& part) {
      return std::all_of(part.ends.begin(), part.ends.end(), [&](const Ends& e) {
        return topology_.known[static_cast<std::size_t>(e.p)] &&
               topology_.known[static_cast<std::size_t>(e.q)];
      });
    };
    return std::any_of(assembly_.series_parts.begin(), assembly_.series_parts.end(), between) ||
           std::any_of(assembly_.capacitance_parts.begin(), assembly_.capacitance_parts.end(), between);
  }

  /// The numbers of condensed shards come last in the value array.
  void place_condensed() {
    condensed_places_ = place_condensed_shards(assembly_, condensable_, *core_, layout_);
    for (auto* array : {&core_->present, &core_->next, &core_->middle, &core_->end})
      array->assign(static_cast<std::size_t>(layout_.values), 0.0);
    core_->stands.assign(static_cast<std::size_t>(layout_.values), 1);
    core_->shard_of_value.assign(static_cast<std::size_t>(layout_.values), -1);
  }

  /// The shard of the nodes that a part acts on: all in one partition; the last for a part between known
  /// nodes.
  [[nodiscard]] Shard& shard_of(const std::vector<Ends>& ends) {
    for (const Ends& e : ends) {
      for (const NodeId node : {e.p, e.q}) {
        for (Shard& shard : core_->shards) {
          if (at(node) >= shard.first && at(node) < shard.end) return shard;
        }
      }
    }
    return core_->shards.back();
  }

  /// Currents of blocks between groups of nodes stand in the lanes of their phases; shares of merged
  /// capacitances take no place.
  void place_slots(int& position) {
    layout_.slot_position.assign(static_cast<std::size_t>(assembly_.slot_count()), -1);
    const auto put = [&](int slot, int at) { layout_.slot_position[static_cast<std::size_t>(slot)] = at; };
    const auto take = [&](Slot first, std::size_t count) {
      for (std::size_t k = 0; k < count; ++k) put(first.index + static_cast<int>(k), position++);
    };
    const auto take_lanes = [&](Slot first, const std::vector<Ends>& ends) {
      for (std::size_t k = 0; k < ends.size(); ++k)
        put(first.index + static_cast<int>(k), position + assembly_.lane_of(ends[k]));
      position += lanes;
    };
    for (const bool in_lanes : {true, false}) {
      const auto place_part = [&](Slot first, const std::vector<Ends>& ends) {
        in_lanes ? take_lanes(first, ends) : take(first, ends.size());
      };
      for (const auto& part : assembly_.series_parts) {
        if (assembly_.between_groups(part.ends) != in_lanes) continue;
        place_part(part.first_current, part.ends);
        if (part.capacitive()) place_part(part.first_charge_voltage, part.ends);
      }
      for (const auto& part : assembly_.capacitance_parts) {
        if (assembly_.between_groups(part.ends) == in_lanes) place_part(part.first_current, part.ends);
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
    for (const auto& part : assembly_.segment_parts) {
      take(part.current, 1);
      take(part.state, 1);
    }
    place_valves(position);
    for (const auto& part : assembly_.model_parts)
      take(part.first, static_cast<std::size_t>(part.model->slots()));
    for (const auto& knob : assembly_.knobs) take(knob.slot, 1);
  }

  /// Voltages, currents and conduction of all valves, each in whole lanes.
  void place_valves(int& position) {
    const int count = static_cast<int>(assembly_.valve_parts.size());
    const int room = (count + lanes - 1) / lanes * lanes;
    valves_at_ = position = (position + lanes - 1) / lanes * lanes;
    for (int k = 0; k < count; ++k) {
      const ValvePart& part = assembly_.valve_parts[static_cast<std::size_t>(k)];
      layout_.slot_position[static_cast<std::size_t>(part.current.index)] = position + room + k;
      layout_.slot_position[static_cast<std::size_t>(part.conducts.index)] = position + 2 * room + k;
    }
    position += 3 * room;
  }

  [[nodiscard]] int at(Slot slot) const {
    return slot.index < 0 ? -1 : layout_.slot_position[static_cast<std::size_t>(slot.index)];
  }
  /// Position of a group's first lane.
  [[nodiscard]] int base(int number) const {
    const NodeId node = group(number)[0];
    return at(node) - assembly_.lane_of(node);
  }
  [[nodiscard]] int at(NodeId node) const { return layout_.node_position[static_cast<std::size_t>(node)]; }

  /// The vector of lanes holds a block's phases in their places, zeros elsewhere.
  [[nodiscard]] Eigen::MatrixXd in_lanes(const Eigen::MatrixXd& matrix, const std::vector<Ends>& ends) const {
    Eigen::MatrixXd wide = Eigen::MatrixXd::Zero(3, 3);
    for (Eigen::Index r = 0; r < matrix.rows(); ++r) {
      for (Eigen::Index c = 0; c < matrix.cols(); ++c)
        wide(assembly_.lane_of(ends[static_cast<std::size_t>(r)]),
             assembly_.lane_of(ends[static_cast<std::size_t>(c)])) = matrix(r, c);
    }
    return wide;
  }
  /// Position of a part's first value, or of the group of lanes that holds it.
  [[nodiscard]] int base(Slot first, const std::vector<Ends>& ends) const {
    if (first.index < 0) return -1;
    return at(first) - (assembly_.between_groups(ends) ? assembly_.lane_of(ends[0]) : 0);
  }
  /// Positions of the groups of lanes that a block lies between.
  [[nodiscard]] std::pair<int, int> group_ends(const std::vector<Ends>& ends) const {
    const int lane = assembly_.lane_of(ends[0]);
    return {ends[0].p == ground_node ? 0 : at(ends[0].p) - lane,
            ends[0].q == ground_node ? 0 : at(ends[0].q) - lane};
  }

  /// Calls `use` with the way of keeping 3 x 3 matrices that takes the fewest numbers; rounding is no number.
  template <class Use>
  static void as_kept(const std::vector<Eigen::MatrixXd>& matrices, Use&& use) {
    const auto all = [&](auto&& form_of) {
      return std::all_of(matrices.begin(), matrices.end(), [&](const Eigen::MatrixXd& m) {
        return (m - form_of(m)).cwiseAbs().maxCoeff() <= 1e-14 * m.cwiseAbs().maxCoeff();
      });
    };
    using Form = Eigen::MatrixXd;
    if (all([](const Form& m) -> Form { return m.diagonal().asDiagonal(); })) return use(Uncoupled{});
    const bool balanced = all([](const Form& m) -> Form {
      return Form::Constant(3, 3, m(0, 1)) + (m(0, 0) - m(0, 1)) * Form::Identity(3, 3);
    });
    balanced ? use(Balanced{}) : use(Coupled{});
  }

  void lower_series(const SeriesPart& part, const Eigen::MatrixXd& g) {
    const int current = base(part.first_current, part.ends);
    const int charge = part.capacitive() ? base(part.first_charge_voltage, part.ends) : -1;
    if (assembly_.between_groups(part.ends)) {
      const auto ends = group_ends(part.ends);
      const StepMatrices m = step_matrices(part, g, core_->step_s);
      const StepMatrices wide{in_lanes(m.kept, part.ends),
                              in_lanes(m.elastic.asDiagonal().toDenseMatrix(), part.ends).diagonal()};
      const Eigen::MatrixXd wide_g = in_lanes(g, part.ends);
      const auto add = [&](auto& group) {
        group.add(wide, wide_g, ends.first, ends.second, current, charge);
      };
      auto& parts = shard_of(part.ends).parts;
      return as_kept({wide_g, wide.kept}, [&]<class Matrix>(Matrix) {
        part.capacitive() ? add(std::get<ThreePhaseSeries<Matrix, true>>(parts))
                          : add(std::get<ThreePhaseSeries<Matrix, false>>(parts));
      });
    }
    const auto add = [&](auto& group) {
      group.add(part, g, core_->step_s, layout_.node_position.data(), current, charge);
    };
    switch (part.ends.size()) {
      case 1:
        return part.capacitive() ? add(std::get<SeriesGroup<1, true>>(shard_of(part.ends).parts))
                                 : add(std::get<SeriesGroup<1, false>>(shard_of(part.ends).parts));
      case 2:
        return add(std::get<SeriesGroup<2, false>>(shard_of(part.ends).parts));
      case 3:
        return add(std::get<SeriesGroup<3, false>>(shard_of(part.ends).parts));
      default:
        return add(std::get<SeriesGroup<4, false>>(shard_of(part.ends).parts));
    }
  }

  void lower_parts() {
    for (std::size_t k = 0; k < assembly_.series_parts.size(); ++k) {
      lower_series(assembly_.series_parts[k], stamps_.series_conductance[k]);
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts) {
      const int current = base(part.first_current, part.ends);
      if (assembly_.between_groups(part.ends)) {
        const auto [p, q] = group_ends(part.ends);
        const Eigen::MatrixXd wide = in_lanes(2 / core_->step_s * part.capacitance, part.ends);
        auto& parts = shard_of(part.ends).parts;
        as_kept({wide}, [&, p = p, q = q]<class Matrix>(Matrix) {
          std::get<ThreePhaseCapacitance<Matrix>>(parts).add(wide, p, q, current);
        });
      } else {
        std::get<CapacitanceGroup<1>>(shard_of(part.ends).parts)
            .add(part, core_->step_s, layout_.node_position.data(), current);
      }
    }
    for (const WavePart& part : assembly_.wave_parts) {
      core_->lines.add(part, core_->step_s, layout_.node_position.data(), at(part.first_near_current),
                       at(part.first_far_current));
    }
    core_->waveforms = assembly_.waveforms;
    for (const Waveform& waveform : core_->waveforms)
      core_->waveforms_on_grid.emplace_back(waveform, core_->step_s);
    for (const KnownNode& known : assembly_.known_nodes)
      core_->sources.push_back({at(known.node), known.waveform, Waveform::Phase(known.angle_rad)});
  }

  void factor() {
    std::vector<std::vector<Eigen::Triplet<double>>> triplets(topology_.members.size());
    for (const Entry& entry : stamps_.entries) {
      const bool row_known = topology_.known[static_cast<std::size_t>(entry.row)];
      const bool column_known = topology_.known[static_cast<std::size_t>(entry.column)];
      if (row_known) continue;
      if (column_known) {
        if (entry.column != ground_node && entry.siemens != 0)
          couplings_of(entry.row).push_back({at(entry.row), at(entry.column), -entry.siemens});
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
      core_->partitions.emplace_back().build(matrix, holds_node, first);
    }
    lower_poles();
    lower_segments();
    lower_valves();
    lower_legs();
    lower_models();
    core_->due.reserve(core_->poles.size());
    core_->due_segments.reserve(assembly_.segment_parts.size());
    core_->due_valves.reserve(assembly_.valve_parts.size());
    for (Partition& partition : core_->partitions)
      refuse_singular(partition.first(), partition.factor(core_->adjustable.data()));
    core_->refactor_dirty();
  }

  [[nodiscard]] int shard_number(NodeId node) const {
    const int partition = topology_.partition_of[static_cast<std::size_t>(node)];
    return shard_of_partition_[static_cast<std::size_t>(partition)];
  }
  [[nodiscard]] std::vector<Coupling>& couplings_of(NodeId node) {
    return core_->shards[static_cast<std::size_t>(shard_number(node))].couplings;
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

  /// Enters the adjustable conductances of a block of n ends, n * n of them row by row, where they act;
  /// returns the number of the first.
  int add_adjustable(const std::vector<Ends>& ends, const Eigen::MatrixXd& siemens) {
    const int first = static_cast<int>(core_->adjustable.size());
    for (std::size_t k = 0; k < ends.size(); ++k) {
      for (std::size_t m = 0; m < ends.size(); ++m) {
        const int number = first + static_cast<int>(k * ends.size() + m);
        core_->adjustable.push_back(siemens(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)));
        core_->adjusts.emplace_back();
        enter_adjustable(ends[k].p, ends[m].p, number, 1);
        enter_adjustable(ends[k].q, ends[m].q, number, 1);
        enter_adjustable(ends[k].p, ends[m].q, number, -1);
        enter_adjustable(ends[k].q, ends[m].p, number, -1);
      }
    }
    return first;
  }

  void enter_adjustable(NodeId row, NodeId column, int number, double sign) {
    if (topology_.known[static_cast<std::size_t>(row)]) return;
    if (topology_.known[static_cast<std::size_t>(column)]) {
      if (column == ground_node) return;
      auto& couplings = couplings_of(row);
      core_->driven.push_back({shard_number(row), static_cast<int>(couplings.size()), number, -sign});
      couplings.push_back({at(row), at(column), 0});
      return;
    }
    const int partition = topology_.partition_of[static_cast<std::size_t>(row)];
    Partition& where = core_->partitions[static_cast<std::size_t>(partition)];
    const PartitionColumn mark{
        partition, where.add_adjustable(at(row) - where.first(), at(column) - where.first(), number, sign)};
    auto& all = core_->adjusts[static_cast<std::size_t>(number)];
    if (std::find(all.begin(), all.end(), mark) == all.end()) all.push_back(mark);
  }

  void lower_poles() {
    for (const PolePart& part : assembly_.pole_parts) {
      Pole pole{at(part.ends.p), at(part.ends.q), at(part.current), at(part.position),
                part.closed_S,   part.open_S,     part.closed,      -1,
                Core::never(),   Core::never()};
      pole.chop_A = part.chop_A;
      pole.late_open_s = part.late_open_s;
      pole.late_close_s = part.late_close_s;
      pole.strength = part.strength;
      pole.number = add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, pole.siemens()));
      core_->poles.push_back(std::move(pole));
    }
    core_->set_pole_alarm();
  }

  void lower_segments() {
    for (const SegmentPart& part : assembly_.segment_parts) {
      const int number = add_adjustable({part.ends}, Eigen::MatrixXd::Zero(1, 1));
      core_->segments.add(part, core_->step_s, layout_.node_position.data(), at(part.current), at(part.state),
                          number);
      core_->adjustable[static_cast<std::size_t>(number)] =
          core_->segments.siemens(core_->segments.size() - 1);
    }
  }

  void lower_valves() {
    for (const ValvePart& part : assembly_.valve_parts) {
      const int number = add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, part.off_S));
      core_->valves.add(part, layout_.node_position.data(), number);
    }
    const int room = static_cast<int>(core_->valves.room());
    core_->valves.set_places(valves_at_, valves_at_ + room, valves_at_ + 2 * room);
    core_->gates = assembly_.gates;
  }

  void lower_legs() {
    for (const LegPart& part : assembly_.leg_parts) {
      std::vector<Ends> ends;
      for (const NodeId pole : part.poles) ends.push_back({pole, part.x});
      const auto n = static_cast<Eigen::Index>(ends.size());
      core_->legs.add(part, layout_.node_position.data(), add_adjustable(ends, Eigen::MatrixXd::Zero(n, n)));
    }
  }

  void lower_models() {
    for (ModelPart& part : assembly_.model_parts) {
      ModelRow row{std::move(part.model), {}, static_cast<int>(part.ends.size()), -1, {}, {}, {}, {}};
      row.input_phasors = std::vector<std::complex<double>>(part.inputs.size());
      for (const Ends& ends : part.ends) {
        row.places.p.push_back(at(ends.p));
        row.places.q.push_back(at(ends.q));
      }
      row.places.first = at(part.first);
      for (const Terms& terms : part.inputs) {
        row.places.inputs.emplace_back();
        for (const Term& term : assembly_.resolved(terms)) {
          row.places.inputs.back().push_back(
              {term.is_node ? at(term.index) : at(Slot{term.index}), term.coefficient});
        }
      }
      for (const Slot slot : row.model->knobs()) row.places.knobs.push_back(at(slot));
      row.history.assign(part.ends.size(), 0.0);
      row.apart.assign(part.ends.size(), 0);
      const Eigen::MatrixXd g = row.model->conductance(core_->step_s);
      for (Eigen::Index r = 0; r < g.rows(); ++r) {
        for (Eigen::Index c = 0; c < g.cols(); ++c) row.conductance.push_back(g(r, c));
      }
      if (row.model->varies()) {
        row.number = add_adjustable(part.ends, g);
        for (std::size_t k = 0; k < row.conductance.size(); ++k) {
          for (const PartitionColumn& mark : core_->adjusts[static_cast<std::size_t>(row.number) + k]) {
            if (std::find(row.marks.begin(), row.marks.end(), mark) == row.marks.end())
              row.marks.push_back(mark);
          }
        }
      }
      core_->models.push_back(std::move(row));
    }
  }

  void lower_signals() {
    for (const SignalDefinition& signal : assembly_.signals) {
      const Terms terms = assembly_.resolved(signal.terms);
      core_->signals.push_back({signal.name,
                                signal.unit,
                                static_cast<int>(core_->terms.size()),
                                static_cast<int>(terms.size()),
                                {},
                                true});
      for (Term term : terms) {
        term.index = term.is_node ? at(term.index) : at(Slot{term.index});
        core_->terms.push_back(term);
        core_->signals.back().stands &= core_->stands[static_cast<std::size_t>(term.index)] != 0;
      }
    }
    core_->operables = assembly_.operables;
    core_->refusals.reserve(Core::most_refusals);
    for (Operable& operable : core_->operables) resolve_interlocking(operable);
    for (const Knob& knob : assembly_.knobs) {
      core_->knobs.push_back(knob);
      core_->knobs.back().slot.index = at(knob.slot);
    }
  }

  void resolve_interlocking(Operable& operable) const {
    std::vector<std::string> known;
    for (const Operable& other : assembly_.operables) known.push_back(other.name);
    for (const std::string& name : operable.only_when_open) {
      const auto found = std::find(known.begin(), known.end(), name);
      if (found == known.end()) {
        throw Error(
            Flaw{.file = {},
                 .place = operable.name,
                 .field = "only_when_open",
                 .text = "nothing named \"" + name + "\" opens and closes" + suggestion(name, known)});
      }
      operable.blocking.push_back(static_cast<int>(found - known.begin()));
    }
  }

  void start() {
    core_->euler_throughout = network_.rule == "euler";
    for (std::size_t k = 0; k < assembly_.knobs.size(); ++k) {
      core_->present[static_cast<std::size_t>(at(assembly_.knobs[k].slot))] = assembly_.knob_values[k];
    }
    if (network_.start == "steady") {
      start_steady();
    } else {
      core_->settle_first = true;
      for (std::size_t k = 0; k < core_->models.size(); ++k) {
        const auto n = static_cast<Eigen::Index>(assembly_.model_parts[k].ends.size());
        start_model(k, Eigen::VectorXcd::Zero(n), Eigen::VectorXcd::Zero(n));
      }
    }
    // Models set the references of their controls: those knobs hold their values in all four arrays.
    for (const Knob& knob : assembly_.knobs) {
      const auto slot = static_cast<std::size_t>(at(knob.slot));
      core_->next[slot] = core_->middle[slot] = core_->end[slot] = core_->present[slot];
    }
    start_charged();
    start_segments();
    core_->impose_sources(0, core_->present.data());
    for (const Pole& pole : core_->poles)
      core_->present[static_cast<std::size_t>(pole.position)] = pole.closed ? 1 : 0;
    core_->begin_condensed();
  }

  void start_model(std::size_t k, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i) {
    ModelRow& row = core_->models[k];
    row.places.input_phasors = row.input_phasors;
    row.model->start(row.places, v, i, core_->step_s, core_->present.data());
  }

  void start_steady() {
    const std::vector<SteadyComponent> components = steady_components(assembly_, core_->models, layout_);
    std::vector<WaveGroup::Component> waves;
    for (const SteadyComponent& component : components) {
      for (int k = 0; k < layout_.values; ++k)
        core_->present[static_cast<std::size_t>(k)] += component.values[static_cast<std::size_t>(k)].real();
      waves.push_back({component.omega, component.values});
      if (component.omega != assembly_.omega()) continue;
      for (SignalRow& row : core_->signals) {
        for (int k = row.first; k < row.first + row.count; ++k) {
          const Term& term = core_->terms[static_cast<std::size_t>(k)];
          row.phasor += term.coefficient * component.values[static_cast<std::size_t>(term.index)];
        }
      }
    }
    core_->lines.fill(waves, core_->step_s);
    for (std::size_t k = 0; k < core_->models.size(); ++k) {
      const auto n = static_cast<Eigen::Index>(assembly_.model_parts[k].ends.size());
      Eigen::VectorXcd v = Eigen::VectorXcd::Zero(n);
      Eigen::VectorXcd i = v;
      for (const SteadyComponent& component : components) {
        if (component.omega != assembly_.omega()) continue;
        v = component.model_voltages[k];
        for (std::size_t input = 0; input < core_->models[k].places.inputs.size(); ++input) {
          for (const auto& [position, coefficient] : core_->models[k].places.inputs[input])
            core_->models[k].input_phasors[input] +=
                coefficient * component.values[static_cast<std::size_t>(position)];
        }
        i = component.model_currents[k];
      }
      start_model(k, v, i);
    }
  }

  /// Half of the voltage on either side: what grounds the capacitance decides where it really lies.
  void start_charged() {
    for (const ChargedPart& part : assembly_.charged) {
      core_->present[static_cast<std::size_t>(at(part.ends.p))] += part.voltage_V / 2;
      core_->present[static_cast<std::size_t>(at(part.ends.q))] -= part.voltage_V / 2;
    }
    core_->present[0] = 0;
    // Valves may conduct from the start on.
    if (!assembly_.charged.empty() || !assembly_.valve_parts.empty()) core_->settle_first = true;
  }

  /// A bent characteristic starts on the piece that its state lies on; one that nothing drives keeps its
  /// residual flux.
  void start_segments() {
    for (std::size_t k = 0; k < assembly_.segment_parts.size(); ++k) {
      const SegmentPart& part = assembly_.segment_parts[k];
      double& state = core_->present[static_cast<std::size_t>(at(part.state))];
      if (part.inductive && std::abs(state) < 0.05 * part.corners.front().x) state += part.residual;
      // The phasors took it for straight: what it adds beyond its first corner comes as a discontinuity.
      if (core_->segments.place(k, core_->present.data())) core_->settle_first = true;
      core_->adjust(core_->segments.number(k), core_->segments.siemens(k));
    }
    core_->refactor_dirty();
  }

  void summarise() {
    Summary& s = core_->summary;
    s.buses = static_cast<int>(network_.buses.size());
    s.nodes = layout_.unknowns;
    s.known_nodes = static_cast<int>(assembly_.known_nodes.size());
    s.partitions = static_cast<int>(topology_.members.size());
    s.shards = static_cast<int>(core_->shards.size());
    for (const Partition& partition : core_->partitions) {
      s.largest_partition = std::max(s.largest_partition, partition.nodes());
      s.switch_nodes += partition.adjustable_nodes();
      s.factor_entries += partition.entries();
    }
    for (const SeriesPart& part : assembly_.series_parts) {
      s.states += static_cast<int>(part.ends.size()) *
                  ((part.inductance.norm() > 0 ? 1 : 0) + (part.capacitive() ? 1 : 0));
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts)
      s.states += static_cast<int>(part.ends.size());
    s.states += static_cast<int>(core_->lines.states());
    for (const SegmentPart& part : assembly_.segment_parts) s.states += part.inductive ? 1 : 0;
    s.largest_step_s = std::numeric_limits<double>::infinity();
    for (const WavePart& part : assembly_.wave_parts)
      s.largest_step_s = std::min(s.largest_step_s, part.travel_s.minCoeff());
    for (const ModelRow& row : core_->models) {
      s.states += row.model->state_count();
      s.largest_step_s = std::min(s.largest_step_s, row.model->largest_step_s());
    }
    for (const Shard& shard : core_->shards) {
      if (!shard.condensed) continue;
      ++s.condensed;
      s.kept_states += shard.condensed->states();
      s.kept_bytes += shard.condensed->bytes();
    }
    s.events_per_step = Core::events_per_step;
    s.notes = assembly_.notes();
  }

  const network::Network& network_;
  std::unique_ptr<Assembly> assembly_owner_;
  Assembly& assembly_;
  std::unique_ptr<Core> core_;
  Layout layout_;
  Stamps stamps_;
  Topology topology_;
  std::vector<bool> condensable_;                    // per partition
  std::vector<int> shard_of_partition_;              // per partition
  int valves_at_ = 0;                                // position of their values
  std::vector<Condensed::Places> condensed_places_;  // per shard
};

}  // namespace

Compiled compile_parts(const network::Network& network, double step_s) {
  if (auto flaws = network::validate(network); !flaws.empty()) throw Error(std::move(flaws));
  return Compiler(network, step_s > 0 ? step_s : network.step_s).run();
}

}  // namespace internal

Plant compile(const network::Network& network, double step_s) {
  return Plant(internal::compile_parts(network, step_s).core);
}

}  // namespace zavrek::emt
