#include "emt/core.hpp"

#include <algorithm>
#include <cmath>
#include <span>
#include <utility>

namespace zavrek::emt::internal {
namespace {

template <class ValueOf>
void impose(const SourceNode* node, const SourceNode* behind, double* now, ValueOf&& value_of) noexcept {
  for (; node != behind; ++node) now[node->position] = value_of(node->phase);
}

}  // namespace

/// The solution at the end of the step, into `next`; there is none when the step starts with a discontinuity.
void Core::advance() noexcept {
  const double until = static_cast<double>(steps + 1) * step_s;
  wake_poles(until);
  if (!legs.empty()) begin_legs(until);
  euler_throughout ? impose_sources(until, next.data()) : impose_sources_at(steps + 1, next.data());
  if (settle_first || turned) return;
  if (euler_throughout) {
    const double halfway = until - step_s / 2;
    impose_sources(halfway, middle.data());
    solve({Rule::half_euler, step_s, halfway}, Rule::half_euler, 0.5, present.data(), middle.data());
    solve({Rule::half_euler, step_s, until}, Rule::half_euler, 1, middle.data(), next.data());
  } else {
    solve({Rule::trapezoidal, step_s, until}, Rule::trapezoidal, 1, present.data(), next.data());
  }
}

void Core::begin_legs(double until) noexcept {
  const bool jumps =
      legs.begin_step(time_s(), until, valves, [&](int number, double siemens) { adjust(number, siemens); });
  turned = turned || jumps;
}

/// From the values in `old` to those in `now`. The pass that writes the currents of the parts also makes the
/// history currents of the solution after this one, by the rule `coming`; they hold unless a discontinuity or
/// a change of the values comes between. `behind` is the distance of the end from the newest entry of the
/// rings, in steps.
void Core::solve(const Stretch& stretch, Rule coming, double behind, const double* old,
                 double* now) noexcept {
  prepare(stretch, behind, old, now);
  conclude(stretch, coming, old, now);
}

/// What acts on the nodes: history currents, beside known voltages that stand in `now`.
void Core::prepare(const Stretch& stretch, double behind, const double* old, double* now) noexcept {
  if (!all_condensed && (!ahead_holds || ahead_rule != stretch.rule)) {
    inject_histories(stretch.rule, old);
  }
  begin_parts(stretch, behind, old);
  for (const Shard& shard : shards) {
    if (shard.condensed) shard.condensed->take_drive(stretch.rule, old, now, rhs.data());
  }
}

/// Of all parts but those of condensed ones, into an empty right-hand side.
void Core::inject_histories(Rule rule, const double* old) noexcept {
  std::fill(rhs.begin(), rhs.end(), 0.0);
  for (Shard& shard : shards) {
    if (shard.condensed) continue;
    for_each_group(shard, [&, weights = weights_of(rule)](auto& group) {
      group.inject(weights, old, rhs.data(), first_unknown);
    });
  }
}

/// Node voltages, and what the parts make of them. `seen`: condensed parts, and the valves, have theirs.
void Core::conclude(const Stretch& stretch, Rule coming, const double* old, double* now, bool seen) noexcept {
  solve_shards(stretch.rule, coming, now, seen);
  ahead_holds = true;
  ahead_rule = coming;
  end_parts(stretch, old, now, seen);
}

void Core::solve_shards(Rule rule, Rule coming, double* now, bool seen) noexcept {
  if (crew == nullptr || shards.size() == 1) {
    for (Shard& shard : shards) solve_shard(shard, rule, coming, now, seen);
    return;
  }
  const auto work = [&](int k) noexcept {
    solve_shard(shards[static_cast<std::size_t>(k)], rule, coming, now, seen);
  };
  crew->run(
      static_cast<int>(shards.size()),
      [](const void* what, int k) noexcept { (*static_cast<const decltype(work)*>(what))(k); }, &work);
}

void Core::solve_shard(Shard& shard, Rule rule, Rule coming, double* now, bool seen) noexcept {
  if (!shard.condensed) return solve_by_factors(shard, coming, rhs.data(), now);
  if (!seen) shard.condensed->solve(now, poles_awake, rule == Rule::half_euler);
}

void Core::solve_by_factors(Shard& shard, Rule coming, double* right, double* now) const noexcept {
  for (const Coupling& coupling : shard.couplings)
    right[coupling.row] += coupling.siemens * now[coupling.known];
  for (int k = shard.first_partition; k < shard.end_partition; ++k)
    partitions[static_cast<std::size_t>(k)].solve(right, now);
  for_each_group(shard, [&, future = weights_of(coming)](auto& group) {
    group.pass(future, now, right, first_unknown);
  });
}

/// History currents of the lines, the bent characteristics and the models, and what the models' new
/// conductances ask for.
void Core::begin_parts(const Stretch& stretch, double behind, const double* old) noexcept {
  if (!lines.empty()) lines.inject(behind, rhs.data());
  if (!segments.empty()) segments.inject(stretch.rule, old, rhs.data());
  if (!valves.all_apart()) valves.inject(rhs.data());
  if (!legs.empty()) legs.inject(rhs.data());
  for (ModelRow& row : models) {
    if (row.model->begin(stretch, row.places, old, row.history.data(), row.conductance.data())) {
      for (int k = 0; k < row.ends * row.ends; ++k)
        adjustable[static_cast<std::size_t>(row.number + k)] = row.conductance[static_cast<std::size_t>(k)];
      mark(row.marks);
    }
    for (std::size_t k = 0; k < row.history.size(); ++k) {
      if (row.apart[k]) continue;
      rhs[static_cast<std::size_t>(row.places.p[k])] -= row.history[k];
      rhs[static_cast<std::size_t>(row.places.q[k])] += row.history[k];
    }
  }
  if (stale) refactor_dirty();
}

void Core::end_parts(const Stretch& stretch, const double* old, double* now, bool seen) noexcept {
  if (!lines.empty()) lines.update(now);
  if (!segments.empty()) segments.update(now);
  if (!seen && !valves.empty()) {
    valves.measure(now);
    valves.update(now);
  }
  if (!legs.empty()) legs.update(now, valves);
  if (!poles.empty()) update_poles(now);
  for (ModelRow& row : models) {
    row.model->end(stretch, row.places, old, now, row.history.data(), row.conductance.data());
    turned = row.model->jumps(row.places, now) || turned;
  }
}

void Core::impose_sources(double time, double* now) noexcept {
  const double later = time - time_s();
  for (const Driving& d : drivings) {
    const Waveform::Instant instant = waveforms_on_grid[d.waveform].at(steps, later);
    impose(sources.data() + d.first, sources.data() + d.behind, now,
           [&](const Waveform::Phase& phase) { return instant.value(phase); });
  }
}

void Core::impose_sources_at(long long step, double* now) noexcept {
  for (const Driving& d : drivings) {
    const SourceNode *first = sources.data() + d.first, *behind = sources.data() + d.behind;
    Waveform::Grid& grid = waveforms_on_grid[d.waveform];
    if (grid.steady()) {
      const auto [cosine, sine] = grid.turned(static_cast<unsigned long long>(step));
      impose(first, behind, now,
             [&, c = cosine, s = sine](const Waveform::Phase& phase) { return phase.value(c, s); });
    } else {
      const Waveform::Instant instant = grid.at(step);
      impose(first, behind, now, [&](const Waveform::Phase& phase) { return instant.value(phase); });
    }
  }
}

void Core::update_poles(double* now) const noexcept {
  for (const PoleFlow& flow : pole_flows) {
    if (flow.current >= 0) now[flow.current] = flow.siemens * (now[flow.p] - now[flow.q]);
    now[flow.position] = flow.shown;
  }
}

void Core::show_pole(std::size_t k) noexcept {
  const Pole& pole = poles[k];
  pole_flows[k] = {pole.p,        pole.q,         pole.apart ? -1 : pole.current,
                   pole.position, pole.siemens(), pole.closed ? 1.0 : 0.0};
}

Status Core::finish() noexcept {
  std::swap(present, next);
  ++steps;
  if (!lines.empty()) lines.push(present.data());
  whole_stands = false;
  if (finite()) return Status::running;
  make_whole();
  for (int k = first_unknown; k < voltages && culprit < 0; ++k) {
    if (!std::isfinite(whole[static_cast<std::size_t>(k)])) culprit = k;
  }
  return culprit < 0 ? Status::running : Status::diverged;
}

bool Core::finite() const noexcept {
  Lanes sums{}, others{};  // two, for sums wait for each other
  for (const Shard& shard : shards) {
    const auto [first, count] =
        shard.condensed ? shard.condensed->memory() : std::pair{shard.first, shard.end - shard.first};
    const double *at = present.data() + first, *behind = at + count;
    for (; at + lanes < behind; at += 2 * lanes) {
      sums += load(at);
      others += load(at + lanes);
    }
    if (at < behind) sums += load(at);
  }
  sums += others;
  return !any((sums - sums) != Lanes{});  // of what is not finite
}

void Core::begin_condensed() {
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->begin(present.data());
  }
  pole_flows.resize(poles.size());
  for (std::size_t k = 0; k < poles.size(); ++k) show_pole(k);
  whole = present;
  whole_stands = true;
}

