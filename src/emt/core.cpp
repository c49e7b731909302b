#include "emt/core.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::emt::internal {
namespace {

template <class Groups, class Visit>
void for_each_group(Groups& groups, Visit&& visit) {
  std::apply([&](auto&... group) { (visit(group), ...); }, groups);
}

/// Below this a pole carries nothing and opens as soon as its contacts part.
constexpr double no_current_A = 1e-9;

}  // namespace

void Core::advance() noexcept {
  const double until = static_cast<double>(steps + 1) * step_s;
  if (euler_throughout) {
    step_half_euler(until - step_s / 2, 0.5, present.data(), middle.data());
    step_half_euler(until, 1, middle.data(), next.data());
  } else {
    step_trapezoidal(until);
  }
}

/// From `present` to `next`. The pass that updates the parts also makes the history currents of the step
/// after this one, which hold unless a discontinuity or a change of the values comes between.
void Core::step_trapezoidal(double until) noexcept {
  const double* old = present.data();
  double* now = next.data();
  if (ahead_holds) {
    std::copy(ahead.begin(), ahead.end(), now);
  } else {
    std::fill(now, now + voltages, 0.0);
    for_each_group(series, [&](auto& group) { group.inject(Rule::trapezoidal, old, now); });
    for_each_group(capacitance, [&](auto& group) { group.inject(Rule::trapezoidal, old, now); });
  }
  lines.inject(1, now);
  solve_nodes(until, now);
  std::fill(ahead.begin(), ahead.end(), 0.0);
  for_each_group(series, [&](auto& group) { group.pass(old, now, ahead.data()); });
  for_each_group(capacitance, [&](auto& group) { group.pass(old, now, ahead.data()); });
  ahead_holds = true;
  lines.update(now);
  update_poles(now);
}

/// Half a step of backward Euler; `behind` is the distance of its end from the newest entry of the rings, in
/// steps.
void Core::step_half_euler(double until, double behind, const double* old, double* now) noexcept {
  ahead_holds = false;
  std::fill(now, now + voltages, 0.0);
  for_each_group(series, [&](auto& group) { group.inject(Rule::half_euler, old, now); });
  for_each_group(capacitance, [&](auto& group) { group.inject(Rule::half_euler, old, now); });
  lines.inject(behind, now);
  solve_nodes(until, now);
  for_each_group(series, [&](auto& group) { group.update(Rule::half_euler, old, now); });
  for_each_group(capacitance, [&](auto& group) { group.update(now); });
  lines.update(now);
  update_poles(now);
}

/// From the right-hand side in `now` to its node voltages.
void Core::solve_nodes(double time, double* now) noexcept {
  std::fill(now, now + lanes, 0.0);  // ground took its share of the injections
  for (const Wave& wave : waves)
    now[wave.position] = wave.amplitude * std::cos(wave.omega * time + wave.angle);
  for (const Coupling& coupling : couplings) now[coupling.row] += coupling.siemens * now[coupling.known];
  for (Partition& partition : partitions) partition.solve(now);
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
  if (settle_first) {
    due.clear();
    settle(from, until, from);
    settle_first = false;
  }
  for (int count = 0; pending > 0; ++count) {
    const double event = find_due(from, until);
    if (event == never()) break;
    if (count == events_per_step) {
      ++crowded_steps;
      break;
    }
    settle(from, until, event);
    from = event;
  }
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
  if (!pole.closed) return pole.close_at < until ? std::max(pole.close_at, from) : never();
  if (pole.part_at >= until) return never();
  const double before = present[static_cast<std::size_t>(pole.current)];
  const double after = next[static_cast<std::size_t>(pole.current)];
  if (std::abs(before) < no_current_A && std::abs(after) < no_current_A) return std::max(pole.part_at, from);
  if (before * after > 0 || before == 0) return never();
  const double zero = from + (until - from) * before / (before - after);
  return zero >= pole.part_at && zero < until ? zero : never();
}

/// Earliest event within (from, until] and, in `due`, all poles that change over at it: poles of one
/// command, or two that share a current, are one discontinuity.
double Core::find_due(double from, double until) noexcept {
  const double together = 1e-6 * step_s;
  double earliest = never();
  due.clear();
  for (std::size_t k = 0; k < poles.size(); ++k) {
    if (poles[k].close_at == never() && poles[k].part_at == never()) continue;
    const double time = event_time(poles[k], from, until);
    if (time == never() || time > earliest + together) continue;
    if (time < earliest - together) due.clear();
    earliest = std::min(earliest, time);
    due.push_back(static_cast<int>(k));
  }
  return earliest;
}

/// Goes back to the event, changes the due poles over and takes two half steps of backward Euler, which end
/// at event + h; the grid point `until` is read off the line through the two half-step points.
void Core::settle(double from, double until, double event) noexcept {
  const double share = until > from ? (event - from) / (until - from) : 0;
  for (std::size_t k = 0; k < present.size(); ++k) present[k] += share * (next[k] - present[k]);
  operate_due();

  const double grid = static_cast<double>(steps) * step_s;
  const double offset = (event - grid) / step_s;  // of the event behind the newest ring entry
  step_half_euler(event + step_s / 2, offset + 0.5, present.data(), middle.data());
  step_half_euler(event + step_s, offset + 1, middle.data(), end.data());
  const double along = 1 - 2 * offset;  // -1 at the event, 0 and 1 at the half-step points
  for (std::size_t k = 0; k < next.size(); ++k) next[k] = middle[k] + along * (end[k] - middle[k]);
  for (const Wave& wave : waves) {
    next[static_cast<std::size_t>(wave.position)] =
        wave.amplitude * std::cos(wave.omega * until + wave.angle);
  }
  if (offset == 0) {
    for (std::size_t k = 0; k < end.size(); ++k) end[k] = 2 * middle[k] - end[k];
    lines.replace_newest(end.data());
  }
}

void Core::operate_due() noexcept {
  std::fill(dirty.begin(), dirty.end(), 0);
  for (const int index : due) {
    Pole& pole = poles[static_cast<std::size_t>(index)];
    pole.closed = !pole.closed;
    (pole.closed ? pole.close_at : pole.part_at) = never();
    if (pole.close_at == never() && pole.part_at == never()) --pending;
    if (pole.coupling >= 0) couplings[static_cast<std::size_t>(pole.coupling)].siemens = pole.siemens();
    if (pole.partition < 0) continue;
    partitions[static_cast<std::size_t>(pole.partition)].set_pole(pole.number, pole.siemens());
    dirty[static_cast<std::size_t>(pole.partition)] = 1;
  }
  // Poles keep the matrix positive definite, so refactoring cannot meet a singular node after the start.
  for (std::size_t k = 0; k < partitions.size(); ++k) {
    if (dirty[k]) (void)partitions[k].refactor();
  }
}

void Core::request(int operable, bool close, double at_s) noexcept {
  const Operable& what = operables[static_cast<std::size_t>(operable)];
  const double at = std::max(at_s, time_s()) + (close ? what.closing_time_s : what.opening_time_s);
  for (const int index : what.poles) {
    Pole& pole = poles[static_cast<std::size_t>(index)];
    const bool was_pending = pole.close_at != never() || pole.part_at != never();
    (close ? pole.close_at : pole.part_at) = at;
    // A command to be where the pole already is, with nothing pending that would move it, is void.
    if (close && pole.closed && pole.part_at == never()) pole.close_at = never();
    if (!close && !pole.closed && pole.close_at == never()) pole.part_at = never();
    const bool is_pending = pole.close_at != never() || pole.part_at != never();
    pending += static_cast<int>(is_pending) - static_cast<int>(was_pending);
  }
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
