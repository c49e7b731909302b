// What a step does about discontinuities: finds them within it, goes back to each, changes over what is due
// there, and takes the two half steps behind it.
#include <algorithm>
#include <cmath>
#include <utility>

#include "emt/core.hpp"

namespace zavrek::emt::internal {
namespace {

/// Below this a pole carries nothing and opens as soon as its contacts part.
constexpr double no_current_A = 1e-6;

}  // namespace

void Core::meet_discontinuities(double until) noexcept {
  double from = time_s();
  if (settle_first || turned) {
    forget_event();
    due.clear();
    due_segments.clear();
    due_valves.clear();
    settle_first = turned = false;
    settle(from, until, from);
  }
  if (!event_found && !valves.empty() && !valves_watched_behind) valves.watch_from(present.data());
  for (int count = 0; poles_awake || !segments.empty() || !valves.empty(); ++count) {
    const double event = std::exchange(event_found, false) ? ready_for : find_due(from, until);
    if (event == never()) break;
    if (count == events_per_step) {
      ++crowded_steps;
      break;
    }
    const bool idle = !half_made && !change_valves(event) && due.empty() && due_segments.empty();
    if (idle) {
      took_edges = true;
      --count;
      continue;
    }
    settle(from, until, event);
    from = event;
  }
  valves_watched_behind = false;
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
  const double excess_after = across(next) - pole.withstands(until);
  if (excess_after <= 0) return never();
  const double excess_before = across(present) - pole.withstands(from);
  if (excess_before >= 0) return from;
  return from + (until - from) * excess_before / (excess_before - excess_after);
}

/// Earliest event within (from, until] and, in `due`, `due_segments` and `due_valves`, all that change over
/// at it: poles of one command, or two that share a current, are one discontinuity.
double Core::find_due(double from, double until) noexcept {
  double earliest = never();
  const auto clear = [&] {
    due.clear();
    due_segments.clear();
    due_valves.clear();
  };
  clear();
  const auto concerns = [&](double time) {
    if (time == never() || time > earliest + together()) return false;
    if (time < earliest - together()) clear();
    earliest = std::min(earliest, time);
    return true;
  };
  if (poles_awake) {
    for (const int k : pending) {
      if (concerns(event_time(poles[static_cast<std::size_t>(k)], from, until))) due.push_back(k);
    }
  }
  for (std::size_t k = 0; k < segments.size(); ++k) {
    const double share = segments.leaves_at(k, present.data(), next.data());
    const double time = from + share * (until - from);
    if (share <= 1 && time > segments.moved_at(k) + 1e-9 * step_s && concerns(time))
      due_segments.push_back(static_cast<int>(k));
  }
  if (valves.empty()) return earliest;
  // Between an event and the half-step point behind it the valves fit already, and `next` is extrapolated.
  const double since = valves_watched_behind ? from + step_s / 2 : from;
  if (concerns(valves.find_events(from, since, until, next.data())))
    valves.list_events(earliest + together(), due_valves);
  return earliest;
}

/// Values on the line through two instants, of all that solutions write.
void Core::blend(const Numbers& from, const Numbers& to, double share, Numbers& into, int first,
                 int behind) noexcept {
  const double *a = from.data(), *b = to.data();
  double* c = into.data();
  for (int k = first; k < behind; k += lanes) {
    const Lanes before = load(a + k);
    store(c + k, before + share * (load(b + k) - before));
  }
}

/// Back to an instant between the present and `next`: what solutions start from. When poles are about to
/// move, condensed parts hold all values.
void Core::go_back(double share, Numbers& into) noexcept {
  if (poles_awake) return blend(present, next, share, into, 0, static_cast<int>(present.size()));
  blend(present, next, share, into, 0, first_unknown);
  for (const auto& [first, behind] : moving) blend(present, next, share, into, first, behind);
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    const auto [first, behind] = shard.condensed->state();
    blend(present, next, share, into, first, behind);
  }
}

/// From the two half-step points behind an event to the grid point.
void Core::go_on(double along) noexcept {
  if (poles_awake) return blend(middle, end, along, next, first_unknown, static_cast<int>(next.size()));
  for (const auto* stretches : {&moving, &shown}) {
    for (const auto& [first, behind] : *stretches) blend(middle, end, along, next, first, behind);
  }
  for (const Shard& shard : shards) {
    if (!shard.condensed) continue;
    for (const auto& [first, behind] : shard.condensed->solution())
      blend(middle, end, along, next, first, behind);
    shard.condensed->remember(next.data());
  }
}

/// Goes back to the event, changes what is due over (valves have) and takes two half steps of backward Euler,
/// which end at event + h; the grid point `until` is read off the line through the two half-step points.
void Core::settle(double from, double until, double event) noexcept {
  ++discontinuities;
  for (const int index : due_segments) {
    const auto k = static_cast<std::size_t>(index);
    segments.move(k, next.data(), event);
    adjust(segments.number(k), segments.siemens(k));
  }
  const bool ready = std::exchange(ready_for, never()) == event;
  const double share = until > from ? (event - from) / (until - from) : 0;
  if (ready) {
    std::swap(present, struck);
  } else if (share > 0) {
    go_back(share, present);
  }
  ahead_holds = ready;
  if (!ready) impose_sources(event + step_s / 2, middle.data());
  operate_due(event);
  keep_to_poles();

  const double offset = offset_of(event);
  solve_behind(event, offset);
  const double along = 1 - 2 * offset;  // -1 at the event, 0 and 1 at the half-step points
  go_on(along);
  leave_blows_behind(along);
  if (offset == 0 && !lines.empty()) {
    for (std::size_t k = 0; k < end.size(); ++k) end[k] = 2 * middle[k] - end[k];
    lines.replace_newest(end.data());
  }
}

