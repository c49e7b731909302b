#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "trial/judge.hpp"
#include "trial/operations.hpp"

namespace zavrek::trial {
namespace {

using internal::Operations;
using internal::operations;
using internal::Rig;

/// Lateness of a paced run that is told beside a verdict that failed: a third of the usual tolerance.
constexpr double worth_saying_s = 10e-3;

/// Signal terms of the voltage whose rising zero counts as 0 deg: the first faulted phase to ground, or
/// the difference of two faulted phases.
std::complex<double> faulted_voltage(const emt::Plant& plant, const std::string& phases) {
  const auto of = [&](char phase) {
    return plant.phasor(plant.signal(std::string("fault.v") + static_cast<char>(phase - 'A' + 'a')));
  };
  const std::size_t count = phases.size() - (phases.back() == 'G' ? 1 : 0);
  return count == 2 ? of(phases[0]) - of(phases[1]) : of(phases[0]);
}

/// First instant at or after `prefault` at which the faulted voltage has the wanted angle.
double inception_time(const emt::Plant& plant, const Trial& trial, double frequency_Hz) {
  const double cycle = 1 / frequency_Hz;
  const double at_zero = std::arg(faulted_voltage(plant, trial.fault->fault.phases)) + std::numbers::pi / 2;
  double cycles = (trial.fault->inception_rad - at_zero) / (2 * std::numbers::pi);
  cycles += std::ceil(trial.prefault_s / cycle - cycles - 1e-9);
  return cycles * cycle;
}

/// When the last of its faults is over, from the inception of the first.
double fault_ends(const Trial& trial) {
  double last = trial.fault ? trial.fault->lasts_s : 0;
  for (const Disturbance& next : trial.evolves) last = std::max(last, next.after_s + next.lasts_s);
  return last;
}

double duration_of(const Trial& trial, double frequency_Hz) {
  double last = fault_ends(trial);
  for (const Operation& o : trial.operate) last = std::max(last, o.at_s);
  const double until_inception = trial.fault ? 1 / frequency_Hz : 0;  // at most
  return trial.prefault_s + until_inception + last + trial.postfault_s;
}

Verdict failed_verdict(const Expectation& e, const std::string& why) {
  Verdict verdict;
  verdict.expectation = !e.signal.empty()   ? e.signal + " " + e.measure
                        : e.breaker.empty() ? e.device + " " + e.output
                                            : e.breaker + " open";
  verdict.expected = e.never ? "never" : e.time.empty() ? "" : e.time;
  verdict.measured = why;
  return verdict;
}

std::vector<std::string> signals_judged(const Trial& trial) {
  std::vector<std::string> names;
  for (const Expectation& e : trial.expect) {
    if (!e.signal.empty()) names.push_back(e.signal);
  }
  return names;
}

/// What made steps longer than others, or left something for the next.
std::vector<std::string> remarks_on(const emt::Plant& plant) {
  std::vector<std::string> remarks;
  if (plant.crowded_steps() > 0)
    remarks.push_back(
        fmt::format("{} of {} steps met the bound of {} discontinuities, or of commutations at "
                    "one of them; what was left waited a step",
                    plant.crowded_steps(), plant.steps(), plant.summary().events_per_step));
  if (plant.states_met() > 0)
    remarks.push_back(
        fmt::format("{} states of switches were not made ready before the first step; a longer "
                    "step met each",
                    plant.states_met()));
  return remarks;
}

pace::Timing execute(Rig& rig, bool wall, double duration_s) {
  const double step = rig.stride() * rig.plant().step_s();
  const auto steps = static_cast<std::int64_t>(std::ceil(duration_s / step - 1e-6));
  pace::Footing footing;
  if (wall) footing = pace::take_footing();
  pace::Timing timing = pace::Executive(pace::system_clock(), footing.may_spin)
                            .run(wall ? pace::Pace::wall : pace::Pace::free, std::llround(step * 1e9), steps,
                                 [&](std::int64_t) { return rig.advance(); });
  if (wall) pace::leave_footing();
  timing.footing = footing;
  timing.plant_steps = rig.stride();
  return timing;
}

}  // namespace

network::Network struck(const Case& all, const Trial& trial) {
  network::Network network = all.network;
  network.faults.clear();
  if (!trial.fault) return network;
  network.faults.push_back(trial.fault->fault);
  for (const Disturbance& next : trial.evolves) {
    network::Fault fault = next.fault;
    if (fault.on.empty()) {
      fault.on = trial.fault->fault.on;
      fault.at = trial.fault->fault.at;
      fault.winding = trial.fault->fault.winding;
    }
    fault.name = fmt::format("fault{}", network.faults.size() + 1);
    network.faults.push_back(std::move(fault));
  }
  return network;
}

std::vector<emt::Command> strikes(const Trial& trial, double inception_s) {
  if (!trial.fault) return {};
  std::vector<emt::Command> commands{{inception_s, "fault", true},
                                     {inception_s + trial.fault->lasts_s, "fault", false}};
  for (std::size_t k = 0; k < trial.evolves.size(); ++k) {
    const double at = inception_s + trial.evolves[k].after_s;
    const std::string name = fmt::format("fault{}", k + 2);
    commands.push_back({at, name, true});
    commands.push_back({at + trial.evolves[k].lasts_s, name, false});
  }
  return commands;
}

namespace {

/// The control of the case as a driver of the study; the case must outlive it.
void add_control(emt::Study& study, const Case& all, const emt::Plant& plant,
                 std::vector<internal::ControlTurn> turns) {
  if (!has_control(all)) return;
  study.drive_period_s = internal::ControlSeat(all, plant, false).controller().period_s();
  // Handles hold for every plant of this network, so one compiled for the names serves all.
  auto named = std::make_shared<emt::Plant>(emt::compile(study.network));
  study.drive = [&all, named, turns = std::move(turns)]() -> std::function<void(emt::Drivable&)> {
    auto seat = std::make_shared<internal::ControlSeat>(all, *named, false);
    seat->turn_at(turns);
    return [seat](emt::Drivable& target) { seat->run_due(target); };
  };
}

}  // namespace

emt::Study study_of(const Case& all, const Trial* trial, double duration_s) {
  emt::Study study;
  study.network = trial ? struck(all, *trial) : all.network;
  if (!trial) study.network.faults.clear();
  study.duration_s = duration_s > 0 ? duration_s : 0.2;
  study.sample_s = all.network.step_s;
  const emt::Plant plant = emt::compile(study.network);
  if (!trial) {
    add_control(study, all, plant, {});
    return study;
  }
  const double inception =
      trial->fault ? inception_time(plant, *trial, study.network.frequency_Hz) : trial->prefault_s;
  study.commands = strikes(*trial, inception);
  const std::optional<internal::ControlSeat> control =
      has_control(all) ? std::make_optional<internal::ControlSeat>(all, plant, false) : std::nullopt;
  Operations operated =
      operations(plant, control ? &control->controller() : nullptr, all.bench, *trial, inception);
  for (emt::Command& command : operated.commands) study.commands.push_back(std::move(command));
  add_control(study, all, plant, std::move(operated.turns));
  if (!(duration_s > 0)) study.duration_s = duration_of(*trial, study.network.frequency_Hz);
  return study;
}

const Trial& find_trial(const Case& all, const std::string& name) {
  std::vector<std::string> names;
  for (const Trial& trial : all.trials) {
    names.push_back(trial.name);
    if (trial.name == name) return trial;
  }
  throw Error(fmt::format("no trial \"{}\"{}", name, suggestion(name, names)));
}

record::Record record_of(const emt::Series& series, const Case& all, double trigger_s) {
  record::Record record;
  record.station = all.network.title;
  record.device = "Zavrek";
  record.frequency_Hz = all.network.frequency_Hz;
  record.time_s = series.time_s;
  record.trigger_s = trigger_s;
  if (series.time_s.size() > 1) record.rate_Hz = 1 / (series.time_s[1] - series.time_s[0]);
  for (std::size_t k = 0; k < series.names.size(); ++k) {
    record::Analog analog;
    analog.name = series.names[k];
    analog.unit = series.units[k];
    analog.samples = series.values[k];
    record.analogs.push_back(std::move(analog));
  }
  return record;
}

std::string Explanation::words() const {
  constexpr double narrow = 1.1;  // told as one number
  const std::size_t place = has_factor() ? text.find("{}") : std::string::npos;
  if (place == std::string::npos) return text;
  const bool open_below = low <= least * 1.001, open_above = high >= most / 1.001;
  const std::string factor = open_below && !open_above ? fmt::format("at most {:.2g}", high)
                             : open_above              ? fmt::format("at least {:.2g}", low)
                             : high < narrow * low     ? fmt::format("about {:.2g}", std::sqrt(low * high))
                                                       : fmt::format("{:.2g} to {:.2g}", low, high);
  return text.substr(0, place) + factor + text.substr(place + 2);
}

bool TrialResult::passed() const {
  return failure.empty() &&
         std::all_of(verdicts.begin(), verdicts.end(), [](const Verdict& v) { return v.passed; });
}

TrialResult run_trial(const Case& all, const Trial& trial, const RunOptions& options) {
  const network::Network network = struck(all, trial);
  const double frequency = network.frequency_Hz;
  TrialResult result;
  result.name = trial.name;
  const double duration = duration_of(trial, frequency);
  Rig rig(all, network, options, duration, signals_judged(trial));
  result.notes = rig.plant().summary().notes;

  result.inception_s = trial.fault ? inception_time(rig.plant(), trial, frequency) : trial.prefault_s;
  std::vector<emt::Command> commands = strikes(trial, result.inception_s);
  internal::ControlSeat* control = rig.control();
  Operations operated = operations(rig.plant(), control ? &control->controller() : nullptr, all.bench, trial,
                                   result.inception_s);
  std::stable_sort(operated.contacts.begin(), operated.contacts.end(),
                   [](const auto& a, const auto& b) { return a.at_s < b.at_s; });
  rig.operate_contacts(std::move(operated.contacts));
  for (emt::Command& command : operated.commands) commands.push_back(std::move(command));
  rig.command(commands);
  if (control) control->turn_at(std::move(operated.turns));

  const bool paced = !options.free || rig.has_remote();
  if (control) result.failure = control->begin(options.relay_program, paced);
  if (!result.failure.empty()) {
  } else if (const std::string mute = rig.start_devices(); !mute.empty()) {
    result.failure = fmt::format("no answer from {} at the start", mute);
  } else {
    result.timing = execute(rig, paced, duration);
    result.failure = rig.failure();
  }
  result.medium = rig.medium();
  result.remarks = remarks_on(rig.plant());
  const double ended = rig.plant().time_s();
  result.record = rig.take_record(result.inception_s);
  const internal::Outcome outcome{
      all,           rig,
      result.record, result.inception_s,
      ended,         trial.fault ? result.inception_s + fault_ends(trial) : ended};
  for (const Expectation& e : trial.expect) {
    result.verdicts.push_back(result.failure.empty() ? internal::judge(e, outcome)
                                                     : failed_verdict(e, result.failure));
    if (result.verdicts.back().passed || !result.failure.empty()) continue;
    for (Explanation& found : internal::explain(e, outcome)) result.findings.push_back(std::move(found));
  }
  if (result.failure.empty())
    result.fault_current_A = internal::fault_current(result.record, result.inception_s);
  if (!result.passed()) {
    for (const emt::Refusal& refusal : rig.plant().refusals())
      result.findings.push_back(
          {fmt::format("the command to {} {} at {:.4g} s was refused by its interlocking",
                       refusal.close ? "close" : "open", rig.plant().name(refusal.what),
                       refusal.time_s - result.inception_s)});
  }
  if (control && control->late() > 0)
    result.findings.push_back(
        {fmt::format("{} answers of the controller came too late and never acted", control->late())});
  const double late_s = 1e-9 * static_cast<double>(result.timing.lateness.max_ns());
  if (!result.passed() && late_s > worth_saying_s)
    result.findings.insert(
        result.findings.begin(),
        {fmt::format("this computer held the run back by up to {:.0f} ms, by which devices outside it "
                     "are late through no fault of theirs",
                     1e3 * late_s)});
  return result;
}

}  // namespace zavrek::trial
