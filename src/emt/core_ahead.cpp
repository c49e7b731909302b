// What a step makes ahead for the next, where that may meet a discontinuity: its solution, the first event in
// it, and what is known there. All of it is what the next step would make by itself; what is commanded, or
// read, between the two makes it forget what that concerns.
#include <utility>

#include "emt/core.hpp"

namespace zavrek::emt::internal {

/// The solution at the end of the next step, and behind a calm one what can be made for the first event
/// there.
void Core::look_ahead(bool calm) noexcept {
  advance();
  foreseen = true;
  const double until = static_cast<double>(steps + 1) * step_s;
  if (calm && !turned && (poles_awake || !segments.empty() || !valves.quiet(until))) make_ready(until);
}

/// For the first event of the step that was looked ahead: finds it, and makes what does not change over by
/// it: values, histories and sources; and the factors as its poles leave them. No other solution is made
/// before it.
void Core::make_ready(double until) noexcept {
  const double from = time_s();
  if (!valves.empty()) valves.watch_from(present.data());
  ready_for = find_due(from, until);
  event_found = true;
  if (ready_for == never()) return;
  for (const int index : due) {
    const Pole& pole = poles[static_cast<std::size_t>(index)];
    if (pole.apart || !valves.empty()) continue;
    adjust_pole(pole, pole.closed ? pole.open_S : pole.closed_S);
    readied.push_back(index);
  }
  if (stale) refactor_dirty();
  go_back((ready_for - from) / (until - from), struck);
  if (!all_condensed) inject_histories(Rule::half_euler, struck.data());
  ahead_holds = true;
  ahead_rule = Rule::half_euler;
  impose_sources(ready_for + step_s / 2, middle.data());
  const bool valves_alone = due.empty() && due_segments.empty() && !poles_awake;
  if (valves_alone && !took_edges && valves.all_apart() && valves.can_tell_states()) make_half(ready_for);
}

/// How valves fit just behind an event of them alone, where condensed parts hold them. An edge that changes
/// nothing, and valves that find no fit, are left to the step itself.
void Core::make_half(double event) noexcept {
  const long long crowded = crowded_steps;
  valves.mark();
  half_made = change_valves(event);
  valves.unmark();
  if (!half_made) return valves.return_to_mark([](std::size_t) {});
  if (fit_valves({Rule::half_euler, step_s, event + step_s / 2}, offset_of(event) + 0.5, struck.data()))
    return;
  crowded_steps = crowded;
  forget_event();
}

void Core::take_half_back() noexcept {
  half_made = false;
  valves.return_to_mark([&](std::size_t k) { adjust_valve(k); });
  refactor_dirty();
  valves.update(next.data());
  ahead_holds = false;
}

/// Something happened that may come before the event that was found, or changes it.
void Core::forget_event() noexcept {
  if (half_made) take_half_back();
  event_found = false;
  ready_for = never();
}

/// Something happened that may change the whole step that was looked ahead.
void Core::forget_ahead() noexcept {
  forget_event();
  if (std::exchange(foreseen, false)) ahead_holds = false;
}

/// As the poles stand, whatever was made ready.
void Core::keep_to_poles() noexcept {
  for (const int index : readied) {
    const Pole& pole = poles[static_cast<std::size_t>(index)];
    adjust_pole(pole, pole.siemens());
  }
  readied.clear();
}

}  // namespace zavrek::emt::internal
