#include "emt/step/core.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

namespace zavrek::emt::internal {

double Core::grid_time_s(int steps_on) const noexcept {
  return static_cast<double>(counters.steps + steps_on) * options.step_s;
}

/// The solution at the end of the step, into `next`; there is none when the step starts with a discontinuity.
void Core::advance() noexcept {
  const double until = grid_time_s(1);
  wake_poles(until);
  if (!legs.empty()) begin_legs(until);
  options.euler_throughout ? impose_sources(until, at.next.data())
                           : sources.impose_at(counters.steps + 1, at.next.data());
  if (restart.due()) return;
  const double step_s = options.step_s;
  if (options.euler_throughout) {
    const double halfway = until - step_s / 2;
    impose_sources(halfway, at.middle.data());
    solve({Rule::half_euler, step_s, halfway, time_s()}, Rule::half_euler, 0.5, at.present.data(),
          at.middle.data());
    solve({Rule::half_euler, step_s, until, time_s()}, Rule::half_euler, 1, at.middle.data(), at.next.data());
  } else {
    solve({Rule::trapezoidal, step_s, until, time_s()}, Rule::trapezoidal, 1, at.present.data(),
          at.next.data());
  }
}

void Core::begin_legs(double until) noexcept {
  const bool jumps = legs.begin_step(
      time_s(), until, valves, [&](int number, double siemens) { conductances.adjust(number, siemens); });
  restart.legs = restart.legs || jumps;
}

/// From the values in `old` to those in `now`. The pass that writes the currents of the parts also makes the
/// history currents of the solution after this one, by the rule `coming`; they hold unless a discontinuity or
/// a change of the values comes between.
void Core::solve(const Interval& interval, Rule coming, double steps_after_newest, const double* old,
                 double* now) noexcept {
  prepare(interval, steps_after_newest, old, now);
  conclude(interval, coming, old, now);
}

/// What acts on the nodes: history currents, beside known voltages that stand in `now`.
void Core::prepare(const Interval& interval, double steps_after_newest, const double* old,
                   double* now) noexcept {
  if (!all_condensed && !history.stands_for(interval.rule)) inject_histories(interval.rule, old);
  begin_parts(interval, steps_after_newest, old);
  for (const Shard& shard : shards) {
    if (shard.condensed) shard.condensed->gather_inputs(interval.rule, old, now, history.rhs.data());
  }
}

/// Of all parts but those of condensed ones, into an empty right-hand side.
void Core::inject_histories(Rule rule, const double* old) noexcept {
  if (const double* slopes = slopes_of(old); slopes != old && rule == Rule::trapezoidal)
    return inject_apart(old, {1, slopes}, {0, slopes});
  if (rule == Rule::half_euler && ahead.bent != 0) return inject_at_event(old);
  std::fill(history.rhs.begin(), history.rhs.end(), 0.0);
  for (Shard& shard : shards) {
    if (shard.condensed) continue;
    for_each_group(shard.parts, [&, weights = weights_of(rule)](auto& group) {
      group.inject(weights, old, history.rhs.data(), map.first_unknown);
    });
  }
}

/// At the event gone back to: the step's slopes change on a line, so that states are less than on the line
/// through them (`go_back`). The present may be exchanged for the event already.
void Core::inject_at_event(const double* stands) noexcept {
  const Numbers& grid = stands == at.present.data() ? at.at_event : at.present;
  const double* before = ahead.bent_by_sloping ? at.sloping.data() : grid.data();
  inject_apart(stands, {ahead.bent, before}, {-ahead.bent, at.next.data()});
}

/// The same of states in `stands` and the slopes of others.
void Core::inject_apart(const double* stands, Sloped first, Sloped second) noexcept {
  std::fill(history.rhs.begin(), history.rhs.end(), 0.0);
  for (Shard& shard : shards) {
    if (shard.condensed) continue;
    for_each_group(shard.parts, [&](auto& group) {
      group.inject_apart(stands, first, second, history.rhs.data(), map.first_unknown);
    });
  }
}

/// Node voltages, and what the parts make of them.
void Core::conclude(const Interval& interval, Rule coming, const double* old, double* now,
                    CondensedPart condensed) noexcept {
  solve_shards(coming, now, condensed);
  history.hold(coming);
  end_parts(interval, old, now, condensed);
}

void Core::solve_shards(Rule coming, double* now, CondensedPart condensed) noexcept {
  if (workers == nullptr || shards.size() == 1) {
    for (Shard& shard : shards) solve_shard(shard, coming, now, condensed);
    return;
  }
  const auto work = [&](int k) noexcept {
    solve_shard(shards[static_cast<std::size_t>(k)], coming, now, condensed);
  };
  workers->run(
      static_cast<int>(shards.size()),
      [](const void* what, int k) noexcept { (*static_cast<const decltype(work)*>(what))(k); }, &work);
}

void Core::solve_shard(Shard& shard, Rule coming, double* now, CondensedPart condensed) noexcept {
  if (!shard.condensed) return solve_by_factors(shard, coming, history.rhs.data(), now);
  if (condensed == CondensedPart::already_solved) return;
  shard.condensed->solve(now, poles.awake());
}

void Core::solve_by_factors(Shard& shard, Rule coming, double* right, double* now) const noexcept {
  for (const Coupling& coupling : shard.couplings)
    right[coupling.row] += coupling.siemens * now[coupling.known];
  for (int k = shard.first_partition; k < shard.end_partition; ++k)
    conductances.partitions[static_cast<std::size_t>(k)].solve(right, now);
  for_each_group(shard.parts, [&, future = weights_of(coming)](auto& group) {
    group.pass(future, now, right, map.first_unknown);
  });
}

void Core::step_linear(double* right, double* now) noexcept {
  drive_parts(right);
  if (!lines.empty()) lines.inject(1, right);
  for (Shard& shard : shards) solve_by_factors(shard, Rule::trapezoidal, right, now);
  if (!lines.empty()) {
    lines.update(now);
    lines.push(now);
  }
  poles.update_currents(now);
}

void Core::drive_parts(double* right) noexcept {
  std::fill_n(right, history.rhs.size(), 0.0);
  for (Shard& shard : shards)
    for_each_group(shard.parts, [&](auto& group) { group.drive(right, map.first_unknown); });
}

/// History currents of the lines, the bent characteristics and the models, and what the models' new
/// conductances ask for.
void Core::begin_parts(const Interval& interval, double steps_after_newest, const double* old) noexcept {
  double* const rhs = history.rhs.data();
  if (!lines.empty()) lines.inject(steps_after_newest, rhs);
  if (!segments.empty()) segments.inject(interval.rule, old, slopes_of(old), rhs);
  if (!valves.all_in_condensed()) valves.inject(rhs);
  if (!legs.empty()) legs.inject(rhs);
  models.begin_solution(interval, old, conductances, rhs);
  if (conductances.stale) refactor();
}

void Core::end_parts(const Interval& interval, const double* old, double* now,
                     CondensedPart condensed) noexcept {
  if (!lines.empty()) lines.update(now);
  if (!segments.empty()) segments.update(now);
  if (condensed == CondensedPart::to_solve && !valves.empty()) {
    valves.measure(now);
    valves.update(now);
  }
  if (!legs.empty()) legs.update(now, valves, !interval.beyond);
  if (!poles.empty()) poles.update(now);
  const bool jumps = models.end_solution(interval, old, now);
  restart.pending = restart.pending || (jumps && !interval.beyond);
}

Status Core::finish() noexcept {
  std::swap(at.present, at.next);
  at.sloping_stands = std::exchange(ahead.behind_event, false);
  ++counters.steps;
  if (!lines.empty()) lines.push(at.present.data());
  at.full_stands = false;
  if (finite()) return Status::running;
  expand_condensed();
  int& culprit = counters.culprit;
  for (int k = map.first_unknown; k < map.voltages && culprit < 0; ++k) {
    if (!std::isfinite(at.full_present[static_cast<std::size_t>(k)])) culprit = k;
  }
  return culprit < 0 ? Status::running : Status::diverged;
}

bool Core::finite() const noexcept {
  Lanes sums{}, others{};  // two, for sums wait for each other
  for (const Shard& shard : shards) {
    const auto [first, count] =
        shard.condensed ? shard.condensed->history() : std::pair{shard.first, shard.end - shard.first};
    const double *value = at.present.data() + first, *end = value + count;
    for (; value + lanes < end; value += 2 * lanes) {
      sums += load(value);
      others += load(value + lanes);
    }
    if (value < end) sums += load(value);
  }
  sums += others;
  return !any((sums - sums) != Lanes{});  // of what is not finite
}

void Core::look_over() noexcept {
  expand_condensed();
  for (int k = map.first_unknown; k < map.voltages; ++k) {
    const auto at_k = static_cast<std::size_t>(k);
    const double volts = at.full_present[at_k];
    if (!(std::abs(volts) > map.voltage_bounds[at_k])) continue;
    if (excesses.count == static_cast<int>(excesses.all.size())) return;
    const auto end = excesses.all.begin() + excesses.count;
    if (std::any_of(excesses.all.begin(), end, [&](const auto& one) { return one.position == k; })) continue;
    excesses.all[static_cast<std::size_t>(excesses.count++)] = {k, volts, time_s()};
  }
}

void Core::begin_condensed() {
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->begin(at.present.data());
  }
  poles.show_all();
  at.full_present = at.present;
  at.full_stands = true;
}

