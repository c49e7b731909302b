// What a step makes ahead for the next, where that may meet a discontinuity (lookahead.hpp). All of it is
// what the next step would make by itself; what is commanded, or read, between the two makes it forget what
// that concerns.
#include <utility>

#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

using Rung = Lookahead::Rung;

/// The solution at the end of the next step, and behind a calm one what can be made for the first event
/// there.
void Core::look_ahead(bool calm) noexcept {
  advance();
  ahead.rung = Rung::solved;
  const double until = grid_time_s(1);
  if (calm && !restart.pending && (poles.awake() || !segments.empty() || !valves.quiet(until)))
    make_ready(until);
}

/// For the first event of the step that was looked ahead: finds it, and makes what does not change over by
/// it: values, histories and sources; and the factors as its poles leave them. No other solution is made
/// before it.
void Core::make_ready(double until) noexcept {
  const double from = time_s();
  if (!valves.empty()) valves.watch_from(at.present.data());
  ahead.event_s = find_due(from, until);
  ahead.rung = Rung::event_found;
  if (ahead.event_s == never_s || due.sources) return;
  for (const int index : due.poles) {
    const Pole& pole = poles[static_cast<std::size_t>(index)];
    if (pole.in_condensed || !valves.empty()) continue;
    adjust_pole(pole, pole.siemens_otherwise());
    ahead.poles_changed.push_back(index);
  }
  if (conductances.stale) refactor();
  go_back((ahead.event_s - from) / (until - from));
  impose_sources(ahead.event_s + options.step_s / 2, at.middle.data());
  ahead.rung = Rung::prepared;
  const bool valves_alone = due.poles.empty() && due.segments.empty() && !poles.awake();
  if (valves_alone && !ahead.edges_taken && valves.all_in_condensed() && valves.can_tell_states())
    make_half(ahead.event_s);
}

/// How valves fit just behind an event of them alone, where condensed parts hold them. An edge that changes
/// nothing, and valves that find no fit, are left to the step itself.
void Core::make_half(double event) noexcept {
  const long long at_limit = counters.steps_at_event_limit;
  valves.mark();
  const bool changes = change_valves(event);
  valves.unmark();
  if (!changes) return valves.return_to_mark([](std::size_t) {});
  ahead.rung = Rung::half_step_solved;
  const Interval half{Rule::half_euler, options.step_s, event + options.step_s / 2, time_s()};
  if (fit_valves(half, offset_of(event) + 0.5, at.at_event.data())) return;
  counters.steps_at_event_limit = at_limit;
  forget_event();
}

void Core::take_half_back() noexcept {
  valves.return_to_mark([&](std::size_t k) { adjust_valve(k); });
  refactor();
  valves.update(at.next.data());
  history.ahead_holds = false;
}

/// Something happened that may come before the event that was found, or changes it.
void Core::forget_event() noexcept {
  if (ahead.half_step_solved()) take_half_back();
  ahead.drop_event();
}

/// Something happened that may change the whole step that was looked ahead.
void Core::forget_ahead() noexcept {
  forget_event();
  if (std::exchange(ahead.rung, Rung::nothing) != Rung::nothing) history.ahead_holds = false;
}

/// As the poles stand, whatever was made ready.
void Core::keep_to_poles() noexcept {
  for (const int index : ahead.poles_changed) {
    const Pole& pole = poles[static_cast<std::size_t>(index)];
    adjust_pole(pole, pole.siemens());
  }
  ahead.poles_changed.clear();
}

}  // namespace zavrek::emt::internal