void Core::make_whole() noexcept {
  if (whole_stands) return;
  if (half_made) forget_event();
  std::copy(present.begin(), present.end(), whole.begin());
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->complete(whole.data());
  }
  whole_stands = true;
}

void Core::find_moving() {
  moving.clear();
  shown.clear();
  std::vector<char> starts = stands;
  const auto [first, behind] = valves.stretch();
  std::fill(starts.begin() + first, starts.begin() + behind, char{0});
  for (const ModelRow& row : models) {
    for (const auto& input : row.places.inputs) {
      for (const auto& term : input) starts[static_cast<std::size_t>(term.first)] = 1;
    }
  }
  const int size = static_cast<int>(stands.size());
  for (int k = first_unknown; k < size; k += lanes) {
    const auto any_of = [&](const std::vector<char>& all) {
      return std::any_of(&all[static_cast<std::size_t>(k)], all.data() + k + lanes, [](char s) { return s; });
    };
    if (!any_of(stands)) continue;
    auto& stretches = any_of(starts) ? moving : shown;
    if (!stretches.empty() && stretches.back().second == k) {
      stretches.back().second = k + lanes;
    } else {
      stretches.emplace_back(k, k + lanes);
    }
  }
}

void Core::adjust_pole(const Pole& pole, double siemens) noexcept {
  if (adjustable[static_cast<std::size_t>(pole.number)] != siemens) adjust(pole.number, siemens);
}

