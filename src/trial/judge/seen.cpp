#include "trial/judge/seen.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <memory>

#include "bench/names.hpp"
#include "trial/judge/time_tolerance.hpp"
#include "trial/mistakes/episode.hpp"

namespace zavrek::trial::internal {

double undisturbed_until(const Device& device, const Outcome& o, std::optional<double> rise_s) {
  if (!rise_s) return o.ended_s;
  double until = o.ended_s;
  const auto note = [&](const std::string& what) {
    const bool has_position = o.record.find_binary(what + ".closed") != nullptr;
    const auto opened = o.evidence.first(what, false, *rise_s);
    if (opened || !has_position) until = std::min(until, opened.value_or(*rise_s));
  };
  for (const std::string& what : device.trips) note(what);
  for (const std::string& text : device.opens) note(bench::internal::split_pair(text).first);
  return until;
}

protection::RecordedInputs seen_by(const Device& device, const Outcome& o, double until_s) {
  protection::RecordedInputs seen;
  seen.frequency_Hz = o.record.frequency_Hz;
  seen.rate_Hz = bench::samples_per_cycle * seen.frequency_Hz;
  // Rows of the record that stand on a sample, or, where it has others, straight between two.
  const double rows_per_sample = o.record.rate_Hz / seen.rate_Hz;
  // Up to the sample on which it decided, which an event between two samples lies ahead of.
  const auto end = std::min(
      static_cast<std::size_t>(std::ceil(until_s * seen.rate_Hz - 1e-6)) + 1,
      static_cast<std::size_t>(static_cast<double>(o.record.time_s.size() - 1) / rows_per_sample + 1e-6) + 1);
  for (const std::string& name : device.reads) {
    const bench::Bench::Stems stems = o.all.bench.stems_of(name);
    std::array<const std::vector<double>*, 6> columns{};
    for (std::size_t k = 0; k < 3; ++k) {
      const char phase = static_cast<char>('a' + k);
      columns[k] = &analog_of(o.record, stems.current + phase).samples;
      columns[3 + k] = &analog_of(o.record, stems.voltage + phase).samples;
    }
    std::vector<protection::Sample> samples;
    for (std::size_t number = 0; number < end; ++number) {
      const double at = static_cast<double>(number) * rows_per_sample;
      const auto row = static_cast<std::size_t>(at + 1e-6);
      const double share = std::max(0.0, at - static_cast<double>(row));
      const auto value = [&](const std::vector<double>& column) {
        if (share < 1e-6 || row + 1 == column.size()) return column[row];
        return column[row] + share * (column[row + 1] - column[row]);
      };
      protection::Sample& sample = samples.emplace_back();
      for (std::size_t k = 0; k < 3; ++k) {
        sample.current_A[k] = value(*columns[k]);
        sample.voltage_V[k] = value(*columns[3 + k]);
        sample.current_A[3] += sample.current_A[k];
        sample.voltage_V[3] += sample.voltage_V[k];
      }
    }
    seen.ends.push_back(std::move(samples));
  }
  seen.inception = std::min(seen.ends.front().size(),
                            static_cast<std::size_t>(std::ceil(o.inception_s * seen.rate_Hz - 1e-6)));
  seen.hold_s = std::max(0.0, o.lasts_until_s - until_s);
  seen.inputs = o.evidence.inputs_of(device, o.inception_s);
  return seen;
}

namespace {

/// Whether a record, which may be somebody else's, holds all that a device reads.
bool holds_all(const Outcome& o, const Device& device) {
  return std::all_of(device.reads.begin(), device.reads.end(), [&](const std::string& name) {
    const bench::Bench::Stems stems = o.all.bench.stems_of(name);
    return o.record.find_analog(stems.current + "a") && o.record.find_analog(stems.voltage + "a");
  });
}

/// What an expectation of a trip says of its device: what it saw, and when it tripped. Empty for other
/// expectations.
std::optional<Observation> observed(const Expectation& e, const Outcome& o, bool passed) {
  const Device* device = e.device.empty() ? nullptr : o.all.bench.find_device(e.device);
  if (!device || e.output != "trip" || !e.signal.empty() || e.times > 0 || !holds_all(o, *device)) return {};
  const auto rise = o.evidence.first(e.device + "." + e.output, true, 0);
  Observation one;
  if (rise) one.measured_s = *rise - o.inception_s;
  one.watched_s = o.ended_s - o.inception_s;
  const TimeTolerance tolerance = time_tolerance(e.tolerance);
  one.tolerance_s = tolerance.time_s;
  one.tolerance_share = tolerance.share;
  one.passed = passed;
  const auto episode = std::make_shared<Episode>(
      episode_of(device->approved_relay, seen_by(*device, o, undisturbed_until(*device, o, rise))));
  one.predict = [episode, longest_s = one.longest_s()](const Device& wrong) {
    return trip_time(wrong, *episode, longest_s);
  };
  return one;
}

}  // namespace

std::vector<Explanation> causes_in(const std::vector<Judged>& trials) {
  std::vector<Explanation> causes;
  if (trials.empty()) return causes;
  for (const Device& device : trials.front().outcome->all.bench.devices) {
    std::vector<Observation> observations;
    for (const Judged& one : trials) {
      for (std::size_t k = 0; k < one.verdicts->size(); ++k) {
        const Expectation& e = one.outcome->trial.expect[k];
        if (e.device != device.name) continue;
        if (auto seen = observed(e, *one.outcome, (*one.verdicts)[k].passed))
          observations.push_back(std::move(*seen));
      }
    }
    if (std::all_of(observations.begin(), observations.end(), [](const auto& o) { return o.passed; }))
      continue;
    // Whatever a case does to it on purpose is what is looked for.
    Device straight = device;
    straight.current_wiring = straight.voltage_wiring = "straight";
    straight.current_factor = straight.voltage_factor = 1;
    std::vector<Mistake> mistakes = mistakes_in_settings(device.approved_relay);
    for (Mistake& mistake : mistakes) mistake.device = device.name;
    for (Mistake& mistake : mistakes_in_wiring(straight)) mistakes.push_back(std::move(mistake));
    // Of what cannot be told apart, a wire that is loose is likelier than a setting.
    std::stable_partition(mistakes.begin(), mistakes.end(),
                          [](const Mistake& mistake) { return mistake.what.starts_with("input "); });
    for (Explanation& cause : causes_of(straight, mistakes, observations)) causes.push_back(std::move(cause));
  }
  return causes;
}

}  // namespace zavrek::trial::internal
