#include "zavrek/trial/injection.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <future>
#include <numbers>

#include <fmt/format.h>

#include "trial/injection/constants.hpp"
#include "trial/injection/injector.hpp"
#include "trial/injection/values.hpp"
#include "trial/judge/time_tolerance.hpp"
#include "zavrek/trial/injection_plan.hpp"

namespace zavrek::trial {

using namespace internal;
using protection::ExpectedOperation;
using protection::FunctionSettings;
using protection::Phasor;
using protection::RelaySettings;

namespace {

constexpr double prefault_s = 0.3;
constexpr double longest_reset_s = 5;
constexpr double ramp_share = 0.0025;  // of the threshold, in a step of a ramp
constexpr double ramp_Hz = 5e-3;
constexpr double remembered_share = 0.1;  // of a tolerance, which is no more than nothing
constexpr double least_rest_s = 0.1;
constexpr double ramp_hold_s = 0.06;   // of each step
constexpr double search_width = 0.12;  // of the threshold, either side, in which a pickup is looked for
constexpr int outline_rays = 90;       // at which a set boundary is drawn
constexpr int search_steps = 7;        // halvings of a search along a ray
constexpr double timer_share = 0.01;   // of a delay, from start to trip
constexpr double timer_here_s = 2e-3, timer_elsewhere_s = 10e-3;

class Tester {
 public:
  Tester(const RelaySettings& settings, const RelaySettings& approved, const std::filesystem::path& file,
         const InjectionOptions& options, std::size_t places)
      : approved_(approved),
        options_(options),
        places_(places),
        injector_(settings, file, options, places),
        tolerance_(internal::time_tolerance(options.tolerance)) {
    report_.settings = approved;
    report_.medium = injector_.medium();
    report_.failure = injector_.failure();
  }

  InjectionReport run() {
    options_.plan ? follow_plan() : follow_settings();
    report_.injected_s = injector_.injected_s();
    injector_.end();
    report_.accounts = injector_.accounts();
    report_.kept = injector_.kept();
    report_.step_s = injector_.step_s();
    return std::move(report_);
  }

 private:
  void follow_plan() {
    for (const InjectedValue& value : options_.plan->values) {
      if (!report_.failure.empty()) return;
      for (const FunctionSettings& function : approved_.functions) {
        if (protection::base_of(function).name != value.function) continue;
        const auto probe = probe_of(approved_, function, options_.frequency_Hz);
        if (!probe) {
          report_.warnings.push_back(value.function +
                                     ": no steady quantity tests it; write a sequence for it");
          continue;
        }
        time(function, *probe, parse_quantity_as(value.value, probe->unit));
      }
    }
    internal::inject_sequences(*options_.plan, approved_, options_, places_, injector_, report_);
  }

  void follow_settings() {
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
    }
  }

  [[nodiscard]] ExpectedOperation expected(const Probe& probe, const Stimulus& during, double limit_s) const {
    return protection::expected_operation(approved_, probe.before.measured, during.measured, limit_s);
  }

  /// What should happen with all that the device may still remember.
  [[nodiscard]] ExpectedOperation expected_behind(const std::vector<protection::Held>& past,
                                                  const Stimulus& during) const {
    return protection::expected_operation(approved_, past, during.measured, options_.longest_s);
  }

  /// Reckons while the device goes on seeing what stood before a fault: one elsewhere takes a gap in its
  /// samples for a fault of its own.
  template <class Reckon>
  auto beside(const Probe& probe, Reckon&& reckon) {
    if (!injector_.elsewhere()) return reckon();
    auto answer = std::async(std::launch::async, std::forward<Reckon>(reckon));
    while (injector_.failure().empty() &&
           answer.wait_for(std::chrono::seconds(0)) != std::future_status::ready)
      (void)injector_.inject(probe.before, 0.05);
    return answer.get();
  }

  /// Waits until the device's outputs are at rest again; what is held at the terminals are the values before
  /// a fault.
  bool settle(const Probe& probe) {
    const bool forgets = injector_.forget();
    if (!forgets) (void)injector_.inject(probe.before, longest_reset_s, Injector::Until::quiet);
    (void)injector_.inject(probe.before, prefault_s);
    if (forgets) injector_.rested(probe.before);
    if (!injector_.failure().empty()) report_.failure = injector_.failure();
    return report_.failure.empty();
  }

