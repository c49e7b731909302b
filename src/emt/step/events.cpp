// What a step does about discontinuities: finds them within it, goes back to each, changes over what is due
// there, and takes the two half steps behind it.
#include <algorithm>
#include <cassert>
#include <cmath>
#include <utility>

#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

void Core::meet_discontinuities(double until) noexcept {
  double from = time_s();
  if (restart.due()) {
    forget_event();
    due.clear();
    restart = {};
    settle(from, until, from);
  }
  const bool event_found = ahead.reaches(Lookahead::Rung::event_found);
  if (!event_found && !valves.empty() && !commutator.watched_from_half_step)
    valves.watch_from(at.present.data());
  for (int count = 0; poles.awake() || !segments.empty() || !valves.empty() || sources.corner_s() < until;
       ++count) {
    const double event = ahead.reaches(Lookahead::Rung::event_found) ? ahead.event_s : find_due(from, until);
    if (event == never_s) break;
    if (count == events_per_step) {
      ++counters.steps_at_event_limit;
      break;
    }
    const bool idle = !ahead.half_step_solved() && !change_valves(event) && due.poles.empty() &&
                      due.segments.empty() && !due.sources;
    if (idle) {
      ahead.drop_event();
      ahead.edges_taken = true;
      --count;
      continue;
    }
    settle(from, until, event);
    from = event;
  }
  commutator.watched_from_half_step = false;
}

/// Earliest event within (from, until] and, in `due`, all that change over at it.
double Core::find_due(double from, double until) noexcept {
  double earliest = never_s;
  due.clear();
  const auto concerns = [&](double time) {
    if (time == never_s || time > earliest + coincidence_tolerance_s()) return false;
    if (time < earliest - coincidence_tolerance_s()) due.clear();
    earliest = std::min(earliest, time);
    return true;
  };
  const double *before = at.present.data(), *after = at.next.data();
  // A corner on the grid belongs to the step that begins there.
  if (const double corner = sources.corner_s(); corner < until - coincidence_tolerance_s())
    due.sources = concerns(std::max(corner, from));
  if (poles.awake()) {
    for (const int k : poles.pending()) {
      if (concerns(poles.event_time(static_cast<std::size_t>(k), from, until, before, after)))
        due.poles.push_back(k);
    }
  }
  for (std::size_t k = 0; k < segments.size(); ++k) {
    const double share = segments.leaves_at(k, before, after);
    const double time = from + share * (until - from);
    if (share <= 1 && time > segments.moved_at(k) + 1e-9 * options.step_s && concerns(time))
      due.segments.push_back(static_cast<int>(k));
  }
  if (valves.empty()) return earliest;
  // Between an event and the half-step point behind it the valves fit already, and `next` is extrapolated.
  const double since = commutator.watched_from_half_step ? from + options.step_s / 2 : from;
  if (concerns(valves.find_events(from, since, until, after)))
    valves.list_events(earliest + coincidence_tolerance_s(), due.valves);
  return earliest;
}

/// Values on the line through two instants, of all that solutions write.
void Core::blend(const Numbers& from, const Numbers& to, double share, Numbers& into, int first,
                 int end) noexcept {
  const double *a = from.data(), *b = to.data();
  double* c = into.data();
  assert(first % lanes == 0 && static_cast<std::size_t>(end) <= into.size());
  for (int k = first; k < end; k += lanes) {
    const Lanes before = load(a + k);
    store(c + k, before + share * (load(b + k) - before));
  }
}

/// Back to an instant between the present and `next`: what solutions start from. When poles are about to
/// move, condensed parts hold all values.
void Core::go_back(double share, Numbers& into) noexcept {
  if (poles.awake()) return blend(at.present, at.next, share, into, 0, static_cast<int>(at.present.size()));
  blend(at.present, at.next, share, into, 0, map.first_unknown);
  for (const auto& [first, end] : map.carried_ranges) blend(at.present, at.next, share, into, first, end);
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    const auto [first, end] = shard.condensed->state();
    blend(at.present, at.next, share, into, first, end);
  }
}

