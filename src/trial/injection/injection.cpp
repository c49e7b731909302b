#include "zavrek/trial/injection.hpp"

#include <algorithm>
#include <cmath>

#include "trial/injection/tester.hpp"
#include "trial/mistakes/episode.hpp"
#include "trial/mistakes/wired.hpp"
#include "zavrek/trial/injection_plan.hpp"

namespace zavrek::trial {

namespace internal {
namespace {

constexpr double prefault_s = 0.3;
constexpr double longest_reset_s = 5;
constexpr double remembered_share = 0.1;  // of a tolerance, which is no more than nothing
constexpr double least_rest_s = 0.1;

}  // namespace

InjectionReport Tester::run() {
  options_.plan ? follow_plan() : follow_settings();
  if ((report_.interrupted = injector_.interrupted())) {
    report_.failure = injector_.failure();
    report_.points.resize(std::min(whole_.first, report_.points.size()));
    report_.boundaries.resize(std::min(whole_.second, report_.boundaries.size()));
  }
  report_.injected_s = injector_.injected_s();
  injector_.end();
  report_.accounts = injector_.accounts();
  report_.kept = injector_.kept();
  report_.step_s = injector_.step_s();
  if (options_.explain && report_.failure.empty() && !report_.passed()) explain();
  return std::move(report_);
}

void Tester::note_trip(const std::vector<protection::Held>& past, const Stimulus& during, const Probe& probe,
                       std::optional<double> trip_s, double watched_s, bool passed) {
  if (!options_.explain) return;
  Observation& one = observations_.emplace_back();
  one.measured_s = trip_s;
  one.watched_s = watched_s;
  one.tolerance_s = tolerance_.time_s;
  one.tolerance_share = tolerance_.share;
  one.measuring_s = probe.measuring_s;
  one.passed = passed;
  one.predict = [episode = Episode{past, {{during.measured, one.longest_s()}}, {}, true},
                 longest_s = one.longest_s()](const Device& wrong) {
    return trip_time(wrong, episode, longest_s);
  };
}

void Tester::note_start(const Probe& probe, const std::string& output, const std::vector<Stimulus>& held,
                        bool on, bool passed) {
  if (!options_.explain) return;
  Observation& one = observations_.emplace_back();
  one.predict = [this, before = probe.before, output, held](const Device& wrong) {
    protection::Relay relay(wrong.relay, 80 * options_.frequency_Hz, options_.frequency_Hz,
                            static_cast<int>(before.measured.ends.size()));
    const auto hold = [&](const Stimulus& stimulus, int steps) {
      const protection::Measured measured = as_wired(stimulus.measured, wrong);
      for (int k = 0; k < steps; ++k) relay.decide(measured, 1e-3);
    };
    hold(before, 100);
    for (const Stimulus& each : held) hold(each, 60);
    return relay.signal(relay.find_signal(output)) ? 0.0 : never_s;
  };
  if (on) one.measured_s = 0;
  one.tolerance_s = 1;
  one.watched_s = 2;
  one.passed = passed;
}

void Tester::note_timer(const Probe& probe, const Stimulus& during, double measured_s, double tolerance_s) {
  if (!options_.explain) return;
  Observation& one = observations_.emplace_back();
  one.predict = [this, before = probe.before, during, longest_s = 2 * measured_s + 1](const Device& wrong) {
    protection::Relay relay(wrong.relay, 80 * options_.frequency_Hz, options_.frequency_Hz,
                            static_cast<int>(before.measured.ends.size()));
    const protection::Measured rest = as_wired(before.measured, wrong),
                               now = as_wired(during.measured, wrong);
    for (int k = 0; k < 100; ++k) relay.decide(rest, 1e-3);
    constexpr double step_s = 1e-3;
    double started_s = never_s;
    for (double t = step_s; t < longest_s; t += step_s) {
      relay.decide(now, step_s);
      if (relay.start()) started_s = std::min(started_s, t);
      if (relay.trip()) return std::max(0.0, t - started_s);
    }
    return never_s;
  };
  one.measured_s = measured_s;
  one.watched_s = 2 * measured_s + 1;
  one.tolerance_s = tolerance_s;
  one.passed = report_.points.back().passed;
}

void Tester::explain() {
  Device device;
  device.relay = device.approved_relay = approved_;
  for (std::size_t k = 0; k < places_; ++k) device.reads.push_back(fmt::format("place {}", k + 1));
  std::vector<Mistake> mistakes = mistakes_in_settings(approved_);
  for (Mistake& mistake : mistakes_in_wiring(device)) mistakes.push_back(std::move(mistake));
  report_.causes = causes_of(device, mistakes, observations_);
}

void Tester::tell(const std::string& at) {
  if (!options_.report) return;
  progress_.at = at;
  progress_.points = report_.points.size();
  progress_.failed = static_cast<std::size_t>(
      std::count_if(report_.points.begin(), report_.points.end(), [](const auto& p) { return !p.passed; }));
  progress_.injected_s = injector_.injected_s();
  progress_.spent_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun_).count();
  options_.report(progress_);
}

void Tester::follow_plan() {
  progress_.total = options_.plan->values.size() + options_.plan->sequences.size();
  for (const InjectedValue& value : options_.plan->values) {
    if (!report_.failure.empty()) return;
    for (const FunctionSettings& function : approved_.functions) {
      if (protection::base_of(function).name != value.function) continue;
      const auto probe = probe_of(approved_, function, options_.frequency_Hz);
      if (!probe) {
        report_.warnings.push_back(value.function + ": no steady quantity tests it; write a sequence for it");
        continue;
      }
      time(function, *probe, parse_quantity_as(value.value, probe->unit));
    }
    ++progress_.done;
    if (report_.failure.empty()) tell(value.function);
  }
  for (const InjectedSequence& sequence : options_.plan->sequences) {
    if (!report_.failure.empty()) return;
    keep_whole();
    inject_sequence(sequence, approved_, options_, places_, injector_, report_);
    ++progress_.done;
    if (report_.failure.empty()) tell(sequence.name);
  }
  if (report_.failure.empty()) keep_whole();
}

void Tester::follow_settings() {
  progress_.total = static_cast<std::size_t>(
      std::count_if(approved_.functions.begin(), approved_.functions.end(), [&](const auto& function) {
        const protection::FunctionBase& base = protection::base_of(function);
        return base.trips && base.name.find(options_.only) != std::string::npos &&
               probe_of(approved_, function, options_.frequency_Hz).has_value();
      }));
  for (const FunctionSettings& function : approved_.functions) {
    const protection::FunctionBase& base = protection::base_of(function);
    if (!report_.failure.empty()) break;
    if (base.name.find(options_.only) == std::string::npos) continue;
    const auto probe = probe_of(approved_, function, options_.frequency_Hz);
    if (!probe) {
      const bool logic = std::holds_alternative<protection::Logic>(function) ||
                         std::holds_alternative<protection::Latch>(function) ||
                         std::holds_alternative<protection::Output>(function);
      if (!logic)
        report_.warnings.push_back(
            fmt::format("{}: no steady quantity tests it; write trials for it", base.name));
      continue;
    }
    if (!base.trips) {
      report_.warnings.push_back(
          fmt::format("{}: is none of the relay's trips, so injection does not see it", base.name));
      continue;
    }
    test(function, *probe);
    ++progress_.done;
    if (report_.failure.empty()) tell(base.name);
  }
  if (report_.failure.empty()) keep_whole();
}

ExpectedOperation Tester::expected(const Probe& probe, const Stimulus& during, double limit_s) const {
  return protection::expected_operation(approved_, probe.before.measured, during.measured, limit_s);
}

ExpectedOperation Tester::expected_behind(const std::vector<protection::Held>& past,
                                          const Stimulus& during) const {
  return protection::expected_operation(approved_, past, during.measured, options_.longest_s);
}

bool Tester::settle(const Probe& probe) {
  if (report_.failure.empty()) {
    keep_whole();
    tell(probe.function);
  }
  const bool forgets = injector_.forget();
  if (!forgets) (void)injector_.inject(probe.before, longest_reset_s, Injector::Until::quiet);
  (void)injector_.inject(probe.before, prefault_s);
  if (!injector_.failure().empty()) report_.failure = injector_.failure();
  return report_.failure.empty();
}

double Tester::rest_needed(const Probe& probe, const Stimulus& tested,
                           std::vector<protection::Held> past) const {
  // Something at which nothing operates does not show what is remembered.
  const bool shows = std::isfinite(expected(probe, tested, options_.longest_s).time_s);
  const Stimulus during = shows ? tested : probe.at(probe.threshold * (probe.operates_above ? 1.5 : 0.7));
  const ExpectedOperation wanted = expected(probe, during, options_.longest_s);
  if (!std::isfinite(wanted.time_s)) return 0;
  past.push_back({probe.before.measured, 0});
  const auto is_enough = [&](double rest_s) {
    past.back().for_s = rest_s;
    const ExpectedOperation found =
        protection::expected_operation(approved_, past, during.measured, options_.longest_s);
    return found.stage == wanted.stage &&
           std::abs(found.time_s - wanted.time_s) < remembered_share * tolerance_.of(wanted.time_s);
  };
  if (is_enough(0)) return 0;
  for (double rest_s = least_rest_s; rest_s <= options_.longest_rest_s; rest_s *= 1.5) {
    if (is_enough(rest_s)) return rest_s;
  }
  return never_s;
}

bool Tester::rest(const Probe& probe, const Stimulus& during) {
  if (!settle(probe) || !injector_.elsewhere()) return report_.failure.empty();
  const double needed_s =
      beside(probe, [&, past = injector_.past()] { return rest_needed(probe, during, past); });
  if (needed_s > 0) (void)injector_.inject(probe.before, std::min(needed_s, options_.longest_rest_s));
  if (std::isfinite(needed_s))
    injector_.rested(probe.before);
  else if (!std::exchange(told_of_memory_, true))
    report_.warnings.push_back(fmt::format(
        "{}: remembers for more than {:.0f} s of rest what was injected before; what it should do "
        "is reckoned with that",
        probe.function, options_.longest_rest_s));
  if (!injector_.failure().empty()) report_.failure = injector_.failure();
  return report_.failure.empty();
}

void Tester::test(const FunctionSettings& function, const Probe& probe) {
  const std::vector<double> values = beside(probe, [&] {
    return proposed_values(approved_, function, probe, options_.longest_s, options_.value_tolerance);
  });
  const std::string& name = probe.function;
  if (values.empty())
    report_.warnings.push_back(fmt::format(
        "{}: other functions operate first at every {}; it cannot be proven so", name, probe.quantity));
  for (const double value : values) time(function, probe, value);
  if (values.size() == 1)
    report_.warnings.push_back(fmt::format("{}: operates first at one of the values tried only", name));
  const double inside = probe.operates_above ? 1 : -1;
  // One value either side of the threshold, beyond its tolerance.
  for (const double way : {-inside, inside})
    time(function, probe,
         value_at(function, probe, 1 + way * 2.5 * options_.value_tolerance, options_.frequency_Hz));
  each_phase(function, probe);
  if (probe.turned && !values.empty()) sector(probe, values.back());
  pickup(function, probe);
  restraint(function, probe);
  if (const auto* zone = std::get_if<protection::Zone>(&function)) boundaries(*zone, probe);
  if (const auto* differential = std::get_if<protection::Differential>(&function))
    boundary(*differential, probe);
}

void Tester::time(const FunctionSettings& function, const Probe& probe, double value) {
  if (!report_.failure.empty()) return;
  InjectedPoint point;
  point.function = probe.function;
  point.value = value;
  point.quantity = fmt::format("{} {}", probe.quantity, show(value, probe.unit));
  const Stimulus during = probe.at(value);
  if (!rest(probe, during)) return;
  const auto past = injector_.past();
  beside(probe, [&] {
    const ExpectedOperation wanted = expected_behind(past, during);
    point.expected = wanted.time_s;
    point.by = wanted.stage;
    limits(probe, past, point);
    return 0;
  });
  point.test = std::isfinite(point.expected) ? "time" : "no operation";
  const double watched = std::isfinite(point.high)       ? point.high + 0.3
                         : std::isfinite(point.expected) ? 1.3 * point.expected + 0.3
                                                         : std::max(1.0, 1.3 * longest_definite());
  const auto seen =
      injector_.inject(during, std::min(watched, options_.longest_s * 1.3), Injector::Until::trip);
  if (seen.trip_s) point.measured = *seen.trip_s;
  point.passed = point.measured >= point.low && point.measured <= point.high;
  point.uncertain = uncertain_s();
  // Near pickup an inverse time says nothing; that it operates at all is still wanted.
  const double multiple = probe.threshold > 0 ? value / probe.threshold : 1;
  point.judged = !inverse(function) || !std::isfinite(point.expected) || multiple >= options_.accurate_above;
  // What would take longer than is waited is no proof that it does not operate.
  const bool beyond = probe.operates_above ? multiple > 1 : multiple < 1;
  if (beyond && !std::isfinite(point.expected) && slower_than_waited(function, probe, value))
    point.judged = false;
  if (point.judged)
    note_trip(past, during, probe, seen.trip_s, std::min(watched, options_.longest_s * 1.3), point.passed);
  else
    point.passed = true;
  if (!injector_.failure().empty()) report_.failure = injector_.failure();
  const bool its_own = point.by == probe.function && seen.start_s && seen.trip_s;
  report_.points.push_back(std::move(point));
  if (its_own) timer(function, probe, during, *seen.trip_s - *seen.start_s);
}

bool Tester::slower_than_waited(const FunctionSettings& function, const Probe& probe, double value) const {
  if (const auto* stage = std::get_if<protection::Stage>(&function))
    return std::isfinite(stage->operate_time_s(value)) && stage->operate_time_s(value) > options_.longest_s;
  if (const auto* voltage = std::get_if<protection::VoltageStage>(&function))
    return std::isfinite(voltage->operate_time_s(value)) &&
           voltage->operate_time_s(value) > options_.longest_s;
  return std::holds_alternative<protection::Thermal>(function) && value > probe.threshold;
}

double Tester::longest_definite() const {
  double longest = 0;
  for (const FunctionSettings& function : approved_.functions) {
    const double delay_s = definite_delay(function);
    if (network::is_set(delay_s)) longest = std::max(longest, delay_s);
  }
  return longest;
}

}  // namespace internal

