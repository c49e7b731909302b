// From the parts of the assembly to the arrays of the step.
#include <algorithm>

#include "emt/compile/compiler.hpp"

namespace zavrek::emt::internal {

namespace {

/// Calls `use` with the way of keeping 3 x 3 matrices that takes the fewest numbers; rounding is no number.
template <class Use>
void as_kept(const std::vector<Eigen::MatrixXd>& matrices, Use&& use) {
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

}  // namespace

Eigen::MatrixXd Compiler::in_lanes(const Eigen::MatrixXd& matrix, const std::vector<Ends>& ends) const {
  Eigen::MatrixXd wide = Eigen::MatrixXd::Zero(3, 3);
  for (Eigen::Index r = 0; r < matrix.rows(); ++r) {
    for (Eigen::Index c = 0; c < matrix.cols(); ++c)
      wide(assembly_.lane_of(ends[static_cast<std::size_t>(r)]),
           assembly_.lane_of(ends[static_cast<std::size_t>(c)])) = matrix(r, c);
  }
  return wide;
}

void Compiler::lower_series(const SeriesPart& part, const Eigen::MatrixXd& g) {
  const int current = base(part.first_current, part.ends);
  const int charge = part.capacitive() ? base(part.first_charge_voltage, part.ends) : -1;
  if (assembly_.between_groups(part.ends)) {
    const auto ends = group_ends(part.ends);
    const StepMatrices m = step_matrices(part, g, core_->options.step_s);
    const StepMatrices wide{in_lanes(m.kept, part.ends),
                            in_lanes(m.elastic.asDiagonal().toDenseMatrix(), part.ends).diagonal()};
    const Eigen::MatrixXd wide_g = in_lanes(g, part.ends);
    const auto add = [&](auto& group) { group.add(wide, wide_g, ends.first, ends.second, current, charge); };
    auto& parts = shard_of(part.ends).parts;
    return as_kept({wide_g, wide.kept}, [&]<class Matrix>(Matrix) {
      part.capacitive() ? add(std::get<ThreePhaseSeries<Matrix, true>>(parts))
                        : add(std::get<ThreePhaseSeries<Matrix, false>>(parts));
    });
  }
  const auto add = [&](auto& group) {
    group.add(part, g, core_->options.step_s, layout_.node_position.data(), current, charge);
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

/// Stretches next to each other are one.
void Compiler::enter_charging(int first, int count) {
  auto& all = core_->map.capacitor_currents;
  if (!all.empty() && all.back().first + all.back().second == first) {
    all.back().second += count;
  } else {
    all.emplace_back(first, count);
  }
}

void Compiler::lower_parts() {
  for (std::size_t k = 0; k < assembly_.series_parts.size(); ++k) {
    lower_series(assembly_.series_parts[k], stamps_.series_conductance[k]);
  }
  for (const CapacitancePart& part : assembly_.capacitance_parts) {
    const int current = base(part.first_current, part.ends);
    const bool in_lanes_of_buses = assembly_.between_groups(part.ends);
    if (!is_condensed(shard_of(part.ends)))
      enter_charging(current, in_lanes_of_buses ? lanes : static_cast<int>(part.ends.size()));
    if (in_lanes_of_buses) {
      const auto [p, q] = group_ends(part.ends);
      const Eigen::MatrixXd wide = in_lanes(2 / core_->options.step_s * part.capacitance, part.ends);
      auto& parts = shard_of(part.ends).parts;
      as_kept({wide}, [&, p = p, q = q]<class Matrix>(Matrix) {
        std::get<ThreePhaseCapacitance<Matrix>>(parts).add(wide, p, q, current);
      });
    } else {
      std::get<CapacitanceGroup<1>>(shard_of(part.ends).parts)
          .add(part, core_->options.step_s, layout_.node_position.data(), current);
    }
  }
  for (const WavePart& part : assembly_.wave_parts) {
    core_->lines.add(part, core_->options.step_s, layout_.node_position.data(), at(part.first_near_current),
                     at(part.first_far_current));
  }
  core_->sources.set_waveforms(assembly_.waveforms, core_->options.step_s);
  for (const KnownNode& known : assembly_.known_nodes)
    core_->sources.add({at(known.node), known.waveform, Waveform::Phase(known.angle_rad)});
}

int Compiler::add_adjustable(const std::vector<Ends>& ends, const Eigen::MatrixXd& siemens) {
  const int first = static_cast<int>(core_->conductances.adjustable.size());
  for (std::size_t k = 0; k < ends.size(); ++k) {
    for (std::size_t m = 0; m < ends.size(); ++m) {
      const int number = first + static_cast<int>(k * ends.size() + m);
      core_->conductances.adjustable.push_back(
          siemens(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)));
      core_->conductances.columns.emplace_back();
      enter_adjustable(ends[k].p, ends[m].p, number, 1);
      enter_adjustable(ends[k].q, ends[m].q, number, 1);
      enter_adjustable(ends[k].p, ends[m].q, number, -1);
      enter_adjustable(ends[k].q, ends[m].p, number, -1);
    }
  }
  return first;
}

void Compiler::enter_adjustable(NodeId row, NodeId column, int number, double sign) {
  if (topology_.known[static_cast<std::size_t>(row)]) return;
  if (topology_.known[static_cast<std::size_t>(column)]) {
    if (column == ground_node) return;
    auto& couplings = couplings_of(row);
    core_->shards[static_cast<std::size_t>(shard_number(row))].driven.push_back(
        {static_cast<int>(couplings.size()), number, -sign});
    couplings.push_back({at(row), at(column), 0});
    return;
  }
  const int partition = topology_.partition_of[static_cast<std::size_t>(row)];
  Partition& where = core_->conductances.partitions[static_cast<std::size_t>(partition)];
  const PartitionColumn mark{
      partition, where.add_adjustable(at(row) - where.first(), at(column) - where.first(), number, sign)};
  auto& all = core_->conductances.columns[static_cast<std::size_t>(number)];
  if (std::find(all.begin(), all.end(), mark) == all.end()) all.push_back(mark);
}

void Compiler::lower_poles() {
  for (const PolePart& part : assembly_.pole_parts) {
    Pole pole{.p = at(part.ends.p),
              .q = at(part.ends.q),
              .current = at(part.current),
              .position = at(part.position),
              .closed_S = part.closed_S,
              .open_S = part.open_S,
              .number = -1,
              .chop_A = part.chop_A,
              .late_open_s = part.late_open_s,
              .late_close_s = part.late_close_s,
              .strength = part.strength,
              .closed = part.closed};
    pole.number = add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, pole.siemens()));
    core_->poles.add(std::move(pole));
  }
  core_->poles.set_alarm();
}

void Compiler::lower_segments() {
  for (const SegmentPart& part : assembly_.segment_parts) {
    const int number = add_adjustable({part.ends}, Eigen::MatrixXd::Zero(1, 1));
    core_->segments.add(part, core_->options.step_s, layout_.node_position.data(), at(part.current),
                        at(part.state), number);
    core_->conductances.adjustable[static_cast<std::size_t>(number)] =
        core_->segments.siemens(core_->segments.size() - 1);
  }
}

void Compiler::lower_valves() {
  for (const ValvePart& part : assembly_.valve_parts) {
    const int number = add_adjustable({part.ends}, Eigen::MatrixXd::Constant(1, 1, part.off_S));
    core_->valves.add(part, layout_.node_position.data(), number);
  }
  const int room = static_cast<int>(core_->valves.room());
  core_->valves.set_places(valves_at_, valves_at_ + room, valves_at_ + 2 * room);
  core_->controls.gates = assembly_.gates;
  core_->commutator.likely_states = assembly_.likely_parts;
  std::vector<bool> told(assembly_.valve_parts.size(), false);
  for (const LikelyPart& part : assembly_.likely_parts) {
    for (const int valve : part.valves) told[static_cast<std::size_t>(valve)] = true;
  }
  for (std::size_t k = 0; k < told.size(); ++k) {
    if (!told[k]) core_->commutator.likely_states.push_back({{static_cast<int>(k)}, {"0", "1"}});
  }
  for (const LikelyPart& part : core_->commutator.likely_states) {
    const auto first = static_cast<std::size_t>(part.valves.front());
    if (assembly_.valve_parts[first].kind != ValveKind::transistor) continue;
    std::uint64_t kind = 0;
    for (const int valve : part.valves)
      kind = kind << 2U |
             static_cast<std::uint64_t>(assembly_.valve_parts[static_cast<std::size_t>(valve)].kind);
    core_->commutator.commutations.add_leg(first, part.valves.size(), kind);
  }
}

void Compiler::lower_legs() {
  for (const LegPart& part : assembly_.leg_parts) {
    std::vector<Ends> ends;
    for (const NodeId pole : part.poles) ends.push_back({pole, part.x});
    const auto n = static_cast<Eigen::Index>(ends.size());
    core_->legs.add(part, layout_.node_position.data(), add_adjustable(ends, Eigen::MatrixXd::Zero(n, n)));
  }
}

void Compiler::lower_models() {
  for (ModelPart& part : assembly_.model_parts) {
    ModelRow row{.model = std::move(part.model), .places = {}};
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
    row.in_condensed.assign(part.ends.size(), 0);
    const Eigen::MatrixXd g = row.model->conductance(core_->options.step_s);
    for (Eigen::Index r = 0; r < g.rows(); ++r) {
      for (Eigen::Index c = 0; c < g.cols(); ++c) row.conductance.push_back(g(r, c));
    }
    if (row.model->varies()) {
      row.number = add_adjustable(part.ends, g);
      for (std::size_t k = 0; k < row.conductance.size(); ++k) {
        for (const PartitionColumn& mark :
             core_->conductances.columns[static_cast<std::size_t>(row.number) + k]) {
          if (std::find(row.marks.begin(), row.marks.end(), mark) == row.marks.end())
            row.marks.push_back(mark);
        }
      }
    }
    if (const auto [first, count] = row.model->charging_slots(); count > 0)
      enter_charging(row.places.first + first, count);
    core_->models.add(std::move(row));
  }
}

void Compiler::lower_signals() {
  for (const SignalDefinition& signal : assembly_.signals) {
    const Terms terms = assembly_.resolved(signal.terms);
    SignalRow row{.name = signal.name,
                  .unit = signal.unit,
                  .first = static_cast<int>(core_->signals.terms.size()),
                  .count = static_cast<int>(terms.size()),
                  .phasor = {},
                  .evaluated_each_step = true};
    for (Term term : terms) {
      term.index = term.is_node ? at(term.index) : at(Slot{term.index});
      core_->signals.terms.push_back(term);
      row.evaluated_each_step = row.evaluated_each_step && core_->map.is_evaluated(term.index);
    }
    core_->signals.rows.push_back(std::move(row));
  }
  core_->controls.operables = assembly_.operables;
  core_->controls.refusals.reserve(Controls::most_refusals);
  for (Operable& operable : core_->controls.operables) resolve_interlocking(operable);
  for (const Knob& knob : assembly_.knobs) {
    core_->controls.knobs.push_back(knob);
    core_->controls.knobs.back().slot.index = at(knob.slot);
  }
}

void Compiler::resolve_interlocking(Operable& operable) const {
  std::vector<std::string> known;
  for (const Operable& other : assembly_.operables) known.push_back(other.name);
  for (const std::string& name : operable.only_when_open) {
    const auto found = std::find(known.begin(), known.end(), name);
    if (found == known.end()) {
      throw Error(Flaw{.file = {},
                       .place = operable.name,
                       .field = "only_when_open",
                       .text = "nothing named \"" + name + "\" opens and closes" + suggestion(name, known)});
    }
    operable.blocking.push_back(static_cast<int>(found - known.begin()));
  }
}

}  // namespace zavrek::emt::internal
