#include "trial/injector.hpp"

#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "zavrek/pace.hpp"

namespace zavrek::trial::internal {

namespace {

constexpr double startup_s = 3;

Bench bench_of(const InjectionOptions& options, std::size_t places) {
  Bench bench;
  bench.interface = options.interface;
  bench.medium = options.medium;
  for (std::size_t k = 0; k < places; ++k) {
    Stream stream;
    stream.name = fmt::format("{}place{}", options.name, k + 1);
    stream.appid = options.stream_appid + static_cast<int>(k);
    bench.streams.push_back(std::move(stream));
  }
  return bench;
}

Device device_of(const protection::RelaySettings& settings, const std::filesystem::path& file,
                 const InjectionOptions& options, const Bench& bench) {
  Device device;
  device.name = options.name;
  device.place = options.place;
  device.settings = std::filesystem::absolute(file).string();
  device.appid = options.goose_appid;
  device.relay = settings;
  for (const Stream& stream : bench.streams) device.reads.push_back(stream.name);
  return device;
}

}  // namespace

Injector::Injector(const protection::RelaySettings& settings, const std::filesystem::path& file,
                   const InjectionOptions& options, std::size_t places)
    : options_(options),
      settings_(settings),
      bench_(bench_of(options, places)),
      device_(device_of(settings, file, options, bench_)),
      party_(device_, options.place != "plant", options.frequency_Hz),
      rate_Hz_(samples_per_cycle * options.frequency_Hz),
      places_(places) {
  if (!party_.remote()) return;
  link_ =
      wire::open_link(options.interface, medium_of(options.medium), {wire::ethertype_goose, std::nullopt});
  medium_ = link_->description();
  for (const Stream& stream : bench_.streams) {
    wire::SampledValues& message = messages_.emplace_back();
    message.address = wire::sampled_values_address(static_cast<std::uint16_t>(stream.appid));
    message.id = stream.name;
  }
  if (options.place == "process")
    party_.start_process(options.relay_program, "", bench_, options.interface, {}, options.frequency_Hz);
  Stimulus nothing;
  nothing.measured.ends.resize(places);
  nothing.measured.frequency_Hz = options.frequency_Hz;
  for (int k = 0; k < static_cast<int>(startup_s / 0.05) && !party_.heard(); ++k) (void)inject(nothing, 0.05);
  if (!party_.heard()) failure_ = fmt::format("no answer from {} at the start", device_.name);
}

bool Injector::forget() {
  if (party_.remote()) return false;
  party_.relay()->reset();
  return true;
}

/// Instantaneous values of the stimulus, `time_s` after it began.
void Injector::sample(const Stimulus& stimulus, double time_s) {
  const double frequency = stimulus.measured.frequency_Hz + stimulus.frequency_rate * time_s;
  angle_rad_ = std::remainder(angle_rad_ + 2 * std::numbers::pi * frequency / rate_Hz_, 2 * std::numbers::pi);
  const protection::Phasor turn = std::polar(std::numbers::sqrt2, angle_rad_);
  const protection::Phasor second = std::polar(std::numbers::sqrt2, 2 * angle_rad_);
  const protection::Phasor fifth = std::polar(std::numbers::sqrt2, 5 * angle_rad_);
  for (std::size_t e = 0; e < places_.size(); ++e) {
    protection::Sample& sample = places_[e];
    sample = {};
    const protection::End& end = stimulus.measured.ends[e];
    for (std::size_t k = 0; k < 3; ++k) {
      sample.current_A[k] = (end.current[k] * turn + end.second[k] * second + end.fifth[k] * fifth).real() /
                            settings_.current_scale();
      sample.voltage_V[k] = (end.voltage[k] * turn).real() / settings_.voltage_scale();
      sample.current_A[3] += sample.current_A[k];
      sample.voltage_V[3] += sample.voltage_V[k];
    }
  }
  ++samples_;
}

void Injector::exchange() {
  if (!party_.remote()) {
    (void)party_.push(places_);
    return;
  }
  for (std::size_t e = 0; e < places_.size(); ++e) {
    wire::put_sample(places_[e], messages_[e]);
    messages_[e].count = static_cast<std::uint16_t>((samples_ - 1) % static_cast<long long>(rate_Hz_));
    (void)link_->send(wire::Bytes(frame_).first(wire::encode(messages_[e], frame_)));
  }
  const std::int64_t now = pace::system_clock().now_ns();
  for (int taken = 0; taken < 16; ++taken) {
    const std::size_t length = link_->receive(frame_);
    if (length == 0) break;
    (void)party_.take(wire::Bytes(frame_).first(length), now);
  }
  if (party_.heard() && (!party_.alive(now) || party_.process_ended()))
    failure_ = fmt::format("no answer from {} since {:.3f} s of injection", device_.name, injected_s());
}

Injector::Reaction Injector::inject(const Stimulus& stimulus, double for_s, Until until) {
  Reaction seen;
  bool started = start(), tripped = trip();
  if (until == Until::quiet && !started && !tripped) return seen;
  const auto note = [](bool now, bool& before, std::optional<double>& rise, std::optional<double>& fall,
                       double at) {
    if (now && !before && !rise) rise = at;
    if (!now && before) fall = at;
    before = now;
  };
  const auto steps = static_cast<std::int64_t>(std::ceil(for_s * rate_Hz_));
  pace::Executive executive(pace::system_clock());
  (void)executive.run(party_.remote() ? pace::Pace::wall : pace::Pace::free, std::llround(1e9 / rate_Hz_),
                      steps, [&](std::int64_t step) {
                        const double begun = static_cast<double>(step) / rate_Hz_;
                        sample(stimulus, begun);
                        exchange();
                        const double at = begun + 1 / rate_Hz_;
                        note(start(), started, seen.start_s, seen.start_fell_s, at);
                        note(trip(), tripped, seen.trip_s, seen.trip_fell_s, at);
                        if (!failure_.empty()) return false;
                        if (until == Until::start) return !seen.start_s;
                        if (until == Until::trip) return !seen.trip_s;
                        return until != Until::quiet || started || tripped;
                      });
  return seen;
}

}  // namespace zavrek::trial::internal
