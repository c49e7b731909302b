#include "trial/rig.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <ctime>
#include <limits>

#include <fmt/format.h>

namespace zavrek::trial {
namespace internal {
namespace {

constexpr int frames_per_step = 16;
constexpr int startup_ms = 3000;
constexpr const char* output_names[] = {"start", "trip"};

wire::Medium medium_of(const std::string& word) {
  if (word == "raw") return wire::Medium::raw;
  if (word == "datagram") return wire::Medium::datagram;
  return wire::Medium::automatic;
}

struct Ratio {
  double primary, secondary;
};

Ratio voltage_ratio(const network::Element& element) {
  if (const auto* vt = std::get_if<network::CapacitiveVoltageTransformer>(&element))
    return {vt->primary_V, vt->secondary_V};
  const auto& vt = std::get<network::VoltageTransformer>(element);
  return {vt.primary_V, vt.secondary_V};
}

record::Analog channel(std::string name, std::string phase, std::string unit, std::size_t rows) {
  return {std::move(name), std::move(phase), std::move(unit), 1, 1, std::vector<double>(rows, 0.0)};
}

}  // namespace

ControlWiring::ControlWiring(const Case& all, const emt::Plant& plant)
    : controller(all.control, plant.signal_names()) {
  for (const std::string& name : controller.reads()) reads.push_back(plant.signal(name));
  for (const std::string& name : controller.knobs()) knobs.push_back(plant.knob(name));
  for (const std::string& name : controller.gates()) gates.push_back(plant.gate(name));
  for (const std::string& name : controller.operables()) operables.push_back(plant.operable(name));
  signals.resize(reads.size());
  knobs_sent.assign(knobs.size(), std::numeric_limits<double>::quiet_NaN());
  closes_sent.assign(operables.size(), 0);
}

void ControlWiring::run_due(emt::Plant& plant) noexcept {
  const double slack = 1e-6 * plant.step_s();
  for (; static_cast<double>(next_tick) * controller.period_s() <= plant.time_s() + slack; ++next_tick) {
    for (std::size_t k = 0; k < reads.size(); ++k) signals[k] = plant.value(reads[k]);
    controller.run(next_tick, signals);
    for (const control::Edge& edge : controller.edges())
      plant.fire(gates[static_cast<std::size_t>(edge.gate)], edge.on, edge.at_s);
    for (std::size_t k = 0; k < knobs.size(); ++k) {
      const double wanted = controller.knob(k);
      if (wanted == knobs_sent[k] || !std::isfinite(wanted)) continue;
      plant.turn(knobs[k], wanted);
      knobs_sent[k] = wanted;
    }
    for (std::size_t k = 0; k < operables.size(); ++k) {
      const bool closes = controller.closes(k);
      if (closes == (closes_sent[k] != 0)) continue;
      closes ? plant.close(operables[k], plant.time_s()) : plant.open(operables[k], plant.time_s());
      closes_sent[k] = closes ? 1 : 0;
    }
  }
}

Rig::Rig(const Case& all, const network::Network& network, const RunOptions& options, double duration_s,
         const std::vector<std::string>& further)
    : case_(all),
      options_(options),
      plant_(emt::compile(network)),
      rate_Hz_(samples_per_cycle * network.frequency_Hz),
      rows_per_sample_(all.bench.points_per_cycle / samples_per_cycle),
      record_rate_Hz_(rate_Hz_ * rows_per_sample_) {
  if (options.cores > 1 && plant_.summary().shards > 1) {
    crew_ = std::make_unique<pace::Crew>(std::min(options.cores, plant_.summary().shards));
    plant_.share(crew_.get());
  }
  if (!all.control.blocks.empty()) control_.emplace(all, plant_);
  add_streams(all);
  add_devices(all, options);
  ready_record(all, duration_s, further);
}

void Rig::add_streams(const Case& all) {
  for (const Stream& stream : all.bench.streams) {
    Source source;
    const auto& ct = std::get<network::CurrentTransformer>(*all.network.find_element(stream.ct));
    const Ratio vt = voltage_ratio(*all.network.find_element(stream.vt));
    for (std::size_t k = 0; k < 3; ++k) {
      const std::string phase(1, static_cast<char>('a' + k));
      source.signals[k] = plant_.signal(stream.ct + ".i" + phase);
      source.signals[3 + k] = plant_.signal(stream.vt + ".v" + phase);
      source.to_primary[k] = ct.primary_A / ct.secondary_A;
      source.to_primary[3 + k] = vt.primary / vt.secondary;
    }
    source.message.address = wire::sampled_values_address(static_cast<std::uint16_t>(stream.appid));
    source.message.id = stream.name;
    source.before = source.now = read(source);
    sources_.push_back(std::move(source));
  }
}

Rig::Recorded Rig::find_recorded(const std::string& name) const {
  if (control_) {
    const auto& outputs = control_->controller.outputs();
    const auto found = std::find(outputs.begin(), outputs.end(), name);
    if (found != outputs.end()) return {{}, static_cast<std::size_t>(found - outputs.begin())};
  }
  return {plant_.signal(name)};
}

double Rig::value(const Recorded& recorded) const noexcept {
  return recorded.output == none ? plant_.value(recorded.signal)
                                 : control_->controller.output(recorded.output);
}

void Rig::add_devices(const Case& all, const RunOptions& options) {
  for (const Device& device : all.bench.devices) {
    Party party;
    party.device = &device;
    while (all.bench.streams[party.stream].name != device.reads) ++party.stream;
    const std::string& place = options.place.empty() ? device.place : options.place;
    party.remote = place != "plant";
    if (party.remote) {
      wire::StandInPorts ports{.name = device.name, .goose_appid = static_cast<std::uint16_t>(device.appid)};
      party.subscriber = std::make_unique<wire::GooseSubscriber>(wire::stand_in_subscriber(ports));
      sources_[party.stream].sent = true;
    } else {
      party.relay =
          std::make_unique<protection::OvercurrentRelay>(device.relay, rate_Hz_, all.network.frequency_Hz);
    }
    for (const std::string& breaker : device.trips) party.trips.push_back(plant_.operable(breaker));
    parties_.push_back(std::move(party));
  }
}

void Rig::ready_record(const Case& all, double duration_s, const std::vector<std::string>& judged) {
  const auto rows = static_cast<std::size_t>(std::ceil(duration_s * record_rate_Hz_)) + 2;
  record_.station = all.network.title;
  record_.device = "Zavrek";
  record_.frequency_Hz = all.network.frequency_Hz;
  record_.rate_Hz = record_rate_Hz_;
  record_.time_s.assign(rows, 0.0);
  record_transformers(all, rows);
  first_recorded_ = record_.analogs.size();
  std::vector<std::string> further = all.bench.record;
  further.insert(further.end(), judged.begin(), judged.end());
  for (const std::string& name : plant_.signal_names()) {
    if (name.starts_with("fault.") || (name.starts_with("fault") && name.find(".i") != std::string::npos))
      further.push_back(name);
  }
  for (const std::string& name : further) {
    if (record_.find_analog(name)) continue;
    recorded_.push_back(find_recorded(name));
    const Recorded& added = recorded_.back();
    record_.analogs.push_back(channel(name, "", added.output == none ? plant_.unit(added.signal) : "", rows));
    recorded_before_.push_back(value(added));
  }
  recorded_now_ = recorded_before_;
  const auto add_binary = [&](std::string name, bool normal) {
    record_.binaries.push_back({std::move(name), normal, std::vector<std::uint8_t>(rows, 0)});
  };
  for (const Party& party : parties_) {
    for (const char* output : output_names) add_binary(party.device->name + "." + output, false);
  }
  for (const auto& element : all.network.elements) {
    if (!std::holds_alternative<network::Breaker>(element)) continue;
    const std::string& name = network::name_of(element);
    breakers_.push_back(name);
    breaker_signals_.push_back(plant_.signal(name + ".closed"));
    breaker_closed_.push_back(plant_.value(breaker_signals_.back()) > 0);
    add_binary(name + ".closed", breaker_closed_.back());
  }
  marks_.reserve(most_events);
}

/// Each current or voltage transformer that feeds a stream is recorded once, under its own name, in
/// primary values.
void Rig::record_transformers(const Case& all, std::size_t rows) {
  for (std::size_t s = 0; s < sources_.size(); ++s) {
    const Stream& stream = all.bench.streams[s];
    const auto& ct = std::get<network::CurrentTransformer>(*all.network.find_element(stream.ct));
    const Ratio vt = voltage_ratio(*all.network.find_element(stream.vt));
    const auto add = [&](const std::string& stem, const char* unit, double primary, double secondary) {
      if (record_.find_analog(stem + "a")) return none;
      for (const char phase : {'a', 'b', 'c'}) {
        record_.analogs.push_back(
            channel(stem + phase, std::string(1, static_cast<char>(phase - 'a' + 'A')), unit, rows));
        record_.analogs.back().primary = primary;
        record_.analogs.back().secondary = secondary;
      }
      return record_.analogs.size() - 3;
    };
    sources_[s].current_column = add(stream.ct + ".i", "A", ct.primary_A, ct.secondary_A);
    sources_[s].voltage_column = add(stream.vt + ".v", "V", vt.primary, vt.secondary);
  }
}

bool Rig::has_remote() const {
  return std::any_of(parties_.begin(), parties_.end(), [](const Party& party) { return party.remote; });
}

std::int64_t Rig::wall_ns() const noexcept { return pace::system_clock().now_ns(); }

std::string Rig::start_devices() {
  if (!has_remote()) return {};
  const std::string& interface = options_.interface.empty() ? case_.bench.interface : options_.interface;
  link_ = wire::open_link(interface, medium_of(case_.bench.medium), {wire::ethertype_goose, std::nullopt});
  medium_ = link_->description();
  for (Party& party : parties_) {
    if (!party.remote || (options_.place.empty() ? party.device->place : options_.place) != "process")
      continue;
    const Stream& stream = case_.bench.streams[party.stream];
    party.process = std::make_unique<ChildProcess>(
        options_.relay_program,
        std::vector<std::string>{"relay", (case_.folder / party.device->settings).string(), "--name",
                                 party.device->name, "--interface", interface, "--medium", case_.bench.medium,
                                 "--stream", stream.name, "--stream-appid", std::to_string(stream.appid),
                                 "--goose-appid", std::to_string(party.device->appid), "--frequency",
                                 print_quantity(case_.network.frequency_Hz, "Hz")});
  }
  const std::int64_t until = wall_ns() + startup_ms * 1'000'000LL;
  for (;;) {
    poll_wire();
    const auto mute = std::find_if(parties_.begin(), parties_.end(), [&](const Party& party) {
      return party.remote && !party.subscriber->heard();
    });
    if (mute == parties_.end()) return {};
    if (wall_ns() > until || (mute->process && !mute->process->running())) return mute->device->name;
    (void)link_->wait(5);
  }
}

protection::Sample Rig::read(const Source& source) const noexcept {
  protection::Sample sample;
  for (std::size_t k = 0; k < 3; ++k) {
    sample.current_A[k] = source.to_primary[k] * plant_.value(source.signals[k]);
    sample.voltage_V[k] = source.to_primary[3 + k] * plant_.value(source.signals[3 + k]);
  }
  sample.current_A[3] = sample.current_A[0] + sample.current_A[1] + sample.current_A[2];
  sample.voltage_V[3] = sample.voltage_V[0] + sample.voltage_V[1] + sample.voltage_V[2];
  return sample;
}

bool Rig::advance() noexcept {
  if (control_) control_->run_due(plant_);
  if (commander_) commander_->turn_due(plant_);
  diverged_ = plant_.step() == emt::Status::diverged;
  take_samples();
  if (link_) poll_wire();
  judge_outputs();
  return !diverged_ &&
         std::none_of(parties_.begin(), parties_.end(), [](const Party& party) { return party.silent; });
}

void Rig::take_samples() noexcept {
  for (Source& source : sources_) {
    source.before = source.now;
    source.now = read(source);
  }
  for (std::size_t k = 0; k < recorded_.size(); ++k) {
    recorded_before_[k] = recorded_now_[k];
    recorded_now_[k] = value(recorded_[k]);
  }
  // A sample's instant lies within this step; its value is interpolated between the step's two ends.
  const double step = plant_.step_s();
  const double slack = 1e-6 * step;
  for (;;) {
    const double instant = static_cast<double>(next_row_) / record_rate_Hz_;
    if (instant > plant_.time_s() + slack) break;
    take_row(1 - (plant_.time_s() - instant) / step);
    ++next_row_;
  }
}

void Rig::take_row(double share) noexcept {
  const bool room = rows_ < record_.time_s.size();
  for (std::size_t s = 0; s < sources_.size(); ++s) {
    const Source& source = sources_[s];
    protection::Sample sample;
    for (std::size_t k = 0; k < 4; ++k) {
      sample.current_A[k] =
          source.before.current_A[k] + share * (source.now.current_A[k] - source.before.current_A[k]);
      sample.voltage_V[k] =
          source.before.voltage_V[k] + share * (source.now.voltage_V[k] - source.before.voltage_V[k]);
    }
    if (next_row_ % rows_per_sample_ == 0) send_sample(s, sample);
    for (std::size_t k = 0; room && k < 3; ++k) {
      if (source.current_column != none)
        record_.analogs[source.current_column + k].samples[rows_] = sample.current_A[k];
      if (source.voltage_column != none)
        record_.analogs[source.voltage_column + k].samples[rows_] = sample.voltage_V[k];
    }
  }
  if (room) record_row(share);
}

/// To the relays in this process, and onto the wire.
void Rig::send_sample(std::size_t index, const protection::Sample& sample) noexcept {
  Source& source = sources_[index];
  for (Party& party : parties_) {
    if (party.relay && party.stream == index) party.relay->push(sample);
  }
  if (!source.sent || !link_) return;
  wire::put_sample(sample, source.message);
  const long long number = next_row_ / rows_per_sample_;
  source.message.count = static_cast<std::uint16_t>(number % static_cast<long long>(rate_Hz_));
  link_->send(wire::Bytes(frame_).first(wire::encode(source.message, frame_)));
}

void Rig::record_row(double share) noexcept {
  record_.time_s[rows_] = static_cast<double>(next_row_) / record_rate_Hz_;
  for (std::size_t k = 0; k < recorded_.size(); ++k) {
    record_.analogs[first_recorded_ + k].samples[rows_] =
        recorded_before_[k] + share * (recorded_now_[k] - recorded_before_[k]);
  }
  std::size_t column = 0;
  for (const Party& party : parties_) {
    for (const bool output : party.outputs) record_.binaries[column++].samples[rows_] = output;
  }
  for (std::size_t k = 0; k < breakers_.size(); ++k)
    record_.binaries[column++].samples[rows_] = breaker_closed_[k];
  ++rows_;
}

void Rig::poll_wire() noexcept {
  const std::int64_t now = wall_ns();
  for (int k = 0; k < frames_per_step; ++k) {
    const std::size_t length = link_->receive(frame_);
    if (length == 0) break;
    for (Party& party : parties_) {
      if (party.remote && party.subscriber->take(wire::Bytes(frame_).first(length), now)) {
        party.last_heard_s = plant_.time_s();
      }
    }
  }
  for (Party& party : parties_) {
    if (party.remote && party.subscriber->heard()) party.silent = !party.subscriber->alive(now);
  }
}

void Rig::judge_outputs() noexcept {
  for (std::size_t p = 0; p < parties_.size(); ++p) {
    Party& party = parties_[p];
    if (party.relay) {
      set_output(p, 0, party.relay->start());
      set_output(p, 1, party.relay->trip());
    } else if (party.subscriber->heard()) {
      const auto& entries = party.subscriber->message().entries;
      for (std::size_t k = 0; k < 2 && k < entries.size(); ++k)
        set_output(p, static_cast<int>(k), entries[k]);
    }
  }
  for (std::size_t k = 0; k < breakers_.size(); ++k) {
    const bool closed = plant_.value(breaker_signals_[k]) > 0;
    if (closed != breaker_closed_[k]) mark(-1, static_cast<int>(k), closed);
    breaker_closed_[k] = closed;
  }
}

void Rig::set_output(std::size_t index, int output, bool value) noexcept {
  Party& party = parties_[index];
  bool& present = party.outputs[static_cast<std::size_t>(output)];
  if (present == value) return;
  present = value;
  mark(static_cast<int>(index), output, value);
  if (output != 1 || !value) return;
  for (const emt::OperableId breaker : party.trips) plant_.open(breaker, plant_.time_s());
}

void Rig::mark(int party, int which, bool rose) noexcept {
  if (marks_.size() < most_events) marks_.push_back({plant_.time_s(), party, which, rose});
}

std::string Rig::failure() {
  if (diverged_)
    return fmt::format("the model diverged at {} (t = {:.6g} s); take a smaller step", plant_.culprit(),
                       plant_.time_s());
  for (Party& party : parties_) {
    if (party.silent || (party.process && !party.process->running())) {
      return fmt::format("no answer from {} since {:.3f} s", party.device->name, party.last_heard_s);
    }
  }
  return {};
}

std::optional<double> Rig::first_rise(const std::string& device, const std::string& output,
                                      double from_s) const {
  for (const Mark& mark : marks_) {
    if (mark.party < 0 || !mark.rose || mark.time_s < from_s) continue;
    if (parties_[static_cast<std::size_t>(mark.party)].device->name == device &&
        output == output_names[mark.which]) {
      return mark.time_s;
    }
  }
  return std::nullopt;
}

std::optional<double> Rig::opened(const std::string& breaker, double from_s) const {
  for (const Mark& mark : marks_) {
    if (mark.party >= 0 || mark.rose || mark.time_s < from_s) continue;
    if (breakers_[static_cast<std::size_t>(mark.which)] == breaker) return mark.time_s;
  }
  return std::nullopt;
}

record::Record Rig::take_record(double trigger_s) {
  record_.trigger_s = trigger_s;
  record_.time_s.resize(rows_);
  for (auto& analog : record_.analogs) analog.samples.resize(rows_);
  for (auto& binary : record_.binaries) binary.samples.resize(rows_);
  const auto now = std::chrono::system_clock::now().time_since_epoch();
  record_.start_utc_ns = std::chrono::duration_cast<std::chrono::nanoseconds>(now).count() -
                         static_cast<std::int64_t>(plant_.time_s() * 1e9);
  for (const Mark& mark : marks_) {
    const bool of_party = mark.party >= 0;
    const std::string name = of_party ? parties_[static_cast<std::size_t>(mark.party)].device->name + " " +
                                            output_names[mark.which]
                                      : breakers_[static_cast<std::size_t>(mark.which)];
    record_.events.push_back(
        {mark.time_s, name + (of_party ? (mark.rose ? "" : " off") : (mark.rose ? " closed" : " open"))});
  }
  return std::move(record_);
}

}  // namespace internal

void check_control(const Case& all, const emt::Plant& plant) {
  if (!all.control.blocks.empty()) (void)internal::ControlWiring(all, plant);
}

}  // namespace zavrek::trial
