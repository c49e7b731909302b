#include "engine/trials_of_run.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zavrek::engine::internal {
namespace {

constexpr double least_prefault_s = 0.2, most_prefault_s = 60;
constexpr double before_judged_s = 0.3, behind_judged_s = 0.1;
constexpr double spare = 1.3;  // of the time in which a breaker opened

trial::Disturbance disturbance_of(const Strike& strike, double angle_rad) {
  trial::Disturbance one;
  one.fault.on = strike.on;
  one.fault.at = strike.at;
  one.fault.phases = strike.phases;
  one.fault.resistance_ohm = strike.resistance_ohm;
  one.inception_rad = angle_rad;
  one.lasts_s = strike.lasts_s > 0 ? strike.lasts_s : 1;
  return one;
}

std::vector<Happened> all_events(const Session& session) {
  std::int64_t next = 0;
  return session.events(0, next);
}

/// The devices of the case that can trip.
std::vector<std::string> devices_of(const Session& session) {
  std::vector<std::string> names;
  const auto known = session.known();
  for (const bench::Device& device : session.loaded().bench.devices) {
    if (std::find(known->points.begin(), known->points.end(), device.name + ".trip") != known->points.end())
      names.push_back(device.name);
  }
  return names;
}

void add_operation(const Session::Known& known, const Act& act, double at_s,
                   std::vector<trial::Operation>& into) {
  const auto one = std::find_if(known.askables.begin(), known.askables.end(),
                                [&](const Askable& askable) { return askable.name == act.what; });
  if (one == known.askables.end() || act.what.starts_with("fault@")) return;
  trial::Operation operation;
  operation.at_s = at_s + act.over_s;  // where a way ends, it stays
  if (one->operated && !act.what.starts_with("bench.")) {
    (act.value > 0.5 ? operation.close : operation.open) = act.what;
  } else {
    operation.set = act.what;
    operation.to =
        one->unit.empty() ? fmt::format("{:.9g}", act.value) : fmt::format("{:.9g} {}", act.value, one->unit);
  }
  into.push_back(std::move(operation));
}

}  // namespace

trial::Trial trial_of(const Session& session, const std::vector<Struck>& struck, const std::string& name) {
  trial::Trial trial;
  trial.name = name;
  std::vector<Act> acts;
  (void)session.diary(acts);
  const auto known = session.known();
  double begun_s = struck.empty() ? (acts.empty() ? 0 : acts.front().time_s) : struck.front().at_s;
  const double zero_s = begun_s;
  for (const Act& act : acts) {
    if (!act.what.starts_with("fault@")) begun_s = std::min(begun_s, act.time_s);
  }
  trial.prefault_s = std::clamp(zero_s - begun_s + least_prefault_s, least_prefault_s, most_prefault_s);
  for (const Act& act : acts) add_operation(*known, act, act.time_s - zero_s, trial.operate);
  for (const Struck& one : struck) {
    trial::Disturbance fault = disturbance_of(one.strike, one.angle_rad);
    const double after_s = one.at_s - zero_s;
    if (&one == &struck.front()) {
      trial.fault = fault;
    } else {
      fault.after_s = after_s;
      trial.evolves.push_back(fault);
    }
    if (one.strike.then_phases.empty()) continue;
    fault.fault.phases = one.strike.then_phases;
    fault.after_s = after_s + one.strike.then_after_s;
    fault.lasts_s = std::max(fault.lasts_s - one.strike.then_after_s, 1e-3);
    trial.evolves.push_back(std::move(fault));
  }
  const std::vector<Happened> events = all_events(session);
  const auto first = [&](const std::string& point, bool on) {
    return std::find_if(events.begin(), events.end(), [&](const Happened& event) {
      return event.point == point && event.on == on && event.time_s >= zero_s;
    });
  };
  if (trial.fault) {
    for (const std::string& device : devices_of(session)) {
      trial::Expectation expectation;
      expectation.device = device;
      if (first(device + ".trip", true) != events.end())
        expectation.time = "from settings";
      else
        expectation.never = true;
      trial.expect.push_back(std::move(expectation));
    }
  }
  for (const Askable& one : known->askables) {
    const auto opened = first(one.name + ".closed", false);
    if (!one.operated || opened == events.end()) continue;
    trial::Expectation expectation;
    expectation.breaker = one.name;
    expectation.open_before_s = std::ceil(1e3 * spare * (opened->time_s - zero_s)) * 1e-3;
    trial.expect.push_back(std::move(expectation));
  }
  return trial;
}

std::vector<trial::Verdict> verdicts_of(const Session& session, const Struck& struck) {
  trial::Trial trial;
  trial.name = "struck";
  trial.fault = disturbance_of(struck.strike, struck.angle_rad);
  for (const std::string& device : devices_of(session)) {
    trial::Expectation expectation;
    expectation.device = device;
    expectation.time = "from settings";
    trial.expect.push_back(std::move(expectation));
  }
  if (trial.expect.empty()) return {};
  const double until_s =
      std::min(session.status().time_s, struck.at_s + trial.fault->lasts_s + behind_judged_s);
  if (until_s <= struck.at_s) return {};
  try {
    record::Record record = session.capture(struck.at_s - before_judged_s, until_s, struck.at_s);
    if (record.time_s.front() > struck.at_s - before_judged_s / 2 && record.time_s.front() > 0) return {};
    trial::TrialResult result = trial::judge_again(session.loaded(), trial, std::move(record), false);
    return result.verdicts;
  } catch (const Error&) {
    return {};
  }
}

}  // namespace zavrek::engine::internal
