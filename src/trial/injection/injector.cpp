#include "trial/injection/injector.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

namespace zavrek::trial::internal {

/// Instantaneous values of a stimulus, sample by sample, in place of a plant: "place1.ia" and so on, in the
/// primary values of the device.
class StimulusSource final : public bench::Source {
 public:
  StimulusSource(const protection::RelaySettings& settings, std::size_t places, double rate_Hz)
      : current_scale_(settings.current_scale()),
        voltage_scale_(settings.voltage_scale()),
        rate_Hz_(rate_Hz),
        angle_rad_(places, 0.0),
        values_(6 * places, 0.0) {}

  void begin(const Stimulus& stimulus) {
    stimulus_ = &stimulus;
    begun_ = samples_;
  }
  double time_s() const noexcept override { return static_cast<double>(samples_) / rate_Hz_; }
  double step_s() const noexcept override { return 1 / rate_Hz_; }
  bool step() noexcept override;
  emt::SignalId signal(const std::string& name) const override;
  std::string unit(emt::SignalId signal) const override { return signal.index % 6 < 3 ? "A" : "V"; }
  void read(std::span<const emt::SignalId> signals, double* into) const noexcept override {
    for (const emt::SignalId signal : signals) *into++ = values_[static_cast<std::size_t>(signal.index)];
  }

 private:
  bool play() noexcept;