void Core::expand_condensed() noexcept {
  if (at.full_stands) return;
  std::copy(at.present.begin(), at.present.end(), at.full_present.begin());
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->complete(at.full_present.data());
  }
  at.full_stands = true;
}

void Core::find_ranges() {
  map.carried_ranges.clear();
  map.output_ranges.clear();
  std::vector<char> starts = map.evaluated_each_step;
  const auto [first, end] = valves.stretch();
  std::fill(starts.begin() + first, starts.begin() + end, char{0});
  for (const ModelRow& row : models) {
    for (const auto& input : row.places.inputs) {
      for (const auto& term : input) starts[static_cast<std::size_t>(term.first)] = 1;
    }
  }
  const int size = static_cast<int>(map.evaluated_each_step.size());
  for (int k = map.first_unknown; k < size; k += lanes) {
    const auto any_of = [&](const std::vector<char>& all) {
      return std::any_of(&all[static_cast<std::size_t>(k)], all.data() + k + lanes, [](char s) { return s; });
    };
    if (!any_of(map.evaluated_each_step)) continue;
    auto& ranges = any_of(starts) ? map.carried_ranges : map.output_ranges;
    if (!ranges.empty() && ranges.back().second == k) {
      ranges.back().second = k + lanes;
    } else {
      ranges.emplace_back(k, k + lanes);
    }
  }
}