using internal::Tester;
using protection::FunctionSettings;
using protection::RelaySettings;

bool Boundary::passed() const {
  return !rays.empty() && std::all_of(rays.begin(), rays.end(), [](const Ray& ray) { return ray.passed; });
}

bool InjectionReport::passed() const {
  return failure.empty() &&
         std::all_of(points.begin(), points.end(), [](const auto& p) { return p.passed; }) &&
         std::all_of(boundaries.begin(), boundaries.end(), [](const auto& b) { return b.passed(); });
}

InjectionReport inject(const RelaySettings& settings, const RelaySettings& approved,
                       const std::filesystem::path& file, const InjectionOptions& options) {
  std::size_t places = 1;
  for (const RelaySettings* one : {&settings, &approved}) {
    if (auto flaws = protection::validate(*one); !flaws.empty()) throw Error(std::move(flaws));
    for (const FunctionSettings& function : one->functions) {
      const auto probe = probe_of(*one, function, options.frequency_Hz);
      if (probe) places = std::max(places, probe->before.measured.ends.size());
    }
  }
  if (options.plan) {
    if (auto flaws = validate(*options.plan, approved); !flaws.empty()) throw Error(std::move(flaws));
    for (const InjectedSequence& sequence : options.plan->sequences) {
      for (const InjectedState& state : sequence.states) {
        places = std::max(places, static_cast<std::size_t>(state.here.place));
        for (const InjectedPlace& other : state.others)
          places = std::max(places, static_cast<std::size_t>(other.place));
      }
    }
  }
  return Tester(settings, approved, file, options, places).run();
}

}  // namespace zavrek::trial
