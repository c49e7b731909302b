#include <ctime>

#include "zavrek/wire.hpp"

namespace zavrek::wire {

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
    : relay_(std::move(settings), ports.rate_Hz, ports.frequency_Hz),
      ports_(ports),
      publisher_(stand_in_message(ports)) {}

void RelayStandIn::take(Bytes frame, std::int64_t now_ns, Link& link) {
  if (!decode(frame, incoming_)) {
    ++malformed_;
    return;
  }
  if (incoming_.address.appid != ports_.stream_appid || incoming_.id != ports_.stream_id) return;
  const int rate = static_cast<int>(ports_.rate_Hz);
  if (incoming_.count >= rate) {
    ++malformed_;
    return;
  }
  if (expected_ >= 0 && incoming_.count != expected_) bridge((incoming_.count - expected_ + rate) % rate);
  expected_ = (incoming_.count + 1) % rate;
  ++samples_;
  if (usable(incoming_)) {
    last_ = sample_of(incoming_);
  } else {
    ++lost_;
  }
  relay_.push(last_);
  outputs_[0] = relay_.start();
  outputs_[1] = relay_.trip();
  publisher_.poll(now_ns, outputs_, link);
}

void RelayStandIn::bridge(int missing) {
  lost_ += missing;
  if (missing > ports_.rate_Hz / ports_.frequency_Hz / 4) {
    relay_.reset();
    return;
  }
  for (int k = 0; k < missing; ++k) relay_.push(last_);
}

void RelayStandIn::poll(std::int64_t now_ns, Link& link) { publisher_.poll(now_ns, outputs_, link); }

StandInCounts run_stand_in(const protection::RelaySettings& settings, const StandInPorts& ports,
                           const std::string& interface, Medium medium, const volatile bool& stop) {
  RelayStandIn relay(settings, ports);
  const auto link = open_link(interface, medium, {ethertype_sampled_values, ports.stream_appid});
  std::array<std::uint8_t, longest_frame> frame;
  const auto now = [] {
    timespec t{};
    clock_gettime(CLOCK_REALTIME, &t);
    return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
  };
  while (!stop) {
    relay.poll(now(), *link);
    if (!link->wait(1)) continue;
    for (int taken = 0; taken < 256; ++taken) {
      const std::size_t length = link->receive(frame);
      if (length == 0) break;
      relay.take(Bytes(frame).first(length), now(), *link);
    }
  }
  return {relay.samples(), relay.lost(), relay.malformed(), link->description()};
}

}  // namespace zavrek::wire