void Core::adjust(int number, double siemens) noexcept {
  adjustable[static_cast<std::size_t>(number)] = siemens;
  mark(adjusts[static_cast<std::size_t>(number)]);
}

void Core::mark(const std::vector<PartitionColumn>& columns) noexcept {
  for (const auto& [partition, column] : columns)
    partitions[static_cast<std::size_t>(partition)].mark(column);
  stale = true;
}

/// Adjustable conductances keep the matrix positive definite, so refactoring cannot meet a singular node
/// after the start.
void Core::refactor_dirty() noexcept {
  for (const DrivenCoupling& d : driven)
    shards[static_cast<std::size_t>(d.shard)].couplings[static_cast<std::size_t>(d.coupling)].siemens =
        d.sign * adjustable[static_cast<std::size_t>(d.number)];
  for (Shard& shard : shards) {
    for (int k = shard.first_partition; k < shard.end_partition; ++k) {
      Partition& partition = partitions[static_cast<std::size_t>(k)];
      if (!partition.marked()) continue;
      // A condensed part refactors when it needs factors.
      shard.condensed ? shard.condensed->choose() : partition.refactor(adjustable.data());
    }
  }
  stale = false;
}

bool Core::request(int operable, bool close, double at_s) noexcept {
  come_down();
  const Operable& what = operables[static_cast<std::size_t>(operable)];
  const auto is_closed = [&](int pole) { return poles[static_cast<std::size_t>(pole)].closed; };
  for (const int other : what.blocking) {
    const auto& of_other = operables[static_cast<std::size_t>(other)].poles;
    const bool conducts = std::any_of(of_other.begin(), of_other.end(), is_closed);
    if (!conducts || (!close && what.always_opens)) continue;
    if (refusals.size() < most_refusals) refusals.push_back({std::max(at_s, time_s()), {operable}, close});
    return false;
  }
  const double at = std::max(at_s, time_s()) + (close ? what.closing_time_s : what.opening_time_s);
  for (const int index : what.poles) {
    Pole& pole = poles[static_cast<std::size_t>(index)];
    (close ? pole.close_at : pole.part_at) = at + (close ? pole.late_close_s : pole.late_open_s);
    // A command to be where the pole already is, with nothing pending that would move it, is void.
    if (close && pole.closed && pole.part_at == never()) pole.close_at = never();
    if (!close && !pole.closed && pole.close_at == never()) pole.part_at = never();
  }
  set_pole_alarm();
  keep_to_poles();
  forget_ahead();
  return true;
}

void Core::set_pole_alarm() noexcept {
  pole_alarm_s = never();
  pending.clear();
  for (std::size_t k = 0; k < poles.size(); ++k) {
    const Pole& pole = poles[k];
    if (!pole.waits()) continue;
    pending.push_back(static_cast<int>(k));
    const double asleep_until = pole.closed             ? pole.part_at
                                : pole.strength.empty() ? pole.close_at
                                                        : -never();  // it may restrike at any time
    pole_alarm_s = std::min(pole_alarm_s, asleep_until);
  }
}

