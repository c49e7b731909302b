#include "emt/core.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::emt::internal {
namespace {

template <class Visit>
void for_each_group(Shard& shard, Visit&& visit) {
  std::apply([&](auto&... group) { (visit(group), ...); }, shard.parts);
}

/// Below this a pole carries nothing and opens as soon as its contacts part.
constexpr double no_current_A = 1e-9;

}  // namespace

void Core::advance() noexcept {
  const double until = static_cast<double>(steps + 1) * step_s;
  if (!legs.empty()) begin_legs(until);
  if (euler_throughout) {
    solve({Rule::half_euler, step_s, until - step_s / 2}, Rule::half_euler, 0.5, present.data(),
          middle.data());
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
  if (!ahead_holds || ahead_rule != stretch.rule) {
    std::fill(rhs.begin(), rhs.end(), 0.0);
    for (Shard& shard : shards) {
      for_each_group(shard, [&, weights = weights_of(stretch.rule)](auto& group) {
        group.inject(weights, old, rhs.data(), first_unknown);
      });
    }
  }
  begin_parts(stretch, behind, old);
  impose_sources(stretch.until_s, now);
  couple_sources(now);
  solve_shards(stretch.rule, coming, old, now);
  ahead_holds = true;
  ahead_rule = coming;
  end_parts(stretch, old, now);
}

void Core::solve_shards(Rule rule, Rule coming, const double* old, double* now) noexcept {
  if (crew == nullptr || shards.size() == 1) {
    for (Shard& shard : shards) solve_shard(shard, rule, coming, old, now);
    return;
  }
  const auto work = [&](int k) noexcept {
    solve_shard(shards[static_cast<std::size_t>(k)], rule, coming, old, now);
  };
  crew->run(
      static_cast<int>(shards.size()),
      [](const void* what, int k) noexcept { (*static_cast<const decltype(work)*>(what))(k); }, &work);
}

void Core::solve_shard(Shard& shard, Rule rule, Rule coming, const double* old, double* now) noexcept {
  std::copy(&rhs[static_cast<std::size_t>(shard.first)], rhs.data() + shard.end, now + shard.first);
  std::fill(&rhs[static_cast<std::size_t>(shard.first)], rhs.data() + shard.end, 0.0);
  for (int k = shard.first_partition; k < shard.end_partition; ++k)
    partitions[static_cast<std::size_t>(k)].solve(now);
  const Weights past = weights_of(rule), future = weights_of(coming);
  for_each_group(shard, [&](auto& group) { group.pass(past, future, old, now, rhs.data(), first_unknown); });
}

/// History currents of the lines, the bent characteristics and the models, and what the models' new
/// conductances ask for.
void Core::begin_parts(const Stretch& stretch, double behind, const double* old) noexcept {
  lines.inject(behind, rhs.data());
  segments.inject(stretch.rule, old, rhs.data());
  valves.inject(rhs.data());
  legs.inject(rhs.data());
  for (ModelRow& row : models) {
    if (row.model->begin(stretch, row.places, old, row.history.data(), row.conductance.data())) {
      for (int k = 0; k < row.ends * row.ends; ++k)
        adjustable[static_cast<std::size_t>(row.number + k)] = row.conductance[static_cast<std::size_t>(k)];
      mark(row.marks);
    }
    for (std::size_t k = 0; k < row.history.size(); ++k) {
      rhs[static_cast<std::size_t>(row.places.p[k])] -= row.history[k];
      rhs[static_cast<std::size_t>(row.places.q[k])] += row.history[k];
    }
  }
  if (stale) refactor_dirty();
}

void Core::end_parts(const Stretch& stretch, const double* old, double* now) noexcept {
  lines.update(now);
  segments.update(now);
  valves.update(now);
  legs.update(now, valves);
  update_poles(now);
  for (ModelRow& row : models)
    row.model->end(stretch, row.places, old, now, row.history.data(), row.conductance.data());
}

void Core::impose_sources(double time, double* now) const noexcept {
  for (std::size_t k = 0; k < sources.size();) {
    const std::size_t waveform = sources[k].waveform;
    const Waveform::Instant instant(waveforms[waveform], time);
    for (; k < sources.size() && sources[k].waveform == waveform; ++k)
      now[sources[k].position] = instant.value(sources[k].phase);
  }
}

/// What the known voltages drive into the unknown nodes.
void Core::couple_sources(const double* now) noexcept {
  for (const Coupling& coupling : couplings)
    rhs[static_cast<std::size_t>(coupling.row)] += coupling.siemens * now[coupling.known];
}

void Core::update_poles(double* now) const noexcept {
  for (const Pole& pole : poles) {
    now[pole.current] = pole.siemens() * (now[pole.p] - now[pole.q]);
    now[pole.position] = pole.closed ? 1 : 0;
  }
}

void Core::resolve_discontinuities() noexcept {
  double from = time_s();
  const double until = static_cast<double>(steps + 1) * step_s;
  if (settle_first || turned) {
    due.clear();
    due_segments.clear();
    due_valves.clear();
    settle(from, until, from);
    settle_first = turned = false;
  }
  if (pending == 0 && segments.empty() && !valves_look_behind && valves.quiet(until)) return;
  if (!valves.empty() && !valves_look_behind) valves.look_behind(present.data());
  for (int count = 0; pending > 0 || !segments.empty() || !valves.empty(); ++count) {
    const double event = find_due(from, until);
    if (event == never()) break;
    if (count == events_per_step) {
      ++crowded_steps;
      break;
    }
    settle(from, until, event);
    from = event;
  }
  valves_look_behind = false;
}

Status Core::finish() noexcept {
  std::swap(present, next);
  ++steps;
  lines.push(present.data());
  Lanes sums{};
  for (int k = first_unknown; k < voltages; k += lanes) sums += load(&present[static_cast<std::size_t>(k)]);
  if (std::isfinite(sums[0] + sums[1] + sums[2])) return Status::running;
  for (int k = first_unknown; k < voltages && culprit < 0; ++k) {
    if (!std::isfinite(present[static_cast<std::size_t>(k)])) culprit = k;
  }
  return culprit < 0 ? Status::running : Status::diverged;
}

/// Instant within (from, until] at which the pole changes over, never() when it does not. `present`
/// holds the values at `from`, `next` those at `until`.
double Core::event_time(const Pole& pole, double from, double until) const noexcept {
  if (!pole.closed) {
    const double closes = pole.close_at < until ? std::max(pole.close_at, from) : never();
    return pole.strength.empty() ? closes : std::min(closes, restrike_time(pole, from, until));
  }
  if (pole.part_at >= until) return never();
  const double before = present[static_cast<std::size_t>(pole.current)];
  const double after = next[static_cast<std::size_t>(pole.current)];
  const double earliest = std::max(pole.part_at, from);
  if (std::abs(before) < no_current_A && std::abs(after) < no_current_A) return earliest;
  if (from <= pole.closed_at) return never();  // `present` does not know its current yet
  const double at_parting = before + (after - before) * (earliest - from) / (until - from);
  if (std::abs(at_parting) < pole.chop_A) return earliest;
  // From above the level, the pole interrupts where the falling current meets it.
  const double level = std::copysign(pole.chop_A, at_parting);
  if ((at_parting - level) * (after - level) > 0) return never();
  const double zero = from + (until - from) * (before - level) / (before - after);
  return zero >= pole.part_at && zero < until ? std::max(zero, from) : never();
}

/// Instant at which the voltage across an open pole exceeds what the gap withstands by then.
double Core::restrike_time(const Pole& pole, double from, double until) const noexcept {
  const auto across = [&](const Numbers& values) {
    return std::abs(values[static_cast<std::size_t>(pole.p)] - values[static_cast<std::size_t>(pole.q)]);
  };
  const auto withstands = [&](double time) {
    const network::Points& s = pole.strength;
    const double since = time - pole.ceased_at;
    std::size_t k = 0;
    while (k + 1 < s.size() && s[k + 1].x <= since) ++k;
    if (since <= s[k].x || k + 1 == s.size()) return s[k].y;
    return s[k].y + (s[k + 1].y - s[k].y) * (since - s[k].x) / (s[k + 1].x - s[k].x);
  };
  const double excess_after = across(next) - withstands(until);
  if (excess_after <= 0) return never();
  const double excess_before = across(present) - withstands(from);
  if (excess_before >= 0) return from;
  return from + (until - from) * excess_before / (excess_before - excess_after);
}

/// Earliest event within (from, until] and, in `due` and `due_segments`, all that change over at it: poles of
/// one command, or two that share a current, are one discontinuity.
double Core::find_due(double from, double until) noexcept {
  const double together = 1e-6 * step_s;
  double earliest = never();
  const auto clear = [&] {
    due.clear();
    due_segments.clear();
    due_valves.clear();
  };
  clear();
  const auto consider = [&](double time, std::vector<int>& list, std::size_t index) {
    if (time == never() || time > earliest + together) return;
    if (time < earliest - together) clear();
    earliest = std::min(earliest, time);
    list.push_back(static_cast<int>(index));
  };
  for (std::size_t k = 0; pending > 0 && k < poles.size(); ++k) {
    const Pole& pole = poles[k];
    if (pole.close_at == never() && pole.part_at == never() && (pole.closed || pole.strength.empty()))
      continue;
    consider(event_time(pole, from, until), due, k);
  }
  for (std::size_t k = 0; k < segments.size(); ++k) {
    const double share = segments.leaves_at(k, present.data(), next.data());
    const double time = from + share * (until - from);
    if (share <= 1 && time > segments.moved_at(k) + 1e-9 * step_s) consider(time, due_segments, k);
  }
  // Between an event and the half-step point behind it the valves fit already, and `next` is extrapolated.
  const bool by_itself = !valves_look_behind || until > from + step_s / 2;
  for (std::size_t k = 0; k < valves.size(); ++k)
    consider(valves.event_time(k, from, until, next.data(), by_itself), due_valves, k);
  return earliest;
}

/// Goes back to the event, changes what is due over and takes two half steps of backward Euler, which end
/// at event + h; the grid point `until` is read off the line through the two half-step points.
void Core::settle(double from, double until, double event) noexcept {
  ++discontinuities;
  for (const int index : due_segments) {
    const auto k = static_cast<std::size_t>(index);
    segments.move(k, next.data(), event);
    adjust(segments.number(k), segments.siemens(k));
  }
  const double share = until > from ? (event - from) / (until - from) : 0;
  for (std::size_t k = 0; k < present.size(); ++k) present[k] += share * (next[k] - present[k]);
  change_valves(event);
  operate_due(event);

  const double grid = static_cast<double>(steps) * step_s;
  const double offset = (event - grid) / step_s;  // of the event behind the newest ring entry
  solve_behind(event, offset);
  const double along = 1 - 2 * offset;  // -1 at the event, 0 and 1 at the half-step points
  for (std::size_t k = 0; k < next.size(); ++k) next[k] = middle[k] + along * (end[k] - middle[k]);
  impose_sources(until, next.data());
  if (offset == 0) {
    for (std::size_t k = 0; k < end.size(); ++k) end[k] = 2 * middle[k] - end[k];
    lines.replace_newest(end.data());
  }
}

void Core::change_valves(double event) noexcept {
  for (const int index : due_valves) {
    const auto k = static_cast<std::size_t>(index);
    valves.change_over(k, event, 1e-6 * step_s, next.data());
    adjust(valves.number(k), valves.siemens(k));
  }
}

/// Two half steps behind an event, into `middle` and `end`. The first is made again as long as valves
/// commutate: their pieces must fit the solution just behind the event.
void Core::solve_behind(double event, double offset) noexcept {
  const auto half = [&](double share, const double* old, double* now) {
    solve({Rule::half_euler, step_s, event + share * step_s}, Rule::half_euler, offset + share, old, now);
  };
  valves.begin_instant();
  for (int round = 0;; ++round) {
    ahead_holds = false;
    half(0.5, present.data(), middle.data());
    if (valves.empty()) break;
    const bool moved =
        valves.fit(middle.data(), [&](std::size_t k) { adjust(valves.number(k), valves.siemens(k)); });
    if (!moved) break;
    refactor_dirty();
    if (round == commutations_per_event) {
      ++crowded_steps;
      break;
    }
  }
  half(1, middle.data(), end.data());
  ahead_holds = false;
  if (valves.empty()) return;
  valves.look_behind(middle.data(), end.data());
  valves_look_behind = true;
}

void Core::operate_due(double event) noexcept {
  for (const int index : due) {
    Pole& pole = poles[static_cast<std::size_t>(index)];
    const bool restrikes = !pole.closed && pole.close_at > event + step_s * 1e-6;
    pole.closed = !pole.closed;
    (pole.closed ? pole.closed_at : pole.ceased_at) = event;
    if (restrikes) {
      pole.part_at = event;  // the contacts stay apart: the arc goes out at a coming current zero
    } else {
      (pole.closed ? pole.close_at : pole.part_at) = never();
      const bool idle = pole.close_at == never() && pole.part_at == never();
      if (idle && (pole.closed || pole.strength.empty())) --pending;
    }
    adjust(pole.number, pole.siemens());
  }
  refactor_dirty();
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
    couplings[static_cast<std::size_t>(d.coupling)].siemens =
        d.sign * adjustable[static_cast<std::size_t>(d.number)];
  for (Partition& partition : partitions) {
    if (partition.marked()) partition.refactor(adjustable.data());
  }
  stale = false;
}

bool Core::request(int operable, bool close, double at_s) noexcept {
  const Operable& what = operables[static_cast<std::size_t>(operable)];
  const auto is_closed = [&](int pole) { return poles[static_cast<std::size_t>(pole)].closed; };
  for (const int other : what.blocking) {
    const auto& of_other = operables[static_cast<std::size_t>(other)].poles;
    const bool conducts = std::any_of(of_other.begin(), of_other.end(), is_closed);
    if (conducts && (close || !what.always_opens)) return false;
  }
  const double at = std::max(at_s, time_s()) + (close ? what.closing_time_s : what.opening_time_s);
  for (const int index : what.poles) {
    Pole& pole = poles[static_cast<std::size_t>(index)];
    const auto is_pending = [&] {
      return pole.close_at != never() || pole.part_at != never() || (!pole.closed && !pole.strength.empty());
    };
    const bool was = is_pending();
    (close ? pole.close_at : pole.part_at) = at + (close ? pole.late_close_s : pole.late_open_s);
    // A command to be where the pole already is, with nothing pending that would move it, is void.
    if (close && pole.closed && pole.part_at == never()) pole.close_at = never();
    if (!close && !pole.closed && pole.close_at == never()) pole.part_at = never();
    pending += static_cast<int>(is_pending()) - static_cast<int>(was);
  }
  return true;
}

bool Core::fire(int gate, bool on, double at_s) noexcept {
  bool taken = true;
  for (const int valve : gates[static_cast<std::size_t>(gate)].valves)
    taken &= valves.fire(static_cast<std::size_t>(valve), on, std::max(at_s, time_s()));
  return taken;
}

void Core::fail(int gate, Failure how, double late_s) noexcept {
  for (const int valve : gates[static_cast<std::size_t>(gate)].valves) {
    const auto k = static_cast<std::size_t>(valve);
    valves.fail(k, how, late_s);
    adjust(valves.number(k), valves.siemens(k));
  }
  refactor_dirty();
  turned = true;
}

/// A knob's slot is written by nobody else: it keeps its value in all four arrays.
void Core::turn(int knob, double value) noexcept {
  const Knob& what = knobs[static_cast<std::size_t>(knob)];
  const double bounded = std::clamp(value, what.low, what.high);
  for (Numbers* array : {&present, &next, &middle, &end})
    (*array)[static_cast<std::size_t>(what.slot.index)] = bounded;
  turned = true;
}

double Core::value(const SignalRow& row, const double* values) const noexcept {
  double sum = 0;
  for (int k = row.first; k < row.first + row.count; ++k) {
    const Term& term = terms[static_cast<std::size_t>(k)];
    sum += term.coefficient * values[term.index];
  }
  return sum;
}

}  // namespace zavrek::emt::internal
