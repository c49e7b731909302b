#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "bench/control_seat.hpp"
#include "bench/make_port.hpp"
#include "bench/plant_source.hpp"
#include "trial/case/operations.hpp"
#include "trial/judge/judge.hpp"
#include "trial/judge/seen.hpp"
#include "trial/judge/time_tolerance.hpp"

namespace zavrek::trial {
namespace {

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

/// Signals that a trial judges, and points beside those that are recorded anyway.
std::vector<std::string> signals_judged(const Trial& trial) {
  std::vector<std::string> names;
  for (const Expectation& e : trial.expect) {
    if (!e.signal.empty()) names.push_back(e.signal);
  }
  return names;
}
std::vector<std::string> points_judged(const Trial& trial) {
  std::vector<std::string> names;
  for (const Expectation& e : trial.expect) {
    if (!e.breaker.empty()) names.push_back(e.breaker);
  }
  return names;
}

/// What made steps longer than others, or left something for the next.
std::vector<std::string> remarks_on(const emt::Plant& plant) {
  std::vector<std::string> remarks;
  if (plant.steps_at_event_limit() > 0)
    remarks.push_back(
        fmt::format("{} of {} steps met the bound of {} discontinuities, or of commutations at "
                    "one of them; what was left waited a step",
                    plant.steps_at_event_limit(), plant.steps(), plant.summary().events_per_step));
  if (plant.matrices_made_in_run() > 0)
    remarks.push_back(
        fmt::format("{} states of breakers and knobs were not made ready before the first step; a longer "
                    "step met each",
                    plant.matrices_made_in_run()));
  for (const emt::Excess& one : plant.excesses())
    remarks.push_back(fmt::format(
        "the voltage of {} was {} at {:.6g} s, beyond {} that any source of the network explains; take a "
        "smaller step, and look at what switches there",
        one.node, print_rounded(one.volts, "V"), one.at_s, print_rounded(one.bound_V, "V", 2)));
  return remarks;
}

}  // namespace

network::Network network_with_faults(const Case& all, const Trial& trial) {
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

std::vector<emt::ScheduledCommand> fault_commands(const Trial& trial, double inception_s) {
  if (!trial.fault) return {};
  std::vector<emt::ScheduledCommand> commands{{inception_s, "fault", true},
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

using bench::internal::ControlSeat;
using bench::internal::ControlTurn;

/// The control of the case as a driver of the study; the case must outlive it.
void add_control(emt::Study& study, const Case& all, const emt::Plant& plant,
                 std::vector<ControlTurn> turns) {
  if (!has_control(all)) return;
  study.drive_period_s = ControlSeat(all, plant, false).controller().period_s();
  std::stable_sort(turns.begin(), turns.end(), [](const auto& a, const auto& b) { return a.at_s < b.at_s; });
  // Handles hold for every plant of this network, so one compiled for the names serves all.
  auto named = std::make_shared<emt::Plant>(emt::compile(study.network));
  study.drive = [&all, named, turns = std::move(turns)]() -> std::function<void(emt::ControlledPlant&)> {
    auto seat = std::make_shared<ControlSeat>(all, *named, false);
    return [seat, turns, next = std::size_t{0}](emt::ControlledPlant& target) mutable {
      const double now = target.time_s() + 1e-6 * target.step_s();
      for (; next < turns.size() && turns[next].at_s <= now; ++next)
        seat->set(turns[next].parameter, turns[next].value);
      seat->run_due(target);
    };
  };
}

/// What a study does of the deeds of a trial: it has no bench, so contacts and ports are left out.
void add_deeds(emt::Study& study, const std::vector<bench::Deed>& deeds, const ControlSeat* control,
               bench::Exchange& exchange, std::vector<ControlTurn>& turns) {
  for (const bench::Deed& deed : deeds) {
    const bench::AskId what = exchange.ask_of(deed.what);
    if (exchange.is_contact(what) || exchange.is_of_port(what)) continue;
    if (exchange.is_of_control(what)) {
      turns.push_back({deed.at_s, control->controller().parameter(deed.what), deed.value});
      continue;
    }
    emt::ScheduledCommand command{.at_s = deed.at_s, .close = deed.kind == bench::Deed::Kind::close};
    std::string& name = deed.kind == bench::Deed::Kind::fail  ? command.fails
                        : deed.kind == bench::Deed::Kind::set ? command.knob
                                                              : command.operable;
    name = deed.what;
    command.value = deed.value;
    command.how = deed.how;
    study.commands.push_back(std::move(command));
  }
}

}  // namespace

emt::Study study_of(const Case& all, const Trial* trial, double duration_s) {
  emt::Study study;
  study.network = trial ? network_with_faults(all, *trial) : all.network;
  if (!trial) study.network.faults.clear();
  study.duration_s = duration_s > 0 ? duration_s : 0.2;
  study.sample_s = all.network.step_s;
  bench::internal::PlantSource source(emt::compile(study.network));
  const emt::Plant& plant = *source.plant();
  if (!trial) {
    add_control(study, all, plant, {});
    return study;
  }
  const double inception =
      trial->fault ? inception_time(plant, *trial, study.network.frequency_Hz) : trial->prefault_s;
  study.commands = fault_commands(*trial, inception);
  std::optional<ControlSeat> control;
  if (has_control(all)) control.emplace(all, plant, false);
  bench::Exchange exchange(all, source, control ? &*control : nullptr);
  bench::internal::declare_ports(all, exchange);
  std::vector<ControlTurn> turns;
  add_deeds(study, internal::operations(exchange, *trial, inception), control ? &*control : nullptr, exchange,
            turns);
  add_control(study, all, plant, std::move(turns));
  if (!(duration_s > 0)) study.duration_s = duration_of(*trial, study.network.frequency_Hz);
  return study;
}

bool has_control(const Case& all) { return !all.control.blocks.empty() || !all.control.ready.empty(); }

void check_control(const Case& all, const emt::Plant& plant) {
  if (has_control(all)) (void)ControlSeat(all, plant, false);
}

std::vector<std::string> control_knobs(const Case& all, const emt::Plant& plant) {
  std::vector<std::string> names;
  if (!has_control(all)) return names;
  const ControlSeat seat(all, plant, false);
  for (std::size_t k = 0; k < seat.controller().parameters().size(); ++k) {
    const std::string& unit = seat.controller().unit(k);
    names.push_back(seat.controller().parameters()[k] + (unit.empty() ? "" : " " + unit));
  }
  return names;
}

double control_lateness_s(const Case& all, const emt::Plant& plant) {
  if (!has_control(all)) return 0;
  const double ratio = ControlSeat(all, plant, false).controller().period_s() / plant.step_s();
  return std::abs(ratio - std::round(ratio)) > 1e-6 * ratio ? plant.step_s() : 0;
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

bool TrialResult::passed() const {
  return failure.empty() && not_judged.empty() &&
         std::all_of(verdicts.begin(), verdicts.end(), [](const Verdict& v) { return v.passed; });
}

namespace {

/// What else is to be known about a trial that failed.
void add_circumstances(const emt::Plant& plant, TrialResult& result) {
  for (const emt::Refusal& refusal : plant.refusals())
    result.findings.push_back({fmt::format("the command to {} {} at {:.4g} s was refused by its interlocking",
                                           refusal.close ? "close" : "open", plant.name(refusal.what),
                                           refusal.time_s - result.inception_s)});
  const double late_s = 1e-9 * static_cast<double>(result.timing.lateness.max_ns());
  if (late_s > worth_saying_s)
    result.findings.insert(
        result.findings.begin(),
        {fmt::format("this computer held the run back by up to {:.0f} ms, by which devices outside it "
                     "are late through no fault of theirs",
                     1e3 * late_s)});
}

/// What ports lost, one line each.
void add_losses(const std::vector<bench::Account>& accounts, TrialResult& result) {
  for (const bench::Account& account : accounts) {
    for (const bench::CountOf& one : bench::counts_of_accounts()) {
      const long long count = account.*one.count;
      if (count == 0 || !one.remark) continue;
      if (account.port == "control" && one.count == &bench::Account::late)  // a cause of failed trials
        result.findings.push_back(
            {fmt::format("{} answers of the controller came too late and never acted", count)});
      else
        result.remarks.push_back(fmt::format("{}: {} {}", account.port, count, one.remark));
    }
  }
}

void add_lateness(TrialResult& result) {
  const pace::Punctuality kept = pace::punctuality(result.timing);
  if (kept.late_steps > 0) result.remarks.push_back(to_string(kept) + ": " + why_late(result.timing));
}

/// That a relay in a process of its own did not trip says nothing where it received nothing.
void require_samples(const Expectation& e, TrialResult& result) {
  Verdict& verdict = result.verdicts.back();
  if (!e.never || !verdict.passed) return;
  for (const bench::Account& account : result.accounts) {
    if (account.port != "device." + e.device || account.carries != bench::as_it_counts) continue;
    if (account.received > 0) return;
    verdict.passed = false;
    verdict.measured = "none; it received no samples";
  }
}

}  // namespace

namespace {

double number_fact(const record::Record& record, const std::string& name, double otherwise) {
  const std::string text = record.fact(name);
  return text.empty() ? otherwise : parse_quantity_as(text, "");
}

internal::Outcome outcome_of(const Case& all, const Trial& trial, const record::Record& record,
                             double inception_s, double ended_s) {
  return {all,
          trial,
          record,
          internal::Evidence(record),
          inception_s,
          ended_s,
          trial.fault ? inception_s + fault_ends(trial) : ended_s,
          number_fact(record, "late_s", 0)};
}

double ended_of(const record::Record& record) {
  return number_fact(record, "ended_s", record.time_s.empty() ? 0 : record.time_s.back());
}

}  // namespace

void judge_record(const Case& all, const Trial& trial, const record::Record& record, double ended_s,
                  TrialResult& result) {
  const internal::Outcome outcome = outcome_of(all, trial, record, result.inception_s, ended_s);
  for (const Expectation& e : trial.expect) {
    result.verdicts.push_back(result.failure.empty() ? internal::judge(e, outcome)
                                                     : failed_verdict(e, result.failure));
    require_samples(e, result);
  }
  if (result.failure.empty()) result.fault_current_A = internal::fault_current(record, result.inception_s);
}

void explain_failures(const Case& all, const Trial& trial, const record::Record& record, double ended_s,
                      TrialResult& result) {
  if (!result.failure.empty()) return;
  const internal::Outcome outcome = outcome_of(all, trial, record, result.inception_s, ended_s);
  for (Explanation& cause : internal::causes_in({{&outcome, &result.verdicts}}))
    result.findings.push_back(std::move(cause));
}

std::vector<Explanation> likely_causes(const std::vector<JudgedResult>& results) {
  std::vector<internal::Outcome> outcomes;
  outcomes.reserve(results.size());
  std::vector<internal::Judged> judged;
  for (const JudgedResult& one : results) {
    const TrialResult& result = *one.result;
    if (!result.failure.empty() || !result.not_judged.empty()) continue;
    outcomes.push_back(
        outcome_of(*one.all, *one.trial, result.record, result.inception_s, ended_of(result.record)));
    judged.push_back({&outcomes.back(), &result.verdicts});
  }
  return internal::causes_in(judged);
}

std::vector<Explanation> likely_causes(const Case& all, const std::vector<TrialResult>& results) {
  std::vector<JudgedResult> judged;
  for (const TrialResult& result : results) {
    const auto trial = std::find_if(all.trials.begin(), all.trials.end(),
                                    [&](const Trial& one) { return one.name == result.name; });
    if (trial != all.trials.end()) judged.push_back({&all, &*trial, &result});
  }
  return likely_causes(judged);
}

void doubt_silent_devices(const Case& all, const RunOptions& how, std::vector<TrialResult>& results) {
  for (const Device& device : all.bench.devices) {
    if ((how.place.empty() ? device.place : how.place) != "outside") continue;
    const auto showed = [&](const TrialResult& result) {
      const internal::Evidence evidence(result.record);
      return evidence.first(device.name + ".start", true, 0) ||
             evidence.first(device.name + ".trip", true, 0);
    };
    if (std::any_of(results.begin(), results.end(), showed)) continue;
    for (TrialResult& result : results) {
      for (Verdict& verdict : result.verdicts) {
        const bool rests = verdict.expectation.starts_with(device.name + " ") && verdict.passed &&
                           verdict.expected.starts_with("never");
        if (rests && verdict.doubt.empty())
          verdict.doubt =
              device.name + " is outside and started in none of these trials: nothing shows that it measures";
      }
    }
  }
}

TrialResult judge_again(const Case& all, const Trial& trial, record::Record record, bool explain) {
  // What is judged counts its samples from time 0; a record that was cut out of a longer one begins later.
  if (record::begin_at_zero(record))
    std::erase_if(record.facts, [](const auto& fact) { return fact.first == "ended_s"; });
  TrialResult result;
  result.name = trial.name;
  result.inception_s = record.trigger_s;
  internal::complete_events(record);
  judge_record(all, trial, record, ended_of(record), result);
  if (explain) explain_failures(all, trial, record, ended_of(record), result);
  result.record = std::move(record);
  return result;
}

namespace {

/// One of a given duration that was ended before.
void note_interruption(bench::Run& run, double duration_s, const RunOptions& options, TrialResult& result) {
  const emt::Plant& plant = *run.plant();
  result.interrupted = options.stop && options.stop->load() && plant.time_s() < duration_s - plant.step_s();
  if (result.interrupted && result.failure.empty())
    result.failure = fmt::format("interrupted at t = {:.4g} s of {:.4g} s", plant.time_s(), duration_s);
}

/// What is told of a plant and its record. The streams' own rate is told by `check`.
std::vector<std::string> notes_of(const Case& all, const emt::Plant& plant) {
  std::vector<std::string> notes = plant.summary().notes;
  if (all.bench.points_per_cycle == bench::samples_per_cycle) return notes;
  if (std::string note = rows_between_steps(all, plant.step_s()); !note.empty())
    notes.push_back(std::move(note));
  return notes;
}

/// What the numbers of recorded state machines mean, for those who draw them.
void name_states(const Case& all, record::Record& record) {
  if (!has_control(all)) return;
  const control::Description expanded = control::expand(all.control);
  for (const control::Block& block : expanded.blocks) {
    const auto* sequence = std::get_if<control::Sequence>(&block);
    if (sequence && record.find_analog(sequence->name))
      record.facts.emplace_back("states of " + sequence->name,
                                fmt::format("{}", fmt::join(sequence->states, " ")));
  }
}

/// What a run leaves behind, unjudged.
void take_result(const Case& all, bench::Run& run, const RunOptions& options, TrialResult& result) {
  const emt::Plant& plant = *run.plant();
  const bool kept_pace = run.paced();
  run.end();
  result.medium = run.medium();
  result.remarks = remarks_on(plant);
  if (options.free && kept_pace)
    result.remarks.emplace_back(
        "it was to go as fast as it can and went by the clock, by which somebody outside of this process "
        "lives; "
        "devices do not where their place is \"plant\"");
  result.accounts = run.accounts();
  result.step_s = plant.step_s();
  result.record = run.take_record(result.inception_s);
  result.rows = run.rows();
  result.record.facts = {{"trial", result.name}, {"ended_s", fmt::format("{}", plant.time_s())}};
  name_states(all, result.record);
  const double late_s = pace::punctuality(result.timing).worst_late_s;
  if (run.somebody_elsewhere() && late_s > 0)
    result.record.facts.emplace_back("late_s", fmt::format("{:.3g}", late_s));
}

}  // namespace

std::string rows_between_steps(const Case& all, double step_s) {
  const double steps = 1 / (all.bench.points_per_cycle * all.network.frequency_Hz * step_s);
  if (std::abs(steps - std::round(steps)) < 1e-9 * steps && steps >= 1) return {};
  return fmt::format(
      "the {} points per cycle of the records lie between steps of {}: read off straight lines",
      all.bench.points_per_cycle, print_rounded(step_s, "s"));
}

TrialResult run_undisturbed(const Case& all, double duration_s, double kept_s, const RunOptions& options,
                            const std::vector<Operation>& operations) {
  network::Network network = all.network;
  network.faults.clear();
  TrialResult result;
  result.name = "run";
  bench::Run run(all, network, options);
  run.record(0, kept_s, {});
  result.notes = notes_of(all, *run.plant());
  run.schedule(internal::operations(run.exchange(), operations, 0, "--at"));
  result.failure = run.start();
  if (result.failure.empty()) {
    result.timing = run.execute(duration_s);
    result.failure = run.failure();
    note_interruption(run, duration_s, options, result);
  }
  take_result(all, run, options, result);
  add_losses(result.accounts, result);
  add_lateness(result);
  return result;
}

namespace {

constexpr double usual_tolerance_s = 30e-3;  // of a `never`, and of what has none of its own

/// The least by which a time of the trial may miss what is expected.
double least_tolerance_s(const Trial& trial) {
  double least = usual_tolerance_s;
  for (const Expectation& e : trial.expect) {
    double one = usual_tolerance_s;
    if (e.window.size() == 2)
      one = parse_quantity_as(e.window[1], "s") - parse_quantity_as(e.window[0], "s");
    else if (!e.time.empty() && !e.tolerance.empty())
      one = internal::time_tolerance(e.tolerance)
                .of(e.time == "from settings" ? 0 : parse_quantity_as(e.time, "s"));
    if (one > 0) least = std::min(least, one);
  }
  return least;
}

/// Why a run in which somebody else had to keep up proves nothing; empty when it does. Where frames are
/// `spoiled` on purpose, lost samples are the trial's and not the computer's.
std::string held_back(const Trial& trial, const TrialResult& result, bool spoiled) {
  const double most_s = network::is_set(trial.held_back_s) ? trial.held_back_s : least_tolerance_s(trial) / 2;
  const auto beyond = [&](const std::string& who, double by_s) {
    return fmt::format("{} was held back by {} by this computer; {} at most can be judged", who,
                       print_rounded(by_s, "s", 2), print_rounded(most_s, "s", 2));
  };
  const pace::Punctuality kept = pace::punctuality(result.timing);
  if (const double by_s = std::max(kept.held_back_s, kept.worst_late_s); by_s > most_s)
    return beyond("the run", by_s);
  for (const bench::Account& account : result.accounts) {
    const double by_s = 1e-6 * static_cast<double>(account.held_back_us);
    if (by_s > most_s) return beyond(account.port, by_s);
    if (!spoiled && account.held_back_us > 0 && account.lost > 0)
      return fmt::format("{} lost {} samples", account.port, account.lost);
  }
  return {};
}

TrialResult run_once(const Case& all, const Trial& trial, const RunOptions& options) {
  const network::Network network = network_with_faults(all, trial);
  const double frequency = network.frequency_Hz;
  TrialResult result;
  result.name = trial.name;
  const double duration = duration_of(trial, frequency);
  bench::Run run(all, network, options);
  emt::Plant& plant = *run.plant();
  run.record(duration, 0, signals_judged(trial), points_judged(trial));
  result.notes = notes_of(all, plant);

  result.inception_s = trial.fault ? inception_time(plant, trial, frequency) : trial.prefault_s;
  std::vector<bench::Deed> deeds = internal::fault_deeds(trial, result.inception_s);
  for (bench::Deed& deed : internal::operations(run.exchange(), trial, result.inception_s))
    deeds.push_back(std::move(deed));
  run.schedule(deeds);
  const bool spoiled = std::any_of(deeds.begin(), deeds.end(), [&](const bench::Deed& deed) {
    return run.exchange().is_of_port(run.exchange().ask_of(deed.what));
  });

  result.failure = run.start();
  bool died = run.somebody_ended();
  if (result.failure.empty()) {
    result.timing = run.execute(duration);
    result.failure = run.failure();
    died = run.somebody_ended();
    if (result.timing.gave_up_step >= 0) result.not_judged = std::exchange(result.failure, {});
    note_interruption(run, duration, options, result);
  }
  take_result(all, run, options, result);
  // Who died was not held back.
  if (run.somebody_elsewhere() && !died && !result.interrupted && result.not_judged.empty())
    result.not_judged = held_back(trial, result, spoiled);
  if (options.kept_as && result.record.time_s.size() > 1)
    result.record = record::as_kept(result.record, *options.kept_as);
  judge_record(all, trial, result.record, plant.time_s(), result);
  if (options.explain) explain_failures(all, trial, result.record, plant.time_s(), result);
  if (!result.passed()) add_circumstances(plant, result);
  add_losses(result.accounts, result);
  add_lateness(result);
  return result;
}

}  // namespace

TrialResult run_trial(const Case& all, const Trial& trial, const RunOptions& options) {
  RunOptions how = options;
  for (int repeats = 0;; ++repeats) {
    TrialResult result = run_once(all, trial, how);
    result.repeats = repeats;
    const bool stopped = options.stop && options.stop->load();
    if (result.not_judged.empty() || repeats >= options.most_repeats || stopped) return result;
    how.listens = false;
  }
}

}  // namespace zavrek::trial
