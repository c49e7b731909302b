#include "trial/judge/judge.hpp"

#include "bench/names.hpp"

#include "trial/judge/seen.hpp"
#include "trial/judge/time_tolerance.hpp"
#include "trial/recalculation/recalculation.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <limits>
#include <numbers>

#include <fmt/format.h>

#include "zavrek/record/measure.hpp"

namespace zavrek::trial::internal {
namespace {

constexpr double same_level = 0.2;     // of a voltage: no transformer lies between
constexpr double least_change = 0.01;  // of the largest value, from cycle to cycle: something happened
constexpr double least_held_s = 1e-3;
constexpr double longest_held_s = 30;  // of a fault that ends before anything trips

std::string show(double time_s) { return fmt::format("{:.3f} s", time_s); }
std::string show_ms(double time_s) { return fmt::format("{:+.1f} ms", 1e3 * time_s); }

void set_margin(Verdict& verdict, double left_s) {
  verdict.margin = show_ms(left_s);
  verdict.spare = left_s;
}

double tolerance_of(const Expectation& e, double expected_s) {
  return time_tolerance(e.tolerance).of(expected_s);
}

/// What should happen by the settings: at the currents as they were, and the earliest and latest with
/// currents that much wrong.
struct Expected {
  protection::ExpectedOperation nominal;
  double earliest_s, latest_s;
};
Expected from_settings(const Device& device, const protection::RecordedInputs& seen, double value_tolerance) {
  std::vector<double> factors{1};
  if (value_tolerance > 0) factors.insert(factors.end(), {1 - value_tolerance, 1 + value_tolerance});
  const auto found = protection::expected_operations(device.approved_relay, seen, factors);
  const auto [earliest, latest] = std::minmax_element(
      found.begin(), found.end(), [](const auto& a, const auto& b) { return a.time_s < b.time_s; });
  return {found.front(), earliest->time_s, latest->time_s};
}

void judge_time(const Expectation& e, double expected_s, std::optional<double> measured_s, Verdict& verdict) {
  const double tolerance = tolerance_of(e, expected_s);
  verdict.expected = fmt::format("{} +/- {:.0f} ms", show(expected_s), 1e3 * tolerance);
  if (!measured_s) return;
  const double left = tolerance - std::abs(*measured_s - expected_s);
  set_margin(verdict, left);
  verdict.passed = left >= 0;
  verdict.left = left / tolerance;
}

void judge_from_settings(const Expectation& e, const Expected& expected, std::optional<double> measured_s,
                         Verdict& verdict) {
  const double nominal = expected.nominal.time_s;
  const bool may_rest = !std::isfinite(expected.latest_s);
  if (!std::isfinite(expected.earliest_s)) {
    verdict.expected = "never, by its settings";
    verdict.passed = !measured_s;
    return;
  }
  if (!may_rest && expected.earliest_s == expected.latest_s) {
    judge_time(e, nominal, measured_s, verdict);
    verdict.expected += fmt::format(" ({})", expected.nominal.stage);
    return;
  }
  const double early = std::max(0.0, expected.earliest_s - tolerance_of(e, expected.earliest_s));
  const double latest = may_rest ? INFINITY : expected.latest_s;
  const double late = may_rest ? INFINITY : latest + tolerance_of(e, latest);
  const std::string by = expected.nominal.stage.empty() ? "at the edge" : expected.nominal.stage;
  verdict.expected = may_rest ? fmt::format("{} or later, or never ({})", show(early), by)
                              : fmt::format("{} to {} ({})", show(early), show(late), by);
  if (!measured_s) {
    verdict.passed = may_rest;
    return;
  }
  const double left = std::min(*measured_s - early, late - *measured_s);
  set_margin(verdict, left);
  verdict.passed = left >= 0;
  if (!may_rest) verdict.left = 2 * left / (late - early);
}

/// Phases of the trial's faults where a device sees them as they are: at the voltage that it measures. Empty
/// where it does not, or there is none.
std::vector<FaultedPhases> faulted_phases(const Outcome& o, const Device& device) {
  const network::Network& network = o.all.network;
  const auto level_of = [&](const std::string& on) {
    const network::Element* element = network.find_element(on);
    const auto* line = element ? std::get_if<network::Line>(element) : nullptr;
    const auto* cable = element ? std::get_if<network::Cable>(element) : nullptr;
    const network::Bus* bus = network.find_bus(line    ? line->between.front()
                                               : cable ? cable->between.front()
                                                       : on);
    return bus ? bus->voltage_V : 0;
  };
  const Stream* stream = o.all.bench.find_stream(device.reads.front());
  const network::Element* vt = stream ? network.find_element(stream->vt) : nullptr;
  const auto* measures = vt ? std::get_if<network::VoltageTransformer>(vt) : nullptr;
  if (!o.trial.fault || !measures) return {};
  const double level_V = level_of(measures->bus);
  std::vector<FaultedPhases> all;
  const auto add = [&](const Disturbance& one, double from_s) {
    if (!one.fault.with.empty()) return false;  // what another circuit adds is not said by its phases
    const std::string& on = one.fault.on.empty() ? o.trial.fault->fault.on : one.fault.on;
    all.push_back({from_s, one.fault.phases});
    return std::abs(level_of(on) / level_V - 1) < same_level;
  };
  bool seen = add(*o.trial.fault, 0);
  for (const Disturbance& one : o.trial.evolves) seen = add(one, one.after_s) && seen;
  return seen ? all : std::vector<FaultedPhases>{};
}

/// Where what was reckoned a second time from the settings is something else.
std::string doubt(const Expectation& e, const Outcome& o, const Device& device,
                  const protection::RecordedInputs& seen, const Expected& expected) {
  const Recalculation again = recalculate(device.approved_relay, seen, faulted_phases(o, device));
  const protection::ExpectedOperation& nominal = expected.nominal;
  if (!again.covers(nominal.stage)) return {};
  const bool same = std::isfinite(again.time_s)
                        ? again.time_s >= expected.earliest_s - tolerance_of(e, expected.earliest_s) &&
                              again.time_s <= expected.latest_s + tolerance_of(e, again.time_s)
                        : !std::isfinite(expected.latest_s);
  if (same) return {};
  const auto words = [](double time_s, const std::string& by) {
    return std::isfinite(time_s) ? fmt::format("{} ({})", show(time_s), by) : std::string("never");
  };
  return fmt::format("reckoned a second time, apart from the relay's functions: {}, not {}",
                     words(again.time_s, again.function), words(nominal.time_s, nominal.stage));
}

/// What feeds the inputs of a condition that were on until then; empty where none was.
std::string holders(const std::string& condition, const Device& device,
                    const protection::RecordedInputs& seen, double until_s) {
  std::string found;
  for (const std::string& text : device.inputs) {
    const auto [name, source] = bench::internal::split_pair(text);
    const std::string input = "input." + name;
    const std::size_t at = condition.find(input);
    if (at == std::string::npos ||
        (at + input.size() < condition.size() &&
         std::isalnum(static_cast<unsigned char>(condition[at + input.size()])) != 0))
      continue;
    bool on = false;
    for (const auto& change : seen.inputs) {
      if (change.input == name && change.time_s <= until_s) on = on || change.on;
    }
    if (on) found += (found.empty() ? "" : ", ") + source;
  }
  return found;
}

/// The trips that somebody else, by a condition of the settings, keeps from coming first: "busbar would trip
/// after 0.1 s, and R1.start holds it back". Empty where there are none.
std::string held_back(const Device& device, const protection::RecordedInputs& seen, double time_s) {
  std::string words;
  for (std::size_t k = 0; k < device.approved_relay.functions.size(); ++k) {
    const protection::FunctionBase& base = protection::base_of(device.approved_relay.functions[k]);
    if (!base.trips || holders(base.blocked_by, device, seen, INFINITY).empty()) continue;
    protection::RelaySettings free = device.approved_relay;
    std::visit([](auto& function) { function.blocked_by.clear(); }, free.functions[k]);
    const auto otherwise = protection::expected_operation(free, seen);
    if (!(otherwise.time_s < time_s - least_held_s) || otherwise.stage != base.name) continue;
    words +=
        fmt::format("{}{} would trip after {}, and {} holds it back", words.empty() ? "" : "; ", base.name,
                    show(otherwise.time_s), holders(base.blocked_by, device, seen, otherwise.time_s));
  }
  return words;
}

/// Whether anything that a device measures changed by more than a hundredth of its largest value.
bool anything_reached(const Device& device, const Outcome& o) {
  const auto cycle = static_cast<std::size_t>(std::lround(o.record.rate_Hz / o.record.frequency_Hz));
  const auto from = static_cast<std::size_t>(o.inception_s * o.record.rate_Hz);
  for (const std::string& name : device.reads) {
    const bench::Bench::Stems stems = o.all.bench.stems_of(name);
    for (const std::string& of : {stems.current, stems.voltage}) {
      for (const char phase : {'a', 'b', 'c'}) {
        const record::Analog* analog = o.record.find_analog(of + phase);
        if (!analog) continue;
        const std::vector<double>& x = analog->samples;
        double largest = 0, change = 0;
        for (std::size_t k = std::max(from, cycle); k < x.size(); ++k) {
          largest = std::max(largest, std::abs(x[k]));
          change = std::max(change, std::abs(x[k] - x[k - cycle]));
        }
        if (change > least_change * largest) return true;
      }
    }
  }
  return false;
}

/// Why it proves little that a device did not trip; empty where it proves what it should.
std::string hollow(const Outcome& o, const Device& device) {
  if (o.evidence.first(device.name + ".start", true, 0)) return {};
  if (!o.trial.fault || anything_reached(device, o)) return {};
  return fmt::format("nothing of the fault reached {}: it proves nothing that it did not trip", device.name);
}

/// That a device would trip if only the fault lasted; empty where it would not.
std::string only_for_its_end(const Outcome& o, const Device& device) {
  if (!o.trial.fault || o.lasts_until_s >= o.ended_s) return {};
  protection::RecordedInputs seen = seen_by(device, o, o.lasts_until_s);
  seen.hold_s = longest_held_s;
  const auto longer = protection::expected_operation(device.approved_relay, seen);
  if (!std::isfinite(longer.time_s)) return {};
  return fmt::format("only because the fault ends after {}: it would trip after {} ({})",
                     show(o.lasts_until_s - o.inception_s), show(longer.time_s), longer.stage);
}

void judge_output(const Expectation& e, const Outcome& o, Verdict& verdict) {
  const auto rise = o.evidence.first(e.device + "." + e.output, true, 0);
  std::optional<double> measured;
  if (rise) measured = *rise - o.inception_s;
  verdict.expectation = e.device + " " + e.output;
  verdict.measured = measured ? show(*measured) : "none";
  if (measured) verdict.value = *measured;

  if (e.never) {
    verdict.expected = "never";
    verdict.passed = !rise;
    if (const Device* device = o.all.bench.find_device(e.device)) {
      verdict.doubt = hollow(o, *device);
      if (e.output == "trip" && verdict.doubt.empty())
        verdict.held_back =
            held_back(*device, seen_by(*device, o, undisturbed_until(*device, o, rise)), INFINITY);
    }
  } else if (e.times > 0) {
    const int rises = o.evidence.rises(e.device + "." + e.output);
    verdict.expected = fmt::format("{} time{}", e.times, e.times == 1 ? "" : "s");
    verdict.measured = fmt::format("{} time{}", rises, rises == 1 ? "" : "s");
    verdict.passed = rises == e.times;
  } else if (!e.before.empty()) {
    const auto other = o.evidence.first(e.before, true, 0);
    verdict.expected =
        "before " + e.before + (other ? " at " + show(*other - o.inception_s) : ", which never comes");
    verdict.passed = rise && (!other || *rise < *other);
    if (rise && other) set_margin(verdict, *other - *rise);
  } else if (!e.window.empty()) {
    const double early = parse_quantity_as(e.window[0], "s");
    const double late = parse_quantity_as(e.window[1], "s");
    verdict.expected = fmt::format("{} to {}", show(early), show(late));
    if (!measured) return;
    const double left = std::min(*measured - early, late - *measured);
    set_margin(verdict, left);
    verdict.passed = left >= 0;
    verdict.left = 2 * left / (late - early);
  } else if (e.time == "from settings") {
    const Device* device = o.all.bench.find_device(e.device);
    const auto seen = seen_by(*device, o, undisturbed_until(*device, o, rise));
    const Expected expected = from_settings(*device, seen, e.value_tolerance);
    judge_from_settings(e, expected, measured, verdict);
    if (e.output != "trip") return;
    verdict.held_back = held_back(*device, seen, expected.nominal.time_s);
    verdict.doubt = doubt(e, o, *device, seen, expected);
    const bool rests = verdict.doubt.empty() && !std::isfinite(expected.nominal.time_s);
    if (rests) verdict.doubt = hollow(o, *device);
    if (rests && verdict.doubt.empty()) verdict.doubt = only_for_its_end(o, *device);
  } else {
    judge_time(e, parse_quantity_as(e.time, "s"), measured, verdict);
  }
}

/// Closed again after it was open.
void judge_closing(const Expectation& e, const Outcome& o, Verdict& verdict) {
  const double early = parse_quantity_as(e.closes_between[0], "s");
  const double late = parse_quantity_as(e.closes_between[1], "s");
  const auto opened = o.evidence.first(e.breaker, false, 0);
  const double never = std::numeric_limits<double>::quiet_NaN();
  const double closed = opened ? o.evidence.first(e.breaker, true, *opened).value_or(never) : never;
  verdict.expectation = e.breaker + " closed again";
  verdict.expected = fmt::format("{} to {}", show(early), show(late));
  verdict.measured = std::isnan(closed) ? "none" : show(closed - o.inception_s);
  if (std::isnan(closed)) return;
  verdict.value = closed - o.inception_s;
  const double left = std::min(verdict.value - early, late - verdict.value);
  set_margin(verdict, left);
  verdict.passed = left >= 0;
  verdict.left = 2 * left / (late - early);
}

void judge_breaker(const Expectation& e, const Outcome& o, Verdict& verdict) {
  if (!e.closes_between.empty()) return judge_closing(e, o, verdict);
  const auto opened = o.evidence.first(e.breaker, false, 0);
  verdict.expectation = e.breaker + " open";
  verdict.expected = "before " + show(e.open_before_s);
  verdict.measured = opened ? show(*opened - o.inception_s) : "none";
  if (!opened) return;
  const double left = e.open_before_s - (*opened - o.inception_s);
  set_margin(verdict, left);
  verdict.passed = left >= 0;
  verdict.value = *opened - o.inception_s;
  verdict.left = left / e.open_before_s;
}

/// A number without unit: 0.592, 4.3e-6, 636.4e3.
std::string show_number(double value) {
  const double size = std::abs(value);
  if (size == 0 || (size >= 1e-3 && size < 1e4)) return fmt::format("{:.4g}", value);
  const int thousands = static_cast<int>(std::floor(std::log10(size) / 3));
  return fmt::format("{:.4g}e{}", value * std::pow(1000.0, -thousands), 3 * thousands);
}

/// A value as people write it, in the unit of the signal; shares in percent where the band is.
std::string show_value(double value, const std::string& unit, bool in_percent) {
  if (std::isnan(value)) return "none";
  if (in_percent) return fmt::format("{:.4g} %", 100 * value);
  return unit.empty() ? show_number(value) : print_rounded(value, unit, 4);
}

/// Edges of the band in `unit`, or `plain`: without one, in SI. Throws Error when they have another
/// dimension.
std::pair<double, double> band_of(const Expectation& e, const std::string& unit, bool plain = true) {
  const auto edge = [&](const std::string& text) {
    const Quantity q = parse_quantity(text);
    if (plain && q.dimension == Dimension{}) return q.value;
    if (q.dimension != (unit.empty() ? Dimension{} : parse_unit(unit).dimension))
      throw Error(fmt::format("{} {} is judged in {}, not by \"{}\"", e.signal, e.measure,
                              unit.empty() ? "plain numbers" : unit, text));
    return q.value;
  };
  return {edge(e.between[0]), edge(e.between[1])};
}

/// What a point is at 1 and at 0: "closed throughout".
std::string state_words(const std::string& point, double level) {
  const bool switched = point.ends_with(".closed");
  if (level == 1) return switched ? "closed throughout" : "on throughout";
  if (level == 0) return switched ? "open throughout" : "off throughout";
  return fmt::format("{} for {:.3g} % of the time", switched ? "closed" : "on", 100 * level);
}

void judge_waveform(const Expectation& e, const Outcome& o, Verdict& verdict) {
  verdict.expectation = e.signal + " " + e.measure;
  const record::Analog& analog = analog_of(o.record, e.signal);
  const record::Measure what = record::measure_of(e.measure);
  const std::string unit = record::unit_of(what, analog.unit);
  const auto [low, high] = band_of(e, unit);
  const double from = o.inception_s + e.from_s;
  const double until = network::is_set(e.until_s) ? o.inception_s + e.until_s : o.ended_s;
  verdict.expected = fmt::format("{} to {}", e.between[0], e.between[1]);
  const double frequency = network::is_set(e.frequency_Hz) ? e.frequency_Hz : 0;
  if (network::is_set(e.settles_before_s)) {
    const auto values =
        what == record::Measure::rms ? record::cycle_rms(o.record, analog, frequency) : analog.samples;
    const double settled = record::settled_s(o.record, values, from, until, low, high) - o.inception_s;
    verdict.expected += " from " + show(e.settles_before_s) + " on";
    verdict.measured = std::isnan(settled) ? "outside" : show(settled);
    if (std::isnan(settled)) return;
    set_margin(verdict, e.settles_before_s - settled);
    verdict.passed = settled <= e.settles_before_s;
    return;
  }
  const double measured = record::measure(o.record, analog, what, from, until, frequency);
  const bool in_percent = e.between[0].ends_with('%') || e.between[1].ends_with('%');
  verdict.measured = show_value(measured, unit, in_percent);
  verdict.value = measured;
  if (std::isnan(measured)) return;
  const double left = std::min(measured - low, high - measured);
  // A state that is to be the same all the time has no tolerance to be told of.
  const bool state =
      low == high && (low == 0 || low == 1) && unit.empty() && e.measure == "mean" &&
      std::all_of(analog.samples.begin(), analog.samples.end(), [](double x) { return x == 0 || x == 1; });
  if (state) {
    verdict.expected = state_words(e.signal, low);
    verdict.measured = state_words(e.signal, measured);
    verdict.passed = left >= 0;
    return;
  }
  verdict.margin = show_value(left, unit, in_percent);
  verdict.spare = left;
  verdict.passed = left >= 0;
  verdict.left = 2 * left / (high - low);
}

/// By how much what was measured may be off. Times: the step, and for outputs the samples and the decisions
/// that they wait for, and what the computer was late; levels: half of what 16 bits resolve of the channel.
double uncertainty(const Expectation& e, const Outcome& o) {
  const double step_s = o.all.network.step_s;
  if (!e.breaker.empty()) return step_s + o.late_s;
  if (!e.signal.empty()) {
    if (network::is_set(e.settles_before_s)) return 1 / o.record.rate_Hz;
    constexpr double levels = 65534;
    const std::vector<double>& x = analog_of(o.record, e.signal).samples;
    const auto [low, high] = std::minmax_element(x.begin(), x.end());
    const record::Measure what = record::measure_of(e.measure);
    const bool of_unit = record::unit_of(what, "A") == "A";
    return of_unit && !x.empty() ? (*high - *low) / levels / 2 : unset;
  }
  const Device* device = o.all.bench.find_device(e.device);
  const double frequency_Hz = o.record.frequency_Hz;
  const int decisions = device ? device->approved_relay.decisions : 0;
  return step_s + 1 / (bench::samples_per_cycle * frequency_Hz) +
         (decisions > 0 ? 1 / (decisions * frequency_Hz) : 0) + o.late_s;
}

/// "1.3 ms", "0.02 A".
std::string show_uncertain(const Expectation& e, double uncertain) {
  const bool level = !e.signal.empty() && !network::is_set(e.settles_before_s);
  return level ? fmt::format("{:.2g}", uncertain) : fmt::format("{:.2g} ms", 1e3 * uncertain);
}

}  // namespace

void require_band(const Expectation& expectation, const std::string& unit, bool plain) {
  (void)band_of(expectation, record::unit_of(record::measure_of(expectation.measure), unit), plain);
}

Verdict judge(const Expectation& expectation, const Outcome& outcome) {
  Verdict verdict;
  if (!expectation.signal.empty()) {
    judge_waveform(expectation, outcome, verdict);
  } else if (expectation.breaker.empty()) {
    judge_output(expectation, outcome, verdict);
  } else {
    judge_breaker(expectation, outcome, verdict);
  }
  if (network::is_set(verdict.spare)) verdict.uncertain = uncertainty(expectation, outcome);
  if (verdict.at_edge())
    verdict.doubt += fmt::format("{}at the edge: {} are uncertain, and its margin is {}",
                                 verdict.doubt.empty() ? "" : "; ",
                                 show_uncertain(expectation, verdict.uncertain), verdict.margin);
  return verdict;
}

double fault_current(const record::Record& record, double inception_s) {
  const auto cycle = static_cast<std::size_t>(std::lround(record.rate_Hz / record.frequency_Hz));
  const auto from = static_cast<std::size_t>(inception_s * record.rate_Hz) + 2 * cycle;
  double largest = 0;
  for (const char* name : {"fault.ia", "fault.ib", "fault.ic"}) {
    const record::Analog* current = record.find_analog(name);
    if (!current || from + cycle > record.time_s.size()) continue;
    std::complex<double> sum{};
    for (std::size_t k = 0; k < cycle; ++k)
      sum += current->samples[from + k] *
             std::polar(1.0, -2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(cycle));
    largest = std::max(largest, std::numbers::sqrt2 * std::abs(sum) / static_cast<double>(cycle));
  }
  return largest;
}

}  // namespace zavrek::trial::internal
