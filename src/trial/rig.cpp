#include "trial/rig.hpp"

#include "trial/explain.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include <fmt/format.h>

namespace zavrek::trial {
namespace internal {
namespace {

constexpr int frames_per_step = 16;
constexpr int startup_ms = 3000;

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
  const std::string& place = options.place.empty() ? all.bench.control : options.place;
  if (has_control(all)) {
    control_.emplace(all, plant_, place != "plant");
    control_->watch(plant_);
  }
  for (const std::string& contact : all.bench.contacts)
    contacts_.push_back(contact_of(contact).closed() ? 1 : 0);
  add_streams(all);
  add_devices(all, options);
  ready_record(all, duration_s, further);
  find_stride();
}

void Rig::add_streams(const Case& all) {
  for (const Stream& stream : all.bench.streams) {
    Source source;
    const auto& ct = std::get<network::CurrentTransformer>(*all.network.find_element(stream.ct));
    const Ratio vt = voltage_ratio(*all.network.find_element(stream.vt));
    source.currents = reads_three(stream.ct + ".i", ct.primary_A / ct.secondary_A);
    source.voltages = reads_three(stream.vt + ".v", vt.primary / vt.secondary);
    source.message.address = wire::sampled_values_address(static_cast<std::uint16_t>(stream.appid));
    source.message.id = stream.name;
    sources_.push_back(std::move(source));
  }
}

/// Where a signal, times `scale`, stands among what is read.
std::size_t Rig::reads(const std::string& signal, double scale) {
  const int index = plant_.signal(signal).index;
  for (std::size_t k = 0; k < read_.size(); ++k) {
    if (read_[k].index == index && scale_[k] == scale) return k;
  }
  read_.push_back({index});
  scale_.push_back(scale);
  return read_.size() - 1;
}

/// Of three phases side by side.
std::size_t Rig::reads_three(const std::string& stem, double scale) {
  const std::size_t first = reads(stem + "a", scale);
  for (const char phase : {'b', 'c'}) (void)reads(stem + phase, scale);
  return first;
}

void Rig::add_devices(const Case& all, const RunOptions& options) {
  for (const Device& device : all.bench.devices) {
    const std::string& place = options.place.empty() ? device.place : options.place;
    Seat seat{Party(device, place != "plant", all.network.frequency_Hz)};
    for (const std::string& name : device.reads) {
      std::size_t stream = 0;
      while (all.bench.streams[stream].name != name) ++stream;
      seat.streams.push_back(stream);
      sources_[stream].sent = sources_[stream].sent || seat.party.remote();
    }
    seat.samples.resize(seat.streams.size());
    seat.miswired = device.current_wiring != "straight" || device.current_factor != 1;
    const auto& outputs = seat.party.outputs();
    seat.outputs.assign(outputs.size(), 0);
    for (const std::string& breaker : device.trips)
      seat.commands.push_back({1, plant_.operable(breaker), false});
    for (const auto* list : {&device.opens, &device.closes}) {
      for (const std::string& text : *list) {
        const auto [breaker, output] = split_pair(text);
        const auto at = std::find(outputs.begin(), outputs.end(), output) - outputs.begin();
        seat.commands.push_back(
            {static_cast<std::size_t>(at), plant_.operable(breaker), list == &device.closes});
      }
    }
    seats_.push_back(std::move(seat));
  }
  for (Seat& seat : seats_) wire_inputs(seat);
}

/// Where "DEVICE.OUTPUT" or the position of a breaker comes from.
Rig::InputWire Rig::wire_of(const std::string& source) const {
  InputWire wire{0, of_breaker, 0};
  const auto index_in = [&](const std::vector<std::string>& names) {
    return static_cast<std::size_t>(std::find(names.begin(), names.end(), source) - names.begin());
  };
  if (source.starts_with(contact_prefix)) return {0, of_contact, index_in(contacts_of(case_.bench))};
  for (std::size_t s = 0; s < seats_.size(); ++s) {
    const std::string& name = seats_[s].party.device().name;
    if (!source.starts_with(name + ".")) continue;
    const auto& outputs = seats_[s].party.outputs();
    wire.seat = static_cast<int>(s);
    wire.which = static_cast<std::size_t>(
        std::find(outputs.begin(), outputs.end(), source.substr(name.size() + 1)) - outputs.begin());
    return wire;
  }
  wire.which = index_in(switchgear_of(case_.network));
  return wire;
}

bool Rig::on(const InputWire& wire) const noexcept {
  if (wire.seat == of_contact) return contacts_[wire.which] != 0;
  if (wire.seat == of_breaker) return breaker_closed_[wire.which];
  return seats_[static_cast<std::size_t>(wire.seat)].outputs[wire.which] != 0;
}

/// Of relays in this process; a process of its own reads its inputs from the wire.
void Rig::wire_inputs(Seat& seat) {
  if (!seat.party.relay()) return;
  const auto& known = seat.party.relay()->inputs();
  for (const std::string& text : seat.party.device().inputs) {
    const auto [name, source] = split_pair(text);
    const auto input = static_cast<std::size_t>(std::find(known.begin(), known.end(), name) - known.begin());
    if (input == known.size()) continue;  // no condition uses it
    InputWire wire = wire_of(source);
    wire.input = input;
    seat.inputs.push_back(wire);
  }
}

/// Signals that are read at about every step anyway.
void Rig::watch_what_is_read_often() {
  constexpr double often = 8;  // steps
  if (often * plant_.step_s() * record_rate_Hz_ < 1) return;
  plant_.watch(read_);
}

void Rig::ready_record(const Case& all, double duration_s, const std::vector<std::string>& judged) {
  const auto rows = static_cast<std::size_t>(std::ceil(duration_s * record_rate_Hz_)) + 2;
  record_.station = all.network.title;
  record_.device = "Zavrek";
  record_.frequency_Hz = all.network.frequency_Hz;
  record_.rate_Hz = record_rate_Hz_;
  record_.time_s.assign(rows, 0.0);
  record_transformers(all, rows);
  std::vector<std::string> further = all.bench.record;
  further.insert(further.end(), judged.begin(), judged.end());
  for (const std::string& name : plant_.signal_names()) {
    if (name.starts_with("fault.") || (name.starts_with("fault") && name.find(".i") != std::string::npos))
      further.push_back(name);
  }
  static const std::vector<std::string> nothing;
  const std::vector<std::string>& outputs = control_ ? control_->controller().outputs() : nothing;
  std::vector<std::size_t> from_output;  // columns that outputs of the control go into
  for (const std::string& name : further) {
    if (record_.find_analog(name)) continue;
    const auto output = std::find(outputs.begin(), outputs.end(), name);
    const bool controlled = output != outputs.end();
    record_.analogs.push_back(channel(name, "", controlled ? "" : plant_.unit(plant_.signal(name)), rows));
    if (controlled) {
      from_output.push_back(columns_.size());
      read_outputs_.push_back(static_cast<std::size_t>(output - outputs.begin()));
    }
    columns_.push_back(
        {controlled ? read_outputs_.size() - 1 : reads(name, 1), record_.analogs.back().samples.data()});
  }
  for (const std::size_t k : from_output) columns_[k].from += read_.size();
  now_.assign(read_.size() + read_outputs_.size(), 0.0);
  before_ = between_ = now_;
  read_all();
  watch_what_is_read_often();
  record_binaries(all, rows);
  marks_.reserve(most_events);
}

void Rig::record_binaries(const Case& all, std::size_t rows) {
  const auto add_binary = [&](std::string name, bool normal) {
    record_.binaries.push_back({std::move(name), normal, std::vector<std::uint8_t>(rows, 0)});
    lanes_.push_back({record_.binaries.back().samples.data(), 0, normal});
  };
  for (Seat& seat : seats_) {
    seat.first_lane = lanes_.size();
    for (const std::string& output : seat.party.outputs())
      add_binary(seat.party.device().name + "." + output, false);
  }
  first_breaker_lane_ = lanes_.size();
  for (const std::string& name : switchgear_of(all.network)) {
    breakers_.push_back(name);
    breaker_signals_.push_back(plant_.signal(name + ".closed"));
    breaker_closed_.push_back(plant_.value(breaker_signals_.back()) > 0);
    add_binary(name + ".closed", breaker_closed_.back());
  }
}

/// Each current or voltage transformer that feeds a stream is recorded once, under its own name, in
/// primary values.
void Rig::record_transformers(const Case& all, std::size_t rows) {
  for (std::size_t s = 0; s < sources_.size(); ++s) {
    const Stream& stream = all.bench.streams[s];
    const auto& ct = std::get<network::CurrentTransformer>(*all.network.find_element(stream.ct));
    const Ratio vt = voltage_ratio(*all.network.find_element(stream.vt));
    const auto add = [&](const std::string& stem, const char* unit, double primary, double secondary,
                         std::size_t from) {
      if (record_.find_analog(stem + "a")) return;
      for (const char phase : {'a', 'b', 'c'}) {
        record_.analogs.push_back(
            channel(stem + phase, std::string(1, static_cast<char>(phase - 'a' + 'A')), unit, rows));
        record_.analogs.back().primary = primary;
        record_.analogs.back().secondary = secondary;
        columns_.push_back({from++, record_.analogs.back().samples.data()});
      }
    };
    add(stream.ct + ".i", "A", ct.primary_A, ct.secondary_A, sources_[s].currents);
    add(stream.vt + ".v", "V", vt.primary, vt.secondary, sources_[s].voltages);
  }
}

bool Rig::has_remote() const {
  return std::any_of(seats_.begin(), seats_.end(), [](const Seat& seat) { return seat.party.remote(); });
}

std::int64_t Rig::wall_ns() const noexcept { return pace::system_clock().now_ns(); }

std::string Rig::start_devices() {
  if (!has_remote()) return {};
  const std::string& interface = options_.interface.empty() ? case_.bench.interface : options_.interface;
  link_ = wire::open_link(interface, medium_of(case_.bench.medium), {wire::ethertype_goose, std::nullopt});
  medium_ = link_->description();
  for (const std::string& source : told_by_bench(case_.bench, options_.place))
    told_from_.push_back(wire_of(source));
  if (!told_from_.empty()) {
    wire::Goose message = wire::stand_in_message({.name = bench_goose_id, .goose_appid = bench_goose_appid});
    told_.assign(told_from_.size(), false);
    message.entries = told_;
    telling_ = std::make_unique<wire::GoosePublisher>(message);
  }
  for (Seat& seat : seats_) {
    if (!seat.party.remote() ||
        (options_.place.empty() ? seat.party.device().place : options_.place) != "process")
      continue;
    seat.party.start_process(options_.relay_program, case_.folder, case_.bench, interface, options_.place,
                             case_.network.frequency_Hz);
  }
  const std::int64_t until = wall_ns() + startup_ms * 1'000'000LL;
  for (;;) {
    poll_wire();
    const auto mute =
        std::find_if(seats_.begin(), seats_.end(), [](const Seat& seat) { return !seat.party.heard(); });
    if (mute == seats_.end()) return {};
    if (wall_ns() > until || mute->party.process_ended()) return mute->party.device().name;
    (void)link_->wait(5);
  }
}

/// Whole steps between two rows of the record, if nobody sees or does anything on the bench in between and
/// the plant can take them at once.
void Rig::find_stride() {
  const double steps = 1 / (record_rate_Hz_ * plant_.step_s());
  const int whole = static_cast<int>(std::lround(steps));
  if (control_ || has_remote() || whole < 2 || std::abs(steps - whole) > 1e-9 * steps) return;
  if (plant_.ready_leaps(whole)) stride_ = whole;
}

bool Rig::advance() noexcept {
  if (stride_ > 1) {
    if (next_row_ == 0) take_samples();  // as all stands at the start
    diverged_ = !take_stride();
  } else {
    if (control_) control_->run_due(plant_);
    if (commander_) commander_->turn_due(plant_);
    turn_contacts(plant_.time_s());
    diverged_ = plant_.step() == emt::Status::diverged;
  }
  take_samples();
  if (link_) poll_wire();
  judge_outputs();
  return !diverged_ && (!control_ || control_->failure().empty()) &&
         std::none_of(seats_.begin(), seats_.end(), [](const Seat& seat) { return seat.silent; });
}

/// At once if nothing is commanded within, else step by step. False when the plant diverged.
bool Rig::take_stride() noexcept {
  const double until = plant_.time_s() + stride_ * plant_.step_s();
  if ((!commander_ || commander_->next_due_s() >= until) && plant_.leap()) {
    turn_contacts(until - plant_.step_s());
    return true;
  }
  for (int k = 0; k < stride_; ++k) {
    if (commander_) commander_->turn_due(plant_);
    turn_contacts(plant_.time_s());
    if (plant_.step() == emt::Status::diverged) return false;
    judge_breakers();
  }
  return true;
}

void Rig::turn_contacts(double until_s) noexcept {
  for (; next_contact_turn_ < contact_turns_.size(); ++next_contact_turn_) {
    const ContactTurn& turn = contact_turns_[next_contact_turn_];
    if (turn.at_s > until_s + 1e-9) return;
    contacts_[turn.contact] = turn.closed ? 1 : 0;
  }
}

void Rig::take_samples() noexcept {
  const double step = plant_.step_s();
  const double slack = 1e-6 * step;
  if (stride_ > 1) {  // samples lie on the grid
    read_all();
    take_row(1);
    ++next_row_;
    return;
  }
  // What a sample is interpolated between is read at the two ends of its step only.
  if (static_cast<double>(next_row_) / record_rate_Hz_ > plant_.time_s() + step + slack) return;
  read_all();
  for (;;) {
    const double instant = static_cast<double>(next_row_) / record_rate_Hz_;
    if (instant > plant_.time_s() + slack) break;
    take_row(1 - (plant_.time_s() - instant) / step);
    ++next_row_;
  }
}

void Rig::read_all() noexcept {
  std::swap(before_, now_);
  plant_.read(read_, now_.data());
  for (std::size_t k = 0; k < scale_.size(); ++k) now_[k] *= scale_[k];
  for (std::size_t k = 0; k < read_outputs_.size(); ++k)
    now_[scale_.size() + k] = control_->output(read_outputs_[k]);
}

void Rig::take_row(double share) noexcept {
  const double* taken = now_.data();
  if (share != 1) {
    for (std::size_t k = 0; k < now_.size(); ++k) between_[k] = before_[k] + share * (now_[k] - before_[k]);
    taken = between_.data();
  }
  if (rows_per_sample_ == 1 || next_row_ % rows_per_sample_ == 0) {
    for (Source& source : sources_) {
      protection::Sample& sample = source.taken;
      for (std::size_t k = 0; k < 3; ++k) {
        sample.current_A[k] = taken[source.currents + k];
        sample.voltage_V[k] = taken[source.voltages + k];
      }
      sample.current_A[3] = sample.current_A[0] + sample.current_A[1] + sample.current_A[2];
      sample.voltage_V[3] = sample.voltage_V[0] + sample.voltage_V[1] + sample.voltage_V[2];
    }
    send_samples();
  }
  if (rows_ < record_.time_s.size()) record_row(taken);
}

/// To the relays in this process, and onto the wire.
void Rig::send_samples() noexcept {
  for (Seat& seat : seats_) {
    protection::Relay* relay = seat.party.relay();
    if (!relay) continue;
    for (const InputWire& wire : seat.inputs) {
      relay->set_input(wire.input, on(wire));
    }
    // A mistake in the wiring is made at the first of its places.
    for (std::size_t k = 0; k < seat.streams.size(); ++k) seat.samples[k] = sources_[seat.streams[k]].taken;
    if (seat.miswired) seat.samples.front() = as_wired(seat.party.device(), seat.samples.front());
    relays_spoke_ = seat.party.push(seat.samples) || relays_spoke_;
  }
  if (!link_) return;
  const long long number = next_row_ / rows_per_sample_;
  for (Source& source : sources_) {
    if (!source.sent) continue;
    wire::put_sample(source.taken, source.message);
    source.message.count = static_cast<std::uint16_t>(number % static_cast<long long>(rate_Hz_));
    (void)link_->send(wire::Bytes(frame_).first(wire::encode(source.message, frame_)));
  }
}

void Rig::record_row(const double* taken) noexcept {
  record_.time_s[rows_] = static_cast<double>(next_row_) / record_rate_Hz_;
  for (const Column& column : columns_) column.samples[rows_] = taken[column.from];
  ++rows_;
}

/// From the next row on.
void Rig::show(Lane& lane, bool value) noexcept {
  std::fill(lane.samples + lane.since, lane.samples + rows_, static_cast<std::uint8_t>(lane.value));
  lane.since = rows_;
  lane.value = value;
}

void Rig::poll_wire() noexcept {
  const std::int64_t now = wall_ns();
  for (int k = 0; k < frames_per_step; ++k) {
    const std::size_t length = link_->receive(frame_);
    if (length == 0) break;
    for (Seat& seat : seats_) {
      if (seat.party.take(wire::Bytes(frame_).first(length), now)) seat.last_heard_s = plant_.time_s();
    }
  }
  for (Seat& seat : seats_) seat.silent = !seat.party.alive(now);
  if (!telling_) return;
  for (std::size_t k = 0; k < told_.size(); ++k) told_[k] = on(told_from_[k]);
  telling_->poll(now, told_, *link_);
}

/// Relays of this process speak when they have taken a sample, breakers move at discontinuities only.
void Rig::judge_outputs() noexcept {
  if (std::exchange(relays_spoke_, false) || link_) {
    for (std::size_t s = 0; s < seats_.size(); ++s) {
      for (std::size_t k = 0; k < seats_[s].outputs.size(); ++k) set_output(s, k, seats_[s].party.shown(k));
    }
  }
  judge_breakers();
}

void Rig::judge_breakers() noexcept {
  if (plant_.discontinuities() == discontinuities_seen_) return;
  discontinuities_seen_ = plant_.discontinuities();
  for (std::size_t k = 0; k < breakers_.size(); ++k) {
    const bool closed = plant_.value(breaker_signals_[k]) > 0;
    if (closed == breaker_closed_[k]) continue;
    mark(-1, k, closed);
    breaker_closed_[k] = closed;
    show(lanes_[first_breaker_lane_ + k], closed);
  }
}

void Rig::set_output(std::size_t index, std::size_t output, bool value) noexcept {
  Seat& seat = seats_[index];
  char& present = seat.outputs[output];
  if ((present != 0) == value) return;
  present = value ? 1 : 0;
  show(lanes_[seat.first_lane + output], value);
  mark(static_cast<int>(index), output, value);
  if (!value) return;
  for (const Command& command : seat.commands) {
    if (command.output != output) continue;
    command.close ? plant_.close(command.breaker, plant_.time_s())
                  : plant_.open(command.breaker, plant_.time_s());
  }
}

void Rig::mark(int seat, std::size_t which, bool rose) noexcept {
  if (marks_.size() < most_events) marks_.push_back({plant_.time_s(), seat, static_cast<int>(which), rose});
}

std::string Rig::failure() {
  if (diverged_)
    return fmt::format("the model diverged at {} (t = {:.6g} s); take a smaller step", plant_.culprit(),
                       plant_.time_s());
  if (control_ && !control_->failure().empty()) return control_->failure();
  for (Seat& seat : seats_) {
    if (seat.silent || seat.party.process_ended())
      return fmt::format("no answer from {} since {:.3f} s", seat.party.device().name, seat.last_heard_s);
  }
  return {};
}

}  // namespace internal

}  // namespace zavrek::trial