  double current_scale_, voltage_scale_, rate_Hz_;
  const Stimulus* stimulus_ = nullptr;
  long long samples_ = 0, begun_ = 0;
  std::vector<double> angle_rad_;  // of each place
  std::vector<double> values_;     // of each place: ia ib ic va vb vc
};

bool StimulusSource::step() noexcept {
  if (stimulus_->played) return play();
  const double time_s = static_cast<double>(samples_ - begun_) / rate_Hz_;
  double* out = values_.data();
  for (std::size_t e = 0; e < angle_rad_.size(); ++e) {
    const protection::End& end = stimulus_->measured.ends[e];
    const double frequency = end.frequency_Hz + end.frequency_rate * time_s;
    double& angle_rad = angle_rad_[e];
    angle_rad = std::remainder(angle_rad + 2 * std::numbers::pi * frequency / rate_Hz_, 2 * std::numbers::pi);
    const protection::Phasor turn = std::polar(std::numbers::sqrt2, angle_rad);
    const protection::Phasor second = std::polar(std::numbers::sqrt2, 2 * angle_rad);
    const protection::Phasor fifth = std::polar(std::numbers::sqrt2, 5 * angle_rad);
    for (std::size_t k = 0; k < 3; ++k)
      *out++ =
          (end.current[k] * turn + end.second[k] * second + end.fifth[k] * fifth).real() / current_scale_;
    for (std::size_t k = 0; k < 3; ++k) *out++ = (end.voltage[k] * turn).real() / voltage_scale_;
  }
  ++samples_;
  return true;
}

bool StimulusSource::play() noexcept {
  double* out = values_.data();
  for (const std::vector<protection::Sample>& place : *stimulus_->played) {
    const auto at = std::min(static_cast<std::size_t>(samples_ - begun_), place.size() - 1);
    for (std::size_t k = 0; k < 3; ++k) *out++ = place[at].current_A[k];
    for (std::size_t k = 0; k < 3; ++k) *out++ = place[at].voltage_V[k];
  }
  ++samples_;
  return true;
}

/// "placeN.ia" to "placeN.vc".
emt::SignalId StimulusSource::signal(const std::string& name) const {
  const std::size_t dot = name.find('.');
  const int place = std::stoi(name.substr(std::string("place").size(), dot)) - 1;
  return {6 * place + (name[dot + 1] == 'v' ? 3 : 0) + (name[dot + 2] - 'a')};
}

namespace {

bench::Setup setup_of(const protection::RelaySettings& settings, const std::filesystem::path& file,
                      const InjectionOptions& options, std::size_t places) {
  bench::Setup setup;
  setup.network.frequency_Hz = options.frequency_Hz;
  setup.bench.interface = options.interface;
  setup.bench.medium = options.medium;
  bench::Device device;
  device.name = options.name;
  device.place = options.place;
  device.settings = std::filesystem::absolute(file).string();
  device.appid = options.goose_appid;
  device.relay = settings;
  for (std::size_t k = 0; k < places; ++k) {
    const std::string place = fmt::format("place{}", k + 1);
    device.reads.push_back(options.name + place);
    bench::Stream stream;
    stream.name = device.reads.back();
    stream.ct = stream.vt = place;
    stream.appid = options.stream_appid + static_cast<int>(k);
    setup.bench.ports.emplace_back(std::move(stream));
  }
  setup.bench.devices.push_back(std::move(device));
  return setup;
}

}  // namespace

Injector::Injector(const protection::RelaySettings& settings, const std::filesystem::path& file,
                   const InjectionOptions& options, std::size_t places)
    : setup_(setup_of(settings, file, options, places)),
      rate_Hz_(bench::samples_per_cycle * options.frequency_Hz),
      stop_(options.stop) {
  auto source = std::make_unique<StimulusSource>(settings, places, rate_Hz_);
  source_ = source.get();
  bench::RunOptions how;
  how.free = true;
  how.relay_program = options.relay_program;
  run_ = std::make_unique<bench::Run>(setup_, std::move(source), how);
  start_ = run_->exchange().point_of(options.name + ".start");
  trip_ = run_->exchange().point_of(options.name + ".trip");
  outputs_ = protection::outputs_of(settings);
  for (const std::string& output : outputs_)
    points_.push_back(run_->exchange().point_of(options.name + "." + output));
  failure_ = run_->start();
}

Injector::~Injector() = default;

void Injector::watch_as_start(const std::string& output) {
  for (std::size_t k = 0; k < outputs_.size(); ++k) {
    if (outputs_[k] == output) start_ = points_[k];
  }
}

void Injector::Reaction::add(const Reaction& next, double at_s) {
  const auto rise = [at_s](std::optional<double>& mine, const std::optional<double>& other) {
    if (!mine && other) mine = *other + at_s;
  };
  const auto fall = [at_s](std::optional<double>& mine, const std::optional<double>& other) {
    if (other) mine = *other + at_s;
  };
  rise(start_s, next.start_s);
  rise(trip_s, next.trip_s);
  fall(start_fell_s, next.start_fell_s);
  fall(trip_fell_s, next.trip_fell_s);
  outputs.resize(next.outputs.size());
  for (std::size_t k = 0; k < outputs.size(); ++k) {
    rise(outputs[k].rise_s, next.outputs[k].rise_s);
    fall(outputs[k].fall_s, next.outputs[k].fall_s);
  }
}

bool Injector::forget() {
  if (!run_->forget()) return false;
  past_.clear();
  return true;
}

Injector::Reaction Injector::inject(const Stimulus& stimulus, double for_s, Until until) {
  Reaction seen;
  seen.outputs.resize(points_.size());
  bool started = start(), tripped = trip();
  if (interrupted_) return seen;
  std::vector<char> were;
  for (const bench::PointId point : points_) were.push_back(run_->exchange().on(point) ? 1 : 0);
  if (until == Until::quiet && !started && !tripped) return seen;
  const auto note = [](bool now, bool& before, std::optional<double>& rise, std::optional<double>& fall,
                       double at) {
    if (now && !before && !rise) rise = at;
    if (!now && before) fall = at;
    before = now;
  };
  source_->begin(stimulus);
  long long samples = 0;
  const pace::Timing timing = run_->execute(for_s, [&] {
    const double at = static_cast<double>(samples++) / rate_Hz_ + 1 / rate_Hz_;
    note(start(), started, seen.start_s, seen.start_fell_s, at);
    note(trip(), tripped, seen.trip_s, seen.trip_fell_s, at);
    for (std::size_t k = 0; k < points_.size(); ++k) {
      bool was = were[k] != 0;
      note(run_->exchange().on(points_[k]), was, seen.outputs[k].rise_s, seen.outputs[k].fall_s, at);
      were[k] = was ? 1 : 0;
    }
    if (stop_ && stop_->load(std::memory_order_relaxed)) return interrupted_ = true;
    if (until == Until::start) return seen.start_s.has_value();
    if (until == Until::trip) return seen.trip_s.has_value();
    return until == Until::quiet && !started && !tripped;
  });
  kept_.add(pace::punctuality(timing));
  past_.push_back({stimulus.measured, static_cast<double>(samples) / rate_Hz_});
  if (interrupted_)
    failure_ = fmt::format("interrupted after {:.3f} s of injection", injected_s());
  else if (const std::string why = run_->failure(); !why.empty())
    failure_ = fmt::format("no answer from {} since {:.3f} s of injection", setup_.bench.devices[0].name,
                           injected_s());
  return seen;
}

}  // namespace zavrek::trial::internal
