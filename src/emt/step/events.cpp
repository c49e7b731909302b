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
    due.legs = restart.legs && !restart.pending && !restart.settle_first;
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

/// Stretches of positions from which solutions start: when poles are about to move, condensed parts hold all
/// values, but for their own numbers.
template <class Visit>
void Core::for_each_carried(Visit&& visit) const noexcept {
  if (poles.awake()) return visit(map.first_unknown, map.first_condensed);
  for (const auto& [first, end] : map.carried_ranges) visit(first, end);
}

/// Back to an instant between the present, a grid point, and `next`: what solutions start from, into
/// `at_event`. Slopes change on a line from the one to the other: states are so much less than on the line
/// between the two as the change of their slopes asks for. That enters the histories of the half step to
/// come.
void Core::go_back(double share) noexcept {
  const auto between = [&](int first, int end) {
    blend(at.present, at.next, share, at.at_event, first, end);
  };
  between(0, map.first_unknown);
  for_each_carried(between);
  ahead.bent = share * (1 - share);
  ahead.bent_by_sloping = at.sloping_stands;
  if (!segments.empty())
    segments.bend({ahead.bent, slopes_of(at.present.data())}, {-ahead.bent, at.next.data()},
                  at.at_event.data());
  for (const Shard& shard : shards) {
    if (shard.condensed)
      shard.condensed->state_within(share, at.present.data(), at.next.data(), at.at_event.data());
  }
  if (!all_condensed) inject_at_event(at.at_event.data());
  history.hold(Rule::half_euler);
}

/// The same behind another event in this step, so many steps ago.
void Core::go_back_behind(double steps) noexcept {
  const Behind behind(steps, ahead.damped);
  blend(at.middle, at.end, 2 * steps - 1, at.at_event, 0, map.first_unknown);
  for_each_carried([&](int first, int end) { stand_behind(behind, at.at_event, first, end); });
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    const auto [first, end] = shard.condensed->state();
    stand_behind(behind, at.at_event, first, end);
  }
  ahead.bent = 0;
  history.ahead_holds = false;
}

void Core::stand_behind(const Behind& behind, Numbers& into, int first, int end) const noexcept {
  const double *x1 = at.middle.data(), *x2 = at.end.data(), *x3 = at.third.data();
  assert(first % lanes == 0 && static_cast<std::size_t>(end) <= into.size());
  for (int k = first; k < end; k += lanes) {
    const Lanes a = load(x1 + k), b = load(x2 + k);
    store(into.data() + k, a + behind.second * (b - a) + behind.third * (load(x3 + k) - b));
  }
}

/// From the half-step points behind an event to the grid point so many steps behind it.
void Core::go_on(double steps) noexcept {
  ahead.damped = due.makes_jumps();
  const Behind behind(steps, ahead.damped);
  const auto go = [&](int first, int end) { stand_behind(behind, at.next, first, end); };
  for_each_carried(go);
  if (!poles.awake()) {
    for (const auto& [first, end] : map.output_ranges) go(first, end);
  }
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    for (const auto& [first, end] : shard.condensed->solution()) go(first, end);
    shard.condensed->remember_behind(steps, at.middle.data(), at.end.data(), at.third.data(), at.next.data());
  }
  if (!all_condensed || !map.capacitor_currents.empty()) keep_slopes(steps);
  models.stand_behind(at.end.data(), at.next.data());
  ahead.behind_event = true;
}

/// What the slopes of the step from there follow from: currents of capacitances among it.
void Core::keep_slopes(double steps) noexcept {
  std::copy_n(at.next.begin(), map.first_unknown, at.sloping.begin());
  for_each_carried(
      [&](int first, int end) { blend(at.end, at.third, Behind::sloping(steps), at.sloping, first, end); });
  for (const auto& [first, count] : map.capacitor_currents)
    std::copy_n(at.sloping.begin() + first, count, at.next.begin() + first);
}

/// Goes back to the event, changes what is due over (valves have) and takes three half steps of backward
/// Euler; the grid point `until` is read off them (Behind).
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
  if (!prepared && share > 0) {
    ahead.behind_event ? go_back_behind((event - from) / options.step_s) : go_back(share);
  }
  if (prepared || share > 0) {
    std::swap(at.present, at.at_event);
    at.sloping_stands = false;
  } else {
    ahead.bent = 0;
    history.ahead_holds = false;
  }
  if (due.sources) {
    sources.pass(event + coincidence_tolerance_s());
    impose_sources(until, at.next.data());
  }
  if (!prepared) impose_sources(event + options.step_s / 2, at.middle.data());
  operate_due(event);
  keep_to_poles();

  const double offset = offset_of(event);
  solve_behind(event, offset, half_step_solved);
  if (!lines.empty()) {
    // The values just behind the event, straight from the half steps.
    for (std::size_t k = 0; k < at.end.size(); ++k) at.at_event[k] = 2 * at.middle[k] - at.end[k];
    lines.jump(offset, at.present.data(), at.at_event.data());
  }
  go_on((until - event) / options.step_s);
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

/// Three half steps behind an event, into `middle`, `end` and `third`. Where condensed parts hold all valves,
/// how these fit the first is found before the rest of it, and may be found already; poles that may move want
/// all values, which were not made for that.
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
  ahead.bent = 0;
  impose_sources(event + options.step_s, at.end.data());
  solve(half(1), Rule::half_euler, offset + 1, at.middle.data(), at.end.data());
  impose_sources(event + 1.5 * options.step_s, at.third.data());
  Interval further = half(1.5);
  further.beyond = true;
  solve(further, Rule::half_euler, offset + 1.5, at.end.data(), at.third.data());
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
    if (shard.condensed) shard.condensed->solve(at.middle.data(), false);
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
