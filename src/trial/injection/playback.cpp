// A record played to a relay.
#include <algorithm>
#include <cmath>
#include <string_view>

#include <fmt/format.h>

#include "trial/injection/constants.hpp"
#include "trial/injection/injector.hpp"
#include "trial/judge/time_tolerance.hpp"

namespace zavrek::trial {
namespace {

using protection::Sample;

constexpr double least_per_cycle = 16;
constexpr double measuring_s = 0.03;

/// Channels of three phases, and what they are multiplied by.
struct Phases {
  std::array<const record::Analog*, 3> channels{};  // none: zero
  double factor = 1;
};

std::string_view trimmed(std::string_view text) {
  while (!text.empty() && text.front() == ' ') text.remove_prefix(1);
  while (!text.empty() && text.back() == ' ') text.remove_suffix(1);
  return text;
}

/// "CT1.i": CT1.ia and its likes; "IL1, IL2, IL3": those; either with a factor behind, "CT1.i * 400".
Phases named_phases(const record::Record& record, std::string_view text) {
  Phases found;
  if (const std::size_t star = text.rfind('*'); star != std::string_view::npos) {
    found.factor = parse_quantity_as(trimmed(text.substr(star + 1)), "");
    text = trimmed(text.substr(0, star));
  }
  std::vector<std::string> names;
  for (std::string_view rest = text;;) {
    const std::size_t comma = rest.find(',');
    names.emplace_back(trimmed(rest.substr(0, comma)));
    if (comma == std::string_view::npos) break;
    rest.remove_prefix(comma + 1);
  }
  if (names.size() == 1) names = {names[0] + "a", names[0] + "b", names[0] + "c"};
  if (names.size() != 3)
    throw Error(
        fmt::format("\"{}\" names {} channels; three are wanted, \"IL1, IL2, IL3\", or what they begin with",
                    text, names.size()));
  for (std::size_t k = 0; k < 3; ++k) {
    found.channels[k] = record.find_analog(names[k]);
    if (found.channels[k]) continue;
    std::vector<std::string> known;
    for (const record::Analog& analog : record.analogs) known.push_back(analog.name);
    throw Error(fmt::format("the record has no channel \"{}\"{}", names[k], suggestion(names[k], known)));
  }
  return found;
}

/// As named, or the first three in `unit`; voltages may be missing.
Phases phases_of(const record::Record& record, const std::string& named, const std::string& unit) {
  if (!named.empty()) return named_phases(record, named);
  Phases found;
  std::size_t count = 0;
  for (const record::Analog& analog : record.analogs) {
    if (count < 3 && analog.unit == unit) found.channels[count++] = &analog;
  }
  if (count == 0 && unit == "V") return {};
  if (count < 3)
    throw Error(fmt::format("the record has no three channels in {}; name them, such as --{} CT1.{}", unit,
                            unit == "A" ? "currents" : "voltages", unit == "A" ? "i" : "v"));
  return found;
}

double value_at(const record::Record& record, const record::Analog& analog, double time_s) {
  const double place = (time_s - record.time_s.front()) * record.rate_Hz;
  const auto before =
      static_cast<std::size_t>(std::clamp(place, 0.0, static_cast<double>(analog.samples.size() - 1)));
  const std::size_t next = std::min(before + 1, analog.samples.size() - 1);
  const double share = place - static_cast<double>(before);
  return analog.samples[before] + share * (analog.samples[next] - analog.samples[before]);
}

}  // namespace

Playback playback_of(const record::Record& record, const std::vector<std::string>& currents,
                     const std::vector<std::string>& voltages) {
  Playback made;
  made.frequency_Hz = record.frequency_Hz;
  if (record.time_s.size() < 2 || record.rate_Hz < least_per_cycle * record.frequency_Hz)
    throw Error(fmt::format("the record has less than {} samples in a cycle", least_per_cycle));
  made.trigger_s = record.trigger_s - record.time_s.front();
  const double rate_Hz = bench::samples_per_cycle * record.frequency_Hz;
  const double lasts_s = record.time_s.back() - record.time_s.front();
  const std::size_t places = std::max<std::size_t>(1, std::max(currents.size(), voltages.size()));
  for (std::size_t p = 0; p < places; ++p) {
    const auto name = [p](const std::vector<std::string>& names) {
      return p < names.size() ? names[p] : std::string();
    };
    const auto i = phases_of(record, name(currents), "A"), v = phases_of(record, name(voltages), "V");
    const auto value_of = [&](const Phases& of, std::size_t phase, double at_s) {
      return of.channels[phase] ? of.factor * value_at(record, *of.channels[phase], at_s) : 0.0;
    };
    std::vector<Sample>& samples = made.places.emplace_back();
    for (std::size_t k = 0; static_cast<double>(k) / rate_Hz <= lasts_s; ++k) {
      const double at_s = record.time_s.front() + static_cast<double>(k) / rate_Hz;
      Sample& sample = samples.emplace_back();
      for (std::size_t phase = 0; phase < 3; ++phase) {
        sample.current_A[3] += sample.current_A[phase] = value_of(i, phase, at_s);
        sample.voltage_V[3] += sample.voltage_V[phase] = value_of(v, phase, at_s);
      }
    }
  }
  return made;
}

void Playback::repeat(int times) {
  for (std::vector<Sample>& samples : places) {
    const std::vector<Sample> once = samples;
    for (int k = 1; k < times; ++k) samples.insert(samples.end(), once.begin(), once.end());
  }
}

InjectionReport play_back(const Playback& playback, const protection::RelaySettings& settings,
                          const protection::RelaySettings& approved, const std::filesystem::path& file,
                          const InjectionOptions& options) {
  InjectionOptions how = options;
  how.frequency_Hz = playback.frequency_Hz;
  const double rate_Hz = bench::samples_per_cycle * playback.frequency_Hz;
  const std::size_t count = playback.places.front().size();
  internal::Injector injector(settings, file, how, playback.places.size());
  InjectionReport report;
  report.settings = approved;
  report.medium = injector.medium();
  report.failure = injector.failure();

  // By the approved settings: what each output does sample by sample.
  protection::RelaySettings attentive = approved;
  attentive.decisions = 0;
  protection::Relay relay(attentive, rate_Hz, playback.frequency_Hz,
                          static_cast<int>(playback.places.size()));
  std::vector<double> rises(relay.outputs().size(), never_s);
  std::vector<Sample> now(playback.places.size());
  const auto inception = static_cast<std::size_t>(std::lround(std::max(0.0, playback.trigger_s) * rate_Hz));
  for (std::size_t k = 0; k < count; ++k) {
    for (std::size_t p = 0; p < now.size(); ++p) now[p] = playback.places[p][k];
    (void)relay.push(now);
    for (std::size_t o = 0; o < rises.size(); ++o) {
      if (relay.output(o) && !std::isfinite(rises[o]))
        rises[o] = static_cast<double>(k + 1) / rate_Hz - playback.trigger_s;
    }
  }
  protection::RecordedInputs seen;
  seen.ends = playback.places;
  seen.inception = std::min(inception, count);
  seen.rate_Hz = rate_Hz;
  seen.frequency_Hz = playback.frequency_Hz;
  seen.hold_s = 0;
  const protection::ExpectedOperation operation = protection::expected_operation(approved, seen);

  Stimulus stimulus;
  stimulus.measured.ends.resize(playback.places.size());
  stimulus.played = std::make_shared<const std::vector<std::vector<Sample>>>(playback.places);
  const internal::Injector::Reaction reaction =
      report.failure.empty() ? injector.inject(stimulus, static_cast<double>(count) / rate_Hz)
                             : internal::Injector::Reaction{};
  const internal::TimeTolerance tolerance = internal::time_tolerance(options.tolerance);
  for (std::size_t o = 0; o < relay.outputs().size() && report.failure.empty(); ++o) {
    InjectedPoint point;
    point.function = playback.name;
    point.test = "playback";
    point.quantity = relay.outputs()[o] + " rises";
    const bool trip = relay.outputs()[o] == "trip";
    point.expected = trip && std::isfinite(operation.time_s) ? operation.time_s : rises[o];
    if (trip) point.by = operation.stage;
    point.low = point.high = point.expected;
    if (std::isfinite(point.expected)) {
      point.low = point.expected - tolerance.of(std::abs(point.expected));
      point.high = point.expected + tolerance.of(std::abs(point.expected)) + (trip ? measuring_s : 0);
    }
    const auto& sent = injector.outputs();
    const auto at =
        static_cast<std::size_t>(std::find(sent.begin(), sent.end(), relay.outputs()[o]) - sent.begin());
    if (at < sent.size() && reaction.outputs[at].rise_s)
      point.measured = *reaction.outputs[at].rise_s - playback.trigger_s;
    point.passed = point.measured >= point.low && point.measured <= point.high;
    report.points.push_back(std::move(point));
  }
  if (!injector.failure().empty()) report.failure = injector.failure();
  if ((report.interrupted = injector.interrupted())) report.points.clear();
  report.injected_s = injector.injected_s();
  injector.end();
  report.accounts = injector.accounts();
  report.kept = injector.kept();
  report.step_s = injector.step_s();
  return report;
}

}  // namespace zavrek::trial
