// What is read of a plant, and done to it, between two steps.
#include <algorithm>
#include <cassert>
#include <utility>

#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

bool Core::request(int operable, bool close, double at_s) noexcept {
  assert(operable >= 0 && static_cast<std::size_t>(operable) < controls.operables.size());
  const Operable& what = controls.operables[static_cast<std::size_t>(operable)];
  const double from = std::max(at_s, time_s());
  for (const int other : what.blocking) {
    const auto& of_other = controls.operables[static_cast<std::size_t>(other)].poles;
    const bool conducts = std::any_of(of_other.begin(), of_other.end(),
                                      [&](int pole) { return poles[static_cast<std::size_t>(pole)].closed; });
    if (!conducts || (!close && what.always_opens)) continue;
    if (controls.refusals.size() < Controls::most_refusals)
      controls.refusals.push_back({from, {operable}, close});
    return false;
  }
  for (const int pole : what.poles)
    poles[static_cast<std::size_t>(pole)].command(close,
                                                  from + (close ? what.closing_time_s : what.opening_time_s));
  poles.set_alarm();
  keep_to_poles();
  forget_ahead();
  return true;
}

bool Core::has_resistance(int operable) const noexcept {
  const std::vector<int>& resistive = controls.operables[static_cast<std::size_t>(operable)].resistive;
  return !resistive.empty() && std::none_of(resistive.begin(), resistive.end(), [&](int k) {
    return poles[static_cast<std::size_t>(k)].in_condensed;
  });
}

bool Core::set_resistance(int operable, double ohm) noexcept {
  if (!has_resistance(operable)) return false;
  const Operable& what = controls.operables[static_cast<std::size_t>(operable)];
  keep_to_poles();
  forget_ahead();
  for (const int index : what.resistive) {
    const auto k = static_cast<std::size_t>(index);
    Pole& pole = poles[k];
    pole.closed_S = 1 / std::max(ohm, what.least_ohm);
    if (!pole.closed) continue;
    adjust_pole(pole, pole.siemens());
    poles.show(k);
    restart.pending = true;
  }
  return true;
}

bool Core::fire(int gate, bool on, double at_s) noexcept {
  assert(gate >= 0 && static_cast<std::size_t>(gate) < controls.gates.size());
  bool taken = true;
  const double from = std::max(at_s, time_s());
  for (const int valve : controls.gates[static_cast<std::size_t>(gate)].valves) {
    const auto k = static_cast<std::size_t>(valve);
    if (ahead.reaches(Lookahead::Rung::event_found) && (from < ahead.event_s + coincidence_tolerance_s() ||
                                                        (ahead.half_step_solved() && valves.was_taken(k))))
      forget_event();
    taken &= valves.fire(k, on, from);
  }
  return taken;
}

void Core::fail(int gate, Failure how, double late_s) noexcept {
  forget_event();
  expand_condensed();
  for (const int valve : controls.gates[static_cast<std::size_t>(gate)].valves) {
    const auto k = static_cast<std::size_t>(valve);
    valves.fail(k, how, late_s);
    commutator.commutations.forget();
    adjust_valve(k);
  }
  refactor();
  restart.pending = true;
}

/// A knob's slot is written by nobody else: it keeps its value in all arrays.
void Core::turn(int knob, double value) noexcept {
  assert(knob >= 0 && static_cast<std::size_t>(knob) < controls.knobs.size());
  const Knob& what = controls.knobs[static_cast<std::size_t>(knob)];
  const double bounded = std::clamp(value, what.low, what.high);
  for (Numbers* array : at.all()) (*array)[static_cast<std::size_t>(what.slot.index)] = bounded;
  restart.pending = restart.pending || !what.smooth;
}

double Core::value(const SignalRow& row) noexcept {
  if (row.evaluated_each_step) return signals.sum_of(row, at.present.data());
  expand_condensed();
  return signals.sum_of(row, at.full_present.data());
}

/// What stands behind the present was found for the values kept so far: it is found before there are more.
void Core::watch(std::span<const SignalId> which) {
  std::vector<std::vector<int>> wanted(shards.size());
  for (const SignalId id : which) {
    auto& watched = signals.watched;
    if (std::find(watched.begin(), watched.end(), id.index) == watched.end()) watched.push_back(id.index);
    SignalRow& row = signals.rows[static_cast<std::size_t>(id.index)];
    if (std::exchange(row.evaluated_each_step, true)) continue;
    for (int k = row.first; k < row.first + row.count; ++k) {
      const auto position = static_cast<std::size_t>(signals.terms[static_cast<std::size_t>(k)].index);
      if (std::exchange(map.evaluated_each_step[position], char{1})) continue;
      wanted[static_cast<std::size_t>(map.shard_of_value[position])].push_back(static_cast<int>(position));
    }
  }
  if (std::all_of(wanted.begin(), wanted.end(), [](const auto& positions) { return positions.empty(); }))
    return;
  forget_ahead();
  expand_condensed();
  for (std::size_t k = 0; k < shards.size(); ++k) {
    if (wanted[k].empty()) continue;
    shards[k].condensed->keep(wanted[k]);
    for (const int position : wanted[k])
      at.present[static_cast<std::size_t>(position)] = at.full_present[static_cast<std::size_t>(position)];
  }
  find_ranges();
}

}  // namespace zavrek::emt::internal
