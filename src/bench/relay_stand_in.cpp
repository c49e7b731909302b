#include <algorithm>
#include <ctime>

#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {

using namespace wire;

namespace {
/// Samples by which a stream may lag another; a count further back is a stream that began again.
constexpr int most_late = 40;
}  // namespace

Goose stand_in_message(const StandInPorts& ports) {
  Goose message;
  message.address = goose_address(ports.goose_appid);
  message.control_block = ports.name + "LD0/LLN0$GO$outputs";
  message.data_set = ports.name + "LD0/LLN0$outputs";
  message.id = ports.name;
  message.entries = {false, false};
  return message;
}

GooseSubscriber stand_in_subscriber(const StandInPorts& ports) {
  return GooseSubscriber(ports.goose_appid, ports.name);
}

RelayStandIn::RelayStandIn(protection::RelaySettings settings, StandInPorts ports)
    : relay_(std::move(settings), ports.rate_Hz, ports.frequency_Hz, static_cast<int>(ports.streams.size())),
      ports_(std::move(ports)),
      publisher_(stand_in_message(ports_)),
      last_(ports_.streams.size()),
      arrived_(ports_.streams.size(), 0),
      outputs_(relay_.outputs().size(), false) {
  for (const StandInInput& port : ports_.inputs) {
    const auto& known = relay_.inputs();
    const auto at = std::find(known.begin(), known.end(), port.name);
    if (at == known.end()) continue;  // no condition uses it
    inputs_.push_back({static_cast<std::size_t>(at - known.begin()), port.entry,
                       GooseSubscriber(port.appid, port.publisher)});
  }
}

void RelayStandIn::take(Bytes frame, Now now, Link& link) {
  const auto kind = kind_of(frame);
  if (kind && kind->ethertype == ethertype_goose) return take_input(frame, now.steady_ns);
  if (!decode(frame, incoming_)) {
    ++malformed_;
    return;
  }
  const int rate = static_cast<int>(ports_.rate_Hz);
  for (std::size_t s = 0; s < ports_.streams.size(); ++s) {
    if (incoming_.address.appid != ports_.streams[s].appid || incoming_.id != ports_.streams[s].id) continue;
    if (incoming_.count >= rate) {
      ++malformed_;
      return;
    }
    const int ahead = gathering_ < 0 ? 0 : (incoming_.count - gathering_ + rate) % rate;
    const bool late = ports_.streams.size() > 1 && rate - ahead <= most_late;
    if (late) {  // its sample was given up
      ++lost_;
      return;
    }
    if (ahead > 0) bridge(ahead);
    gathering_ = incoming_.count;
    take_sample(s);
    if (std::find(arrived_.begin(), arrived_.end(), 0) == arrived_.end()) push(now, link);
    return;
  }
}

void RelayStandIn::take_sample(std::size_t stream) {
  ++samples_;
  arrived_[stream] = 1;
  if (usable(incoming_)) {
    last_[stream] = sample_of(incoming_);
  } else {
    ++lost_;
  }
}

void RelayStandIn::push(Now now, Link& link) {
  relay_.push(last_);
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  gathering_ = (gathering_ + 1) % static_cast<int>(ports_.rate_Hz);
  for (std::size_t k = 0; k < outputs_.size(); ++k) outputs_[k] = relay_.output(k);
  publisher_.poll(now, outputs_, link);
}

void RelayStandIn::take_input(Bytes frame, std::int64_t now_ns) {
  for (Input& input : inputs_) {
    if (!input.subscriber.take(frame, now_ns)) continue;
    const auto& entries = input.subscriber.message().entries;
    if (input.entry < entries.size()) relay_.set_input(input.place, entries[input.entry]);
  }
}

/// Samples that did not come, or not from all streams.
void RelayStandIn::bridge(int missing) {
  const auto there = std::count(arrived_.begin(), arrived_.end(), 1);
  lost_ += static_cast<long long>(missing) * static_cast<long long>(arrived_.size()) - there;
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  if (missing > ports_.rate_Hz / ports_.frequency_Hz / 4) {
    relay_.reset();
    return;
  }
  for (int k = 0; k < missing; ++k) relay_.push(last_);
}

void RelayStandIn::poll(Now now, Link& link) { publisher_.poll(now, outputs_, link); }

StandInCounts run_stand_in(const protection::RelaySettings& settings, const StandInPorts& ports,
                           const std::string& interface, Medium medium, const std::atomic<bool>& stop) {
  RelayStandIn relay(settings, ports);
  const std::optional<std::uint16_t> alone =
      ports.streams.size() == 1 ? std::optional(ports.streams.front().appid) : std::nullopt;
  const auto link = open_link(interface, medium, {ethertype_sampled_values, alone});
  const auto goose =
      ports.inputs.empty() ? nullptr : open_link(interface, medium, {ethertype_goose, std::nullopt});
  std::array<std::uint8_t, longest_frame> frame;
  const auto read = [](clockid_t clock) {
    timespec t{};
    clock_gettime(clock, &t);
    return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
  };
  const auto now = [&] { return Now{read(CLOCK_MONOTONIC), read(CLOCK_REALTIME)}; };
  const auto take_waiting = [&](Link& from) {
    for (int taken = 0; taken < 256; ++taken) {
      const std::size_t length = from.receive(frame);
      if (length == 0) break;
      relay.take(Bytes(frame).first(length), now(), *link);
    }
  };
  while (!stop) {
    relay.poll(now(), *link);
    const bool waits = link->wait(1);
    if (goose) take_waiting(*goose);
    if (waits) take_waiting(*link);
  }
  return {relay.samples(), relay.lost(), relay.malformed(), link->description()};
}

}  // namespace zavrek::bench
