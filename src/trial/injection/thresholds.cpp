// Pickup and drop-off, harmonics that restrain, timers.
#include <algorithm>
#include <cmath>

#include "trial/injection/tester.hpp"

namespace zavrek::trial::internal {
namespace {

constexpr double ramp_share = 0.0025;  // of the threshold, in a step of a ramp
constexpr double ramp_Hz = 5e-3;
constexpr double ramp_hold_s = 0.06;   // of each step
constexpr double search_width = 0.12;  // of the threshold, either side, in which a pickup is looked for
constexpr int search_steps = 7;        // halvings of a search along a ray
constexpr double timer_share = 0.01;   // of a delay, from start to trip
constexpr double timer_here_s = 2e-3, timer_elsewhere_s = 10e-3;

}  // namespace

void Tester::restraint(const FunctionSettings& function, const Probe& probe) {
  double second = network::unset, fifth = network::unset;
  if (const auto* stage = std::get_if<protection::Stage>(&function)) second = stage->second_harmonic;
  if (const auto* differential = std::get_if<protection::Differential>(&function)) {
    second = differential->second_harmonic;
    fifth = differential->fifth_harmonic;
  }
  for (const int order : {2, 5}) {
    const double share = order == 2 ? second : fifth;
    if (!network::is_set(share)) continue;
    if (const auto* differential = std::get_if<protection::Differential>(&function)) {
      release(*differential, probe, order, share);
      continue;
    }
    for (const double factor : {0.9, 1.1}) {
      Probe mixed = probe;
      mixed.quantity = fmt::format("{:.3g} % of order {} in {}", 100 * factor * share, order, probe.quantity);
      mixed.at = [=, at = probe.at](double value) {
        return at(value).with_harmonics(order == 2 ? factor * share : 0, order == 5 ? factor * share : 0);
      };
      time(function, mixed, 1.5 * probe.threshold);
    }
  }
}

void Tester::release(const protection::Differential& function, const Probe& probe, int order, double share) {
  constexpr double rest_share = 0.5, risen_share = 1.5, rise_share = 0.05, held_share = 2;
  constexpr double fall_share = 0.02, least_share = 0.5;  // of the share that is looked for
  if (!report_.failure.empty()) return;
  const double hold_s = std::max(ramp_hold_s, function.delay_s + tolerance_.time_s + probe.measuring_s);
  const auto at = [&](double risen, double harmonic) {
    const double of_current = harmonic * risen_share / risen;
    return probe.at(risen * probe.threshold)
        .with_harmonics(order == 2 ? of_current : 0, order == 5 ? of_current : 0);
  };
  if (!rest(probe, at(risen_share, held_share * share))) return;
  bool early = false;
  for (double risen = rest_share; risen < risen_share + rise_share / 2; risen += rise_share)
    early =
        early || injector_.inject(at(risen, held_share * share), ramp_hold_s, Injector::Until::trip).trip_s;
  double factor = held_share;
  for (bool tripped = early; !tripped && factor > least_share; tripped = injector_.trip()) {
    factor -= fall_share;
    (void)injector_.inject(at(risen_share, factor * share), hold_s, Injector::Until::trip);
  }
  const bool freed = injector_.trip() && !early;
  Probe mixed = probe;
  mixed.quantity = fmt::format("order {} in {}", order, probe.quantity);
  add_value(mixed, "restraint", 100 * share, freed ? 100 * factor * share : never_s,
            100 * share * (2 * options_.value_tolerance + fall_share), "%");
  if (!injector_.failure().empty()) report_.failure = injector_.failure();
}

void Tester::timer(const FunctionSettings& function, const Probe& probe, const Stimulus& during,
                   double measured_s) {
  const double delay_s = definite_delay(function);
  if (!network::is_set(delay_s)) return;
  protection::Relay relay(approved_, 80 * options_.frequency_Hz, options_.frequency_Hz,
                          static_cast<int>(during.measured.ends.size()));
  for (int k = 0; k < 100; ++k) relay.decide(probe.before.measured, 5e-3);
  for (int k = 0; k < 100; ++k) relay.decide(during.measured, 1e-3);
  for (const FunctionSettings& other : approved_.functions) {
    const std::string& name = protection::base_of(other).name;
    const auto& signals = relay.signals();
    const auto start = std::find(signals.begin(), signals.end(), name + ".start");
    const bool starts =
        start != signals.end() && relay.signal(static_cast<std::size_t>(start - signals.begin()));
    if (starts && name != probe.function) return;
  }
  const double decision_s = approved_.decisions > 0 ? 1 / (approved_.decisions * options_.frequency_Hz) : 0;
  const double tolerance = std::max(timer_share * delay_s,
                                    (injector_.elsewhere() ? timer_elsewhere_s : timer_here_s) + decision_s);
  add_value(probe, "timer", delay_s, measured_s, tolerance, "s");
  note_timer(probe, during, measured_s, tolerance);
}

void Tester::limits(const Probe& probe, const std::vector<protection::Held>& past,
                    InjectedPoint& point) const {
  double low = point.expected, high = point.expected;
  for (const double way : {-1, 1}) {
    const double off = tolerance_of_value(probe, point.value, options_.value_tolerance);
    const double t = expected_behind(past, probe.at(point.value + way * off)).time_s;
    low = std::min(low, t);
    high = std::max(high, t);
  }
  point.low = std::isfinite(low) ? std::max(0.0, low - tolerance_.of(low)) : never_s;
  point.high = std::isfinite(high) ? high + tolerance_.of(high) + probe.measuring_s : never_s;
}

bool Tester::starts_alone(const FunctionSettings& function, const Probe& probe) const {
  protection::Relay relay(approved_, 80 * options_.frequency_Hz, options_.frequency_Hz,
                          static_cast<int>(probe.before.measured.ends.size()));
  const double beyond = 1 - (probe.operates_above ? 1 : -1) * options_.value_tolerance;
  for (int k = 0; k < 100; ++k) relay.decide(probe.before.measured, 5e-3);
  const Stimulus just = probe.at(value_at(function, probe, beyond, options_.frequency_Hz));
  for (int k = 0; k < 20; ++k) relay.decide(just.measured, 1e-3);
  return !relay.start();
}

void Tester::pickup(const FunctionSettings& function, const Probe& probe) {
  if (!report_.failure.empty() || std::holds_alternative<protection::Thermal>(function) ||
      std::holds_alternative<protection::MotorStart>(function) || probe.unit == "Hz/s")
    return;
  const std::string own = start_output(function);
  if (!own.empty()) {
    injector_.watch_as_start(own);
    ramp(function, probe, own);
    injector_.watch_as_start("start");
  } else if (starts_alone(function, probe)) {
    ramp(function, probe, "start");
  } else {
    search(function, probe);
    report_.warnings.push_back(
        fmt::format("{0}: others start before it, so its drop-off is not tried; let the relay send {0}.start",
                    probe.function));
  }
}

void Tester::add_value(const Probe& probe, const char* test, double wanted, double measured, double tolerance,
                       const std::string& unit, double uncertain) {
  InjectedPoint point;
  point.function = probe.function;
  point.test = test;
  point.quantity = probe.quantity;
  point.value = wanted;
  point.by = probe.function;
  point.expected = wanted;
  point.low = unit == "s" ? std::max(0.0, wanted - tolerance) : wanted - tolerance;
  point.high = wanted + tolerance;
  point.measured = measured;
  point.unit = unit;
  point.uncertain = unit == "s" ? uncertain_s() : uncertain;
  point.passed = std::isfinite(measured) && measured >= point.low && measured <= point.high;
  report_.points.push_back(std::move(point));
}

std::string Tester::start_output(const FunctionSettings& function) const {
  const std::string wanted = protection::base_of(function).name + ".start";
  for (const auto* output : approved_.all<protection::Output>()) {
    if (output->when == wanted && output->name != "start" && output->name != "trip") return output->name;
  }
  return {};
}

void Tester::ramp(const FunctionSettings& function, const Probe& probe, const std::string& output) {
  if (!settle(probe)) return;
  const double way = probe.operates_above ? 1 : -1;
  const auto value = [&](double multiple) {
    return value_at(function, probe, multiple, options_.frequency_Hz);
  };
  const double hold = ramp_hold_s + (probe.measuring_s > 0.05 ? 2 * probe.measuring_s : 0);
  // Frequencies in steps of 5 mHz, however far from nominal.
  const double scale = probe.unit == "Hz" ? 1 / deviation_Hz(probe, options_.frequency_Hz) : 1;
  const double step = probe.unit == "Hz" ? ramp_Hz * scale : ramp_share, width = search_width * scale;
  double up = 1 - way * width;
  for (; way * (up - 1) < width; up += way * step) {
    if (injector_.inject(probe.at(value(up)), hold, Injector::Until::start).start_s || injector_.start())
      break;
  }
  const double started = injector_.start() ? value(up) : never_s;
  double down = up;
  const double lowest = way > 0 ? 0.4 : 2.2;
  for (; injector_.start() && way * (down - lowest) > 0; down -= way * step)
    (void)injector_.inject(probe.at(value(down)), hold, Injector::Until::quiet);
  const double tolerance = (options_.value_tolerance + ramp_share) * std::abs(probe.threshold);
  const double of_Hz = probe.unit == "Hz" ? 0.02 : tolerance;
  const double of_step = probe.unit == "Hz" ? ramp_Hz : ramp_share * std::abs(probe.threshold);
  add_value(probe, "pickup", probe.threshold, started, of_Hz, probe.unit, of_step);
  const bool picked_up = report_.points.back().passed;
  const auto just_before = [&](double place, double by) { return probe.at(value(place - way * by)); };
  if (way * (up - 1) > -width + step)
    note_start(probe, output, {just_before(up, 2 * step)}, false, picked_up);
  if (std::isfinite(started)) note_start(probe, output, {just_before(up, -step)}, true, picked_up);
  if (!std::isfinite(started)) return;
  const double fell = injector_.start() ? never_s : value(down);
  const double wanted = probe.threshold * probe.drop_off;
  add_value(probe, "drop-off", wanted, fell, probe.unit == "Hz" ? 0.02 : tolerance, probe.unit, of_step);
  const bool fell_well = report_.points.back().passed;
  if (std::isfinite(fell)) {
    const Stimulus above = just_before(up, -4 * step);
    note_start(probe, output, {above, just_before(down, -2 * step)}, true, fell_well);
    note_start(probe, output, {above, just_before(down, step)}, false, fell_well);
  }
  if (probe.unit != "Hz") add_value(probe, "reset ratio", probe.drop_off, fell / started, 0.02, "");
  if (!settle(probe)) return;
  (void)injector_.inject(probe.at(value(1 + way * 0.2)), 0.3, Injector::Until::end);
  const bool held = injector_.start();
  const auto fall = injector_.inject(probe.before, 0.5);
  if (held)
    add_value(probe, "reset time", 0.02, fall.start_fell_s.value_or(never_s), 0.03 + probe.measuring_s, "s");
}

bool Tester::trips_in_time(const Probe& probe, const Stimulus& during, double within_s) {
  if (!rest(probe, during)) return false;
  tried_.push_back({injector_.past(), during, {}});
  tried_.back().trip_s = injector_.inject(during, within_s, Injector::Until::trip).trip_s;
  tried_.back().watched_s = within_s;
  return tried_.back().trip_s.has_value();
}

void Tester::note_tried(const Probe& probe, bool passed) {
  for (const Tried& one : tried_) note_trip(one.past, one.during, probe, one.trip_s, one.watched_s, passed);
  tried_.clear();
}

void Tester::search(const FunctionSettings& function, const Probe& probe) {
  const double way = probe.operates_above ? 1 : -1;
  const auto at = [&](double multiple) {
    return probe.at(value_at(function, probe, multiple, options_.frequency_Hz));
  };
  const double inside = 1 + way * search_width, outside = 1 - way * search_width;
  const ExpectedOperation with = expected(probe, at(inside), options_.longest_s);
  const ExpectedOperation without = expected(probe, at(outside), options_.longest_s);
  const double within = with.time_s + tolerance_.of(with.time_s) + probe.measuring_s;
  // A time of its own is what shows it; an inverse one near pickup has none.
  if (with.stage != probe.function || !(within < 0.8 * without.time_s) || inverse(function)) return;
  double low = outside, high = inside;
  tried_.clear();
  if (!trips_in_time(probe, at(high), within)) {
    add_value(probe, "pickup", probe.threshold, never_s, options_.value_tolerance * probe.threshold,
              probe.unit);
    note_tried(probe, false);
    return;
  }
  for (int k = 0; k < search_steps && report_.failure.empty(); ++k) {
    const double middle = (low + high) / 2;
    (trips_in_time(probe, at(middle), within) ? high : low) = middle;
  }
  add_value(probe, "pickup", probe.threshold,
            value_at(function, probe, (low + high) / 2, options_.frequency_Hz),
            (options_.value_tolerance + search_width / (1 << search_steps)) * probe.threshold, probe.unit,
            search_width / (1 << search_steps) * probe.threshold);
  note_tried(probe, report_.points.back().passed);
}

}  // namespace zavrek::trial::internal