/// From the two half-step points behind an event to the grid point.
void Core::go_on(double along) noexcept {
  if (poles.awake())
    return blend(at.middle, at.end, along, at.next, map.first_unknown, static_cast<int>(at.next.size()));
  for (const auto* ranges : {&map.carried_ranges, &map.output_ranges}) {
    for (const auto& [first, end] : *ranges) blend(at.middle, at.end, along, at.next, first, end);
  }
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    for (const auto& [first, end] : shard.condensed->solution())
      blend(at.middle, at.end, along, at.next, first, end);
    shard.condensed->remember(at.next.data());
  }
}

/// Goes back to the event, changes what is due over (valves have) and takes two half steps of backward Euler,
/// which end at event + h; the grid point `until` is read off the line through the two half-step points.
void Core::settle(double from, double until, double event) noexcept {
  ++counters.discontinuities;
  for (const int index : due.segments) {
    const auto k = static_cast<std::size_t>(index);
    segments.move(k, at.next.data(), event);
    conductances.adjust(segments.number(k), segments.siemens(k));
  }
  const bool prepared = ahead.reaches(Lookahead::Rung::prepared) && ahead.event_s == event;
  const bool half_step_solved = ahead.half_step_solved();
  ahead.drop_event();
  const double share = until > from ? (event - from) / (until - from) : 0;
  if (prepared) {
    std::swap(at.present, at.at_event);
  } else if (share > 0) {
    go_back(share, at.present);
  }
  if (due.sources) {
    sources.pass(event + coincidence_tolerance_s());
    impose_sources(until, at.next.data());
  }
  history.ahead_holds = prepared;
  if (!prepared) impose_sources(event + options.step_s / 2, at.middle.data());
  operate_due(event);
  keep_to_poles();

  const double offset = offset_of(event);
  solve_behind(event, offset, half_step_solved);
  const double along = 1 - 2 * offset;  // -1 at the event, 0 and 1 at the half-step points
  go_on(along);
  discard_capacitor_impulses(along);
  if (offset == 0 && !lines.empty()) {
    for (std::size_t k = 0; k < at.end.size(); ++k) at.end[k] = 2 * at.middle[k] - at.end[k];
    lines.replace_newest(at.end.data());
  }
}

/// Where poles make voltages of capacitances jump: by the trapezoidal rule a capacitance that a fault shorts
/// would throw for ever what the grid point holds of the impulse that discharged it. In condensed parts the
/// state is what stands, the rest of the history what flows.
void Core::discard_capacitor_impulses(double along) noexcept {
  if (due.poles.empty()) return;
  for (const auto& [first, count] : map.capacitor_currents)
    std::copy_n(at.end.begin() + first, count, at.next.begin() + first);
  for (Shard& shard : shards) {
    if (shard.condensed)
      shard.condensed->take_charging(along, at.middle.data(), at.end.data(), at.next.data());
  }
}

/// Changes the valves over that are due at an event; whether that changes the solution, as it does not where
/// a gate edge finds a diode conducting, or none.
bool Core::change_valves(double event) noexcept {
  bool any = false;
  for (const int index : due.valves) {
    const auto k = static_cast<std::size_t>(index);
    if (!valves.change_over(k, event, coincidence_tolerance_s(), at.next.data())) continue;
    adjust_valve(k);
    any = true;
  }
  return any;
}