/// Poles that may move within the step to come need their currents in the present.
void Core::wake_poles(double until) noexcept {
  const bool awake = pole_alarm_s < until;
  if (awake && !poles_awake) know_poles();
  poles_awake = awake;
}

void Core::know_poles() noexcept {
  if (std::none_of(poles.begin(), poles.end(), [](const Pole& pole) { return pole.apart; })) return;
  make_whole();
  for (const Pole& pole : poles) {
    if (!pole.apart) continue;
    for (const int position : {pole.p, pole.q, pole.current})
      present[static_cast<std::size_t>(position)] = whole[static_cast<std::size_t>(position)];
  }
}

bool Core::fire(int gate, bool on, double at_s) noexcept {
  bool taken = true;
  const double at = std::max(at_s, time_s());
  for (const int valve : gates[static_cast<std::size_t>(gate)].valves) {
    const auto k = static_cast<std::size_t>(valve);
    if (event_found && (at < ready_for + together() || (half_made && valves.was_taken(k)))) forget_event();
    taken &= valves.fire(k, on, at);
  }
  return taken;
}

void Core::fail(int gate, Failure how, double late_s) noexcept {
  forget_event();
  make_whole();
  for (const int valve : gates[static_cast<std::size_t>(gate)].valves) {
    const auto k = static_cast<std::size_t>(valve);
    valves.fail(k, how, late_s);
    commutations.forget();
    adjust_valve(k);
  }
  refactor_dirty();
  turned = true;
}

/// A knob's slot is written by nobody else: it keeps its value in all four arrays.
void Core::turn(int knob, double value) noexcept {
  come_down();
  const Knob& what = knobs[static_cast<std::size_t>(knob)];
  const double bounded = std::clamp(value, what.low, what.high);
  for (Numbers* array : {&present, &next, &middle, &end, &struck})
    (*array)[static_cast<std::size_t>(what.slot.index)] = bounded;
  turned = true;
}

double Core::value(const SignalRow& row) noexcept {
  if (leap && leap->landed()) {
    const int number = static_cast<int>(&row - signals.data());
    if (const double* found = leap->found(number)) return *found;
    if (leap->knows(number)) return sum_of(row, leap->values());
    leap->leave();
  }
  if (row.stands) return sum_of(row, present.data());
  make_whole();
  return sum_of(row, whole.data());
}

void Core::read(std::span<const SignalId> which, double* into) noexcept {
  std::size_t done = 0;
  if (leap && leap->landed()) {
    for (const double* found; done < which.size() && (found = leap->found(which[done].index)) != nullptr;
         ++done)
      into[done] = *found;
  }
  for (; done < which.size(); ++done)
    into[done] = value(signals[static_cast<std::size_t>(which[done].index)]);
}

/// What stands behind the present was found for the values kept so far: it is found before there are more.
void Core::watch(std::span<const SignalId> which) {
  come_down();
  std::vector<std::vector<int>> wanted(shards.size());
  for (const SignalId id : which) {
    if (std::find(watched.begin(), watched.end(), id.index) == watched.end()) watched.push_back(id.index);
    SignalRow& row = signals[static_cast<std::size_t>(id.index)];
    if (row.stands) continue;
    row.stands = true;
    for (int k = row.first; k < row.first + row.count; ++k) {
      const auto position = static_cast<std::size_t>(terms[static_cast<std::size_t>(k)].index);
      if (std::exchange(stands[position], char{1})) continue;
      wanted[static_cast<std::size_t>(shard_of_value[position])].push_back(static_cast<int>(position));
    }
  }
  if (std::all_of(wanted.begin(), wanted.end(), [](const auto& positions) { return positions.empty(); }))
    return;
  forget_ahead();
  make_whole();
  for (std::size_t k = 0; k < shards.size(); ++k) {
    if (wanted[k].empty()) continue;
    shards[k].condensed->keep(wanted[k]);
    for (const int position : wanted[k])
      present[static_cast<std::size_t>(position)] = whole[static_cast<std::size_t>(position)];
  }
  find_moving();
}

double Core::sum_of(const SignalRow& row, const double* values) const noexcept {
  double sum = 0;
  for (int k = row.first; k < row.first + row.count; ++k) {
    const Term& term = terms[static_cast<std::size_t>(k)];
    sum += term.coefficient * values[term.index];
  }
  return sum;
}

}  // namespace zavrek::emt::internal