/// Adjustable conductances keep the matrix positive definite, so refactoring cannot meet a singular node
/// after the start.
void Core::refactor() noexcept {
  for (Shard& shard : shards) {
    for (const DrivenCoupling& d : shard.driven)
      shard.couplings[static_cast<std::size_t>(d.coupling)].siemens = d.sign * conductances.siemens(d.number);
    for (int k = shard.first_partition; k < shard.end_partition; ++k) {
      Partition& partition = conductances.partitions[static_cast<std::size_t>(k)];
      if (!partition.marked()) continue;
      if (shard.condensed) {
        shard.condensed->choose();
        partition.leave_stale();
      } else {
        partition.refactor(conductances.adjustable.data());
      }
    }
  }
  conductances.stale = false;
}

/// Poles that may move within the step to come need their currents in the present.
void Core::wake_poles(double until) noexcept {
  if (poles.wake(until)) read_condensed_poles();
}

void Core::read_condensed_poles() noexcept {
  if (std::none_of(poles.begin(), poles.end(), [](const Pole& pole) { return pole.in_condensed; })) return;
  expand_condensed();
  for (const Pole& pole : poles) {
    if (!pole.in_condensed) continue;
    for (const int position : {pole.p, pole.q, pole.current})
      at.present[static_cast<std::size_t>(position)] = at.full_present[static_cast<std::size_t>(position)];
  }
}

}  // namespace zavrek::emt::internal