/// Two half steps behind an event, into `middle` and `end`. Where condensed parts hold all valves, how these
/// fit the first is found before the rest of it, and may be found already; poles that may move want the long
/// way, which was not taken for that.
void Core::solve_behind(double event, double offset, bool half_step_solved) noexcept {
  const auto half = [&](double share) -> Interval {
    return {Rule::half_euler, options.step_s, event + share * options.step_s, time_s()};
  };
  const double* const present = at.present.data();
  if (valves.empty()) {
    solve(half(0.5), Rule::half_euler, offset + 0.5, present, at.middle.data());
  } else {
    const bool fits = half_step_solved || fit_valves(half(0.5), offset + 0.5, present);
    if (valves.all_in_condensed())
      conclude(half(0.5), Rule::half_euler, present, at.middle.data(),
               fits && !poles.awake() ? CondensedPart::already_solved : CondensedPart::to_solve);
  }
  impose_sources(event + options.step_s, at.end.data());
  solve(half(1), Rule::half_euler, offset + 1, at.middle.data(), at.end.data());
  history.ahead_holds = false;
  if (valves.empty()) return;
  valves.watch_from(at.middle.data());
  commutator.watched_from_half_step = true;
}

/// The half step just behind an event, from `old` into `middle`: made again as long as valves commutate,
/// whose pieces must fit the solution; whether they do. Where condensed parts hold all valves, only what is
/// looked at is made.
bool Core::fit_valves(const Interval& interval, double steps_after_newest, const double* old) noexcept {
  valves.begin_instant();
  guess_commutations();
  double* const middle = at.middle.data();
  prepare(interval, steps_after_newest, old, middle);
  const bool fit = find_fit([&, in_condensed = valves.all_in_condensed()](bool again) {
    if (in_condensed) return see_valves();
    if (again) {
      history.ahead_holds = false;
      prepare(interval, steps_after_newest, old, middle);
    }
    conclude(interval, Rule::half_euler, old, middle);
    return valves.consistent();
  });
  valves.end_instant();
  if (!fit) ++counters.steps_at_event_limit;
  return fit;
}

/// Puts the valves on what they came to when the same last happened.
void Core::guess_commutations() noexcept {
  if (!commutator.remembers(valves)) return;
  commutator.begun = valves.states();
  commutator.likely = commutator.commutations.outcomes(commutator.begun);
  if (commutator.likely[0] != commutator.begun.pieces) assume_pieces(commutator.likely[0]);
}

void Core::assume_pieces(const Pieces& pieces) noexcept {
  valves.assume(pieces, [&](std::size_t k) { adjust_valve(k); });
}

/// What is likely first, else from what stands behind the edges on, round by round. `solve` (again or not)
/// makes the solution with the valves as they stand and tells whether they fit it.
template <class Solve>
bool Core::find_fit(Solve&& solve) noexcept {
  const bool guesses = commutator.remembers(valves);
  const auto solve_on = [&](const Pieces& pieces) {
    assume_pieces(pieces);
    refactor();
    return solve(true);
  };
  bool fit = solve(false);
  if (!fit && guesses) {
    if (commutator.likely[1] != commutator.likely[0]) fit = solve_on(commutator.likely[1]);
    if (!fit && valves.states().pieces != commutator.begun.pieces) fit = solve_on(commutator.begun.pieces);
  }
  for (int round = 0; !fit && revise_valves(); ++round) {
    refactor();
    if (round == commutations_per_event) return false;
    fit = solve(true);
  }
  if (guesses) commutator.commutations.keep(commutator.begun, valves.states().pieces);
  return true;
}

/// The half step at hand where condensed parts hold all valves; whether these fit.
bool Core::see_valves() noexcept {
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->solve(at.middle.data(), false, true);
  }
  valves.update(at.middle.data());
  return valves.consistent();
}

/// Changes over the valves that do not fit; whether there were any.
bool Core::revise_valves() noexcept {
  return !valves.consistent() && valves.fit(at.middle.data(), [&](std::size_t k) { adjust_valve(k); });
}

void Core::operate_due(double event) noexcept {
  for (const int index : due.poles) {
    const auto k = static_cast<std::size_t>(index);
    poles.change_over(k, event, coincidence_tolerance_s());
    adjust_pole(poles[k], poles[k].siemens());
  }
  if (!due.poles.empty()) poles.set_alarm();
}

}  // namespace zavrek::emt::internal