  /// How long it must rest until nothing that it remembers of `past` (heat, a disk on its way back) changes
  /// what it does with `during`, by its settings; infinite when longer than is waited.
  [[nodiscard]] double rest_needed(const Probe& probe, const Stimulus& tested,
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

  bool rest(const Probe& probe, const Stimulus& during) {
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

  void test(const FunctionSettings& function, const Probe& probe) {
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
    pickup(function, probe);
    restraint(function, probe);
    if (const auto* zone = std::get_if<protection::Zone>(&function)) boundaries(*zone, probe);
    if (const auto* differential = std::get_if<protection::Differential>(&function))
      boundary(*differential, probe);
  }

  /// A harmonic that shall hold the function back: a little less than its share, and a little more.
  void restraint(const FunctionSettings& function, const Probe& probe) {
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
        mixed.quantity =
            fmt::format("{:.3g} % of order {} in {}", 100 * factor * share, order, probe.quantity);
        mixed.at = [=, at = probe.at](double value) {
          return at(value).with_harmonics(order == 2 ? factor * share : 0, order == 5 ? factor * share : 0);
        };
        time(function, mixed, 1.5 * probe.threshold);
      }
    }
  }

  /// The share of a harmonic at which a differential function is free: it is held by twice as much while the
  /// current rises, then the harmonic falls. (A current that steps holds it back for a window by itself.)
  void release(const protection::Differential& function, const Probe& probe, int order, double share) {
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

  void time(const FunctionSettings& function, const Probe& probe, double value) {
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
    // Near pickup an inverse time says nothing; that it operates at all is still wanted.
    const double multiple = probe.threshold > 0 ? value / probe.threshold : 1;
    point.judged =
        !inverse(function) || !std::isfinite(point.expected) || multiple >= options_.accurate_above;
    // What would take longer than is waited is no proof that it does not operate.
    const bool beyond = probe.operates_above ? multiple > 1 : multiple < 1;
    if (beyond && !std::isfinite(point.expected) && slower_than_waited(function, probe, value))
      point.judged = false;
    if (!point.judged) point.passed = true;
    if (!injector_.failure().empty()) report_.failure = injector_.failure();
    const bool its_own = point.by == probe.function && seen.start_s && seen.trip_s;
    report_.points.push_back(std::move(point));
    if (its_own) timer(function, probe, during, *seen.trip_s - *seen.start_s);
  }

  [[nodiscard]] bool slower_than_waited(const FunctionSettings& function, const Probe& probe,
                                        double value) const {
    if (const auto* stage = std::get_if<protection::Stage>(&function))
      return std::isfinite(stage->operate_time_s(value)) && stage->operate_time_s(value) > options_.longest_s;
    if (const auto* voltage = std::get_if<protection::VoltageStage>(&function))
      return std::isfinite(voltage->operate_time_s(value)) &&
             voltage->operate_time_s(value) > options_.longest_s;
    return std::holds_alternative<protection::Thermal>(function) && value > probe.threshold;
  }

  /// From start to trip: the delay as it is set, without what measuring takes. Only where no other function
  /// starts, before it or with it.
  void timer(const FunctionSettings& function, const Probe& probe, const Stimulus& during,
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
    const double tolerance = std::max(
        timer_share * delay_s, (injector_.elsewhere() ? timer_elsewhere_s : timer_here_s) + decision_s);
    add_value(probe, "timer", delay_s, measured_s, tolerance, "s");
  }

  /// The band of times: from what is expected a tolerance of the value either side, wider by that of the
  /// time.
  void limits(const Probe& probe, const std::vector<protection::Held>& past, InjectedPoint& point) const {
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

  [[nodiscard]] double longest_definite() const {
    double longest = 0;
    for (const FunctionSettings& function : approved_.functions) {
      const double delay_s = definite_delay(function);
      if (network::is_set(delay_s)) longest = std::max(longest, delay_s);
    }
    return longest;
  }

  /// Whether `name` alone starts at a value, so that the relay's start shows its pickup.
  [[nodiscard]] bool starts_alone(const FunctionSettings& function, const Probe& probe) const {
    protection::Relay relay(approved_, 80 * options_.frequency_Hz, options_.frequency_Hz,
                            static_cast<int>(probe.before.measured.ends.size()));
    const double beyond = 1 - (probe.operates_above ? 1 : -1) * options_.value_tolerance;
    for (int k = 0; k < 100; ++k) relay.decide(probe.before.measured, 5e-3);
    const Stimulus just = probe.at(value_at(function, probe, beyond, options_.frequency_Hz));
    for (int k = 0; k < 20; ++k) relay.decide(just.measured, 1e-3);
    return !relay.start();
  }

  /// Pickup and drop-off: on the start contact by a ramp where no other function starts before; else on the
  /// trip contact, by search for the value from which on it trips in this function's time.
  void pickup(const FunctionSettings& function, const Probe& probe) {
    if (!report_.failure.empty() || std::holds_alternative<protection::Thermal>(function) ||
        probe.unit == "Hz/s")
      return;
    if (starts_alone(function, probe)) {
      ramp(function, probe);
    } else {
      search(function, probe);
    }
  }

  void add_value(const Probe& probe, const char* test, double wanted, double measured, double tolerance,
                 const std::string& unit) {
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
    point.passed = std::isfinite(measured) && measured >= point.low && measured <= point.high;
    report_.points.push_back(std::move(point));
  }

  void ramp(const FunctionSettings& function, const Probe& probe) {
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
    add_value(probe, "pickup", probe.threshold, started, of_Hz, probe.unit);
    if (!std::isfinite(started)) return;
    const double fell = injector_.start() ? never_s : value(down);
    const double wanted = probe.threshold * probe.drop_off;
    add_value(probe, "drop-off", wanted, fell, probe.unit == "Hz" ? 0.02 : tolerance, probe.unit);
    if (probe.unit != "Hz") add_value(probe, "reset ratio", probe.drop_off, fell / started, 0.02, "");
    if (!settle(probe)) return;
    (void)injector_.inject(probe.at(value(1 + way * 0.2)), 0.3, Injector::Until::end);
    const bool held = injector_.start();
    const auto fall = injector_.inject(probe.before, 0.5);
    if (held)
      add_value(probe, "reset time", 0.02, fall.start_fell_s.value_or(never_s), 0.03 + probe.measuring_s,
                "s");
  }

  /// Whether the device trips no later than this function should.
  bool trips_in_time(const Probe& probe, const Stimulus& during, double within_s) {
    if (!rest(probe, during)) return false;
    return injector_.inject(during, within_s, Injector::Until::trip).trip_s.has_value();
  }

  void search(const FunctionSettings& function, const Probe& probe) {
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
    if (!trips_in_time(probe, at(high), within)) {
      add_value(probe, "pickup", probe.threshold, never_s, options_.value_tolerance * probe.threshold,
                probe.unit);
      return;
    }
    for (int k = 0; k < search_steps && report_.failure.empty(); ++k) {
      const double middle = (low + high) / 2;
      (trips_in_time(probe, at(middle), within) ? high : low) = middle;
    }
    add_value(probe, "pickup", probe.threshold,
              value_at(function, probe, (low + high) / 2, options_.frequency_Hz),
              (options_.value_tolerance + search_width / (1 << search_steps)) * probe.threshold, probe.unit);
  }

  /// Radius along a ray at which something stops; `inside(r)` holds near the origin.
  template <class Inside>
  static double edge(double low, double high, int steps, Inside&& inside) {
    for (int k = 0; k < steps; ++k) {
      const double middle = (low + high) / 2;
      (inside(middle) ? low : high) = middle;
    }
    return (low + high) / 2;
  }

  void boundaries(const protection::Zone& zone, const Probe& probe) {
    for (const bool earth : {true, false}) {
      if (zone.loops == (earth ? "phase" : "earth")) continue;
      Boundary found;
      found.function = zone.name;
      found.plane = earth ? "A-E" : "B-C";
      const double way = zone.direction == "reverse" ? -1 : 1;
      const Phasor centre = way * std::polar(0.5 * zone.reach_ohm, zone.angle_rad);
      const double farthest =
          3 * zone.reach_ohm +
          3 * (network::is_set(zone.resistive_reach_ohm)
                   ? std::max(zone.resistive_reach_ohm, network::is_set(zone.earth_resistive_reach_ohm)
                                                            ? zone.earth_resistive_reach_ohm
                                                            : 0)
                   : 0);
      const auto at = [&](const Phasor& z) {
        return impedance_stimulus(approved_, zone, earth, z, options_.frequency_Hz);
      };
      const double within = zone.delay_s + tolerance_.of(zone.delay_s) + probe.measuring_s;
      const auto should = [&](const Phasor& z) {
        return expected(probe, at(z), within + 0.05).time_s <= zone.delay_s + zone.confirm_s + 2e-3;
      };
      if (!should(centre)) continue;
      if (!trips_in_time(probe, at(centre), within)) {
        report_.warnings.push_back(fmt::format("{}: does not operate in the middle of its {} characteristic",
                                               zone.name, found.plane));
        found.worst = never_s;
        report_.boundaries.push_back(std::move(found));
        continue;
      }
      for (int r = 0; r <= outline_rays; ++r) {
        const Phasor ray = std::polar(1.0, 2 * std::numbers::pi * r / outline_rays);
        found.outline.push_back(
            centre + ray * edge(0, farthest, 10, [&](double x) { return should(centre + x * ray); }));
      }
      for (int r = 0; r < options_.rays && report_.failure.empty(); ++r) {
        const Phasor ray = std::polar(1.0, 2 * std::numbers::pi * r / options_.rays + 0.01);
        const double wanted = edge(0, farthest, 14, [&](double x) { return should(centre + x * ray); });
        const double tolerance = 2.5 * options_.value_tolerance * std::max(wanted, 0.2 * zone.reach_ohm);
        // Only near where it should be: each try costs the device's time.
        double low = std::max(0.0, wanted - 6 * tolerance), high = wanted + 6 * tolerance;
        Boundary::Ray& one = found.rays.emplace_back();
        one.expected = centre + wanted * ray;
        one.low = centre + (wanted - tolerance) * ray;
        one.high = centre + (wanted + tolerance) * ray;
        const auto trips = [&](double x) { return trips_in_time(probe, at(centre + x * ray), within); };
        one.found = trips(low) && !trips(high);
        const double measured = one.found ? edge(low, high, search_steps, trips) : never_s;
        one.measured = one.found ? centre + measured * ray : Phasor{};
        const double off = one.found ? std::abs(measured - wanted) / tolerance : never_s;
        one.passed = off <= 1;
        found.worst = std::max(found.worst, off);
      }
      report_.boundaries.push_back(std::move(found));
    }
  }

  void boundary(const protection::Differential& function, const Probe& probe) {
    Boundary found;
    found.function = function.name;
    found.plane = "differential";
    const double within = function.delay_s + tolerance_.time_s + probe.measuring_s;
    for (int r = 0; r < options_.rays / 2 && report_.failure.empty(); ++r) {
      const double restraint = 0.15 + (1.8 * function.knee + 0.5) * r / (options_.rays / 2.0);
      const double wanted = function.threshold(restraint);
      if (wanted > 2 * restraint) continue;  // more than one place can feed
      const double tolerance = 2.5 * options_.value_tolerance * wanted;
      const double low = wanted - 5 * tolerance, high = std::min(wanted + 5 * tolerance, 2 * restraint);
      Boundary::Ray& one = found.rays.emplace_back();
      one.expected = {restraint, wanted};
      one.low = {restraint, wanted - tolerance};
      one.high = {restraint, wanted + tolerance};
      // From the restraint alone upwards: a step from nothing passes through every ratio while windows fill.
      const auto trips = [&](double d) {
        const auto at = [&](double x) {
          return differential_stimulus(approved_, function, x, restraint, options_.frequency_Hz);
        };
        if (!rest(probe, at(d))) return false;
        (void)injector_.inject(at(0), 0.15);
        return injector_.inject(at(d), within, Injector::Until::trip).trip_s.has_value();
      };
      one.found = trips(high) && !trips(low);
      const double measured =
          one.found ? edge(low, high, search_steps, [&](double d) { return !trips(d); }) : never_s;
      one.measured = one.found ? Phasor{restraint, measured} : Phasor{};
      const double off = one.found ? std::abs(measured - wanted) / tolerance : never_s;
      one.passed = off <= 1;
      found.worst = std::max(found.worst, off);
    }
    report_.boundaries.push_back(std::move(found));
  }

  [[nodiscard]] static std::string show(double value, const std::string& unit) {
    return unit.empty() ? fmt::format("{:.4g}", value) : print_rounded(value, unit, 4);
  }

  const RelaySettings& approved_;
  const InjectionOptions& options_;
  std::size_t places_;
  Injector injector_;
  InjectionReport report_;
  internal::TimeTolerance tolerance_;
  bool told_of_memory_ = false;
};

}  // namespace

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
