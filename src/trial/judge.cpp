#include "trial/judge.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include <fmt/format.h>

#include "zavrek/record/measure.hpp"

namespace zavrek::trial::internal {
namespace {

std::string show(double time_s) { return fmt::format("{:.3f} s", time_s); }
std::string show_ms(double time_s) { return fmt::format("{:+.1f} ms", 1e3 * time_s); }

double tolerance_of(const Expectation& e, double expected_s) {
  double greatest = 0;
  for (const std::string& text : e.tolerance) {
    const Quantity q = parse_quantity(text);
    greatest = std::max(greatest, q.dimension == Dimension{} ? q.value * expected_s : q.value);
  }
  return greatest;
}

/// What the device saw, to its trip; from there on the last values hold as long as the fault lasts, so that a
/// relay that trips early does not hide what should have happened.
protection::ExpectedOperation from_settings(const Device& device, const Outcome& o, double until_s) {
  protection::Seen seen;
  seen.frequency_Hz = o.record.frequency_Hz;
  seen.rate_Hz = samples_per_cycle * seen.frequency_Hz;
  const auto every = static_cast<std::size_t>(std::lround(o.record.rate_Hz / seen.rate_Hz));
  const auto end = std::min(o.record.time_s.size(), static_cast<std::size_t>(until_s * o.record.rate_Hz) + 1);
  for (const std::string& name : device.reads) {
    const auto& streams = o.all.bench.streams;
    const auto stream =
        std::find_if(streams.begin(), streams.end(), [&](const Stream& s) { return s.name == name; });
    std::array<const std::vector<double>*, 6> columns{};
    for (std::size_t k = 0; k < 3; ++k) {
      const char phase = static_cast<char>('a' + k);
      columns[k] = &o.record.find_analog(stream->ct + ".i" + phase)->samples;
      columns[3 + k] = &o.record.find_analog(stream->vt + ".v" + phase)->samples;
    }
    std::vector<protection::Sample> samples;
    for (std::size_t row = 0; row < end; row += every) {
      protection::Sample& sample = samples.emplace_back();
      for (std::size_t k = 0; k < 3; ++k) {
        sample.current_A[k] = (*columns[k])[row];
        sample.voltage_V[k] = (*columns[3 + k])[row];
        sample.current_A[3] += sample.current_A[k];
        sample.voltage_V[3] += sample.voltage_V[k];
      }
    }
    seen.ends.push_back(std::move(samples));
  }
  seen.inception = std::min(seen.ends.front().size(),
                            static_cast<std::size_t>(std::ceil(o.inception_s * seen.rate_Hz - 1e-6)));
  seen.hold_s = std::max(0.0, o.lasts_until_s - until_s);
  seen.inputs = o.rig.inputs_of(device, o.inception_s);
  return protection::expected_operation(device.approved_relay, seen);
}

void judge_time(const Expectation& e, double expected_s, std::optional<double> measured_s, Verdict& verdict) {
  const double tolerance = tolerance_of(e, expected_s);
  verdict.expected = fmt::format("{} +/- {:.0f} ms", show(expected_s), 1e3 * tolerance);
  if (!measured_s) return;
  const double left = tolerance - std::abs(*measured_s - expected_s);
  verdict.margin = show_ms(left);
  verdict.passed = left >= 0;
}

void judge_output(const Expectation& e, const Outcome& o, Verdict& verdict) {
  const auto rise = o.rig.first_rise(e.device, e.output, 0);
  std::optional<double> measured;
  if (rise) measured = *rise - o.inception_s;
  verdict.expectation = e.device + " " + e.output;
  verdict.measured = measured ? show(*measured) : "none";

  if (e.never) {
    verdict.expected = "never";
    verdict.passed = !rise;
  } else if (!e.window.empty()) {
    const double early = parse_quantity_as(e.window[0], "s");
    const double late = parse_quantity_as(e.window[1], "s");
    verdict.expected = fmt::format("{} to {}", show(early), show(late));
    if (!measured) return;
    const double left = std::min(*measured - early, late - *measured);
    verdict.margin = show_ms(left);
    verdict.passed = left >= 0;
  } else if (e.time == "from settings") {
    const auto& devices = o.all.bench.devices;
    const auto device =
        std::find_if(devices.begin(), devices.end(), [&](const Device& d) { return d.name == e.device; });
    const auto expected = from_settings(*device, o, rise.value_or(o.ended_s));
    if (!std::isfinite(expected.time_s)) {
      verdict.expected = "never, by its settings";
      verdict.passed = !rise;
      return;
    }
    judge_time(e, expected.time_s, measured, verdict);
    verdict.expected += fmt::format(" ({})", expected.stage);
  } else {
    judge_time(e, parse_quantity_as(e.time, "s"), measured, verdict);
  }
}

void judge_breaker(const Expectation& e, const Outcome& o, Verdict& verdict) {
  const auto opened = o.rig.opened(e.breaker, 0);
  verdict.expectation = e.breaker + " open";
  verdict.expected = "before " + show(e.open_before_s);
  verdict.measured = opened ? show(*opened - o.inception_s) : "none";
  if (!opened) return;
  const double left = e.open_before_s - (*opened - o.inception_s);
  verdict.margin = show_ms(left);
  verdict.passed = left >= 0;
}

/// A value as people write it, in the unit of the signal.
std::string show_value(double value, const std::string& unit) {
  if (std::isnan(value)) return "none";
  return unit.empty() ? fmt::format("{:.4g}", value) : print_rounded(value, unit, 4);
}

/// Edges of the band in `unit`. Throws Error when they have another dimension.
std::pair<double, double> band_of(const Expectation& e, const std::string& unit) {
  const auto edge = [&](const std::string& text) {
    const Quantity q = parse_quantity(text);
    if (q.dimension != (unit.empty() ? Dimension{} : parse_unit(unit).dimension))
      throw Error(fmt::format("{} {} is judged in {}, not by \"{}\"", e.signal, e.measure,
                              unit.empty() ? "plain numbers" : unit, text));
    return q.value;
  };
  return {edge(e.between[0]), edge(e.between[1])};
}

void judge_waveform(const Expectation& e, const Outcome& o, Verdict& verdict) {
  verdict.expectation = e.signal + " " + e.measure;
  const record::Analog& analog = *o.record.find_analog(e.signal);
  const record::Measure what = record::measure_of(e.measure);
  const std::string unit = record::unit_of(what, analog.unit);
  const auto [low, high] = band_of(e, unit);
  const double from = o.inception_s + e.from_s;
  const double until = network::is_set(e.until_s) ? o.inception_s + e.until_s : o.ended_s;
  verdict.expected = fmt::format("{} to {}", e.between[0], e.between[1]);
  if (network::is_set(e.settles_before_s)) {
    const auto values = what == record::Measure::rms ? record::cycle_rms(o.record, analog) : analog.samples;
    const double settled = record::settled_s(o.record, values, from, until, low, high) - o.inception_s;
    verdict.expected += " from " + show(e.settles_before_s) + " on";
    verdict.measured = std::isnan(settled) ? "outside" : show(settled);
    if (std::isnan(settled)) return;
    verdict.margin = show_ms(e.settles_before_s - settled);
    verdict.passed = settled <= e.settles_before_s;
    return;
  }
  const double measured = record::measure(o.record, analog, what, from, until);
  verdict.measured = show_value(measured, unit);
  if (std::isnan(measured)) return;
  const double left = std::min(measured - low, high - measured);
  verdict.margin = show_value(left, unit);
  verdict.passed = left >= 0;
}

}  // namespace

Verdict judge(const Expectation& expectation, const Outcome& outcome) {
  Verdict verdict;
  if (!expectation.signal.empty()) {
    judge_waveform(expectation, outcome, verdict);
  } else if (expectation.breaker.empty()) {
    judge_output(expectation, outcome, verdict);
  } else {
    judge_breaker(expectation, outcome, verdict);
  }
  return verdict;
}

double fault_current(const record::Record& record, double inception_s) {
  const auto cycle = record.rate_Hz / record.frequency_Hz;
  const auto at = static_cast<std::size_t>(inception_s * record.rate_Hz + 3 * cycle);
  double largest = 0;
  for (const char* name : {"fault.ia", "fault.ib", "fault.ic"}) {
    const record::Analog* current = record.find_analog(name);
    if (!current || at >= record.time_s.size()) continue;
    largest = std::max(largest, record::fundamental_rms(record, {current})[at]);
  }
  return largest;
}

}  // namespace zavrek::trial::internal