/// Where poles make voltages of capacitances jump: by the trapezoidal rule a capacitance that a fault shorts
/// would throw for ever what the grid point holds of the blow that discharged it. In condensed parts the
/// state is what stands, the rest of the memory what flows.
void Core::leave_blows_behind(double along) noexcept {
  if (due.empty()) return;
  for (const auto& [first, count] : charging) std::copy_n(end.begin() + first, count, next.begin() + first);
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->take_charging(along, middle.data(), end.data(), next.data());
  }
}

/// Changes the valves over that are due at an event; whether that changes the solution, as it does not where
/// a gate edge finds a diode conducting, or none.
bool Core::change_valves(double event) noexcept {
  bool any = false;
  for (const int index : due_valves) {
    const auto k = static_cast<std::size_t>(index);
    if (!valves.change_over(k, event, together(), next.data())) continue;
    adjust_valve(k);
    any = true;
  }
  return any;
}

/// Two half steps behind an event, into `middle` and `end`. Where condensed parts hold all valves, how these
/// fit the first is found before the rest of it, and may be found already; poles that may move want the long
/// way, which was not taken for that.
void Core::solve_behind(double event, double offset) noexcept {
  const auto half = [&](double share) -> Stretch {
    return {Rule::half_euler, step_s, event + share * step_s};
  };
  if (valves.empty()) {
    solve(half(0.5), Rule::half_euler, offset + 0.5, present.data(), middle.data());
  } else {
    const bool fits = std::exchange(half_made, false) || fit_valves(half(0.5), offset + 0.5, present.data());
    if (valves.all_apart())
      conclude(half(0.5), Rule::half_euler, present.data(), middle.data(), fits && !poles_awake);
  }
  impose_sources(event + step_s, end.data());
  solve(half(1), Rule::half_euler, offset + 1, middle.data(), end.data());
  ahead_holds = false;
  if (valves.empty()) return;
  valves.watch_from(middle.data());
  valves_watched_behind = true;
}

/// The half step just behind an event, from `old` into `middle`: made again as long as valves commutate,
/// whose pieces must fit the solution; whether they do. Where condensed parts hold all valves, only what is
/// looked at is made.
bool Core::fit_valves(const Stretch& stretch, double behind, const double* old) noexcept {
  valves.begin_instant();
  guess_commutations();
  prepare(stretch, behind, old, middle.data());
  const bool fit = find_fit([&, apart = valves.all_apart()](bool again) {
    if (apart) return see_valves();
    if (again) {
      ahead_holds = false;
      prepare(stretch, behind, old, middle.data());
    }
    conclude(stretch, Rule::half_euler, old, middle.data());
    return valves.fit_already();
  });
  valves.end_instant();
  if (!fit) ++crowded_steps;
  return fit;
}

/// Puts the valves on what they came to when the same last happened.
void Core::guess_commutations() noexcept {
  if (!remembers_commutations()) return;
  begun = valves.states();
  likely = commutations.outcomes(begun);
  if (likely[0] != begun.pieces) assume_pieces(likely[0]);
}

void Core::assume_pieces(const Pieces& pieces) noexcept {
  valves.assume(pieces, [&](std::size_t k) { adjust_valve(k); });
}

/// What is likely first, else from what stands behind the edges on, round by round. `solve` (again or not)
/// makes the solution with the valves as they stand and tells whether they fit it.
template <class Solve>
bool Core::find_fit(Solve&& solve) noexcept {
  const bool guesses = remembers_commutations();
  const auto solve_on = [&](const Pieces& pieces) {
    assume_pieces(pieces);
    refactor_dirty();
    return solve(true);
  };
  bool fit = solve(false);
  if (!fit && guesses) {
    if (likely[1] != likely[0]) fit = solve_on(likely[1]);
    if (!fit && valves.states().pieces != begun.pieces) fit = solve_on(begun.pieces);
  }
  for (int round = 0; !fit && revise_valves(); ++round) {
    refactor_dirty();
    if (round == commutations_per_event) return false;
    fit = solve(true);
  }
  if (guesses) commutations.keep(begun, valves.states().pieces);
  return true;
}

/// The half step at hand where condensed parts hold all valves; whether these fit.
bool Core::see_valves() noexcept {
  for (Shard& shard : shards) {
    if (shard.condensed) shard.condensed->solve(middle.data(), false, true);
  }
  valves.update(middle.data());
  return valves.fit_already();
}

/// Changes over the valves that do not fit; whether there were any.
bool Core::revise_valves() noexcept {
  return !valves.fit_already() && valves.fit(middle.data(), [&](std::size_t k) { adjust_valve(k); });
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
    }
    adjust_pole(pole, pole.siemens());
    show_pole(static_cast<std::size_t>(index));
  }
  if (!due.empty()) set_pole_alarm();
}

}  // namespace zavrek::emt::internal
