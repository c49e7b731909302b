#include <algorithm>
#include <ctime>

#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {

using namespace wire;

namespace {
/// Samples by which a stream may lag another; a count further back is a stream that began again.
constexpr int most_late = 40;
/// A stream that is silent for so long may come from another source from then on.
constexpr std::int64_t source_kept_ns = 100'000'000;
}  // namespace

Goose stand_in_message(const StandInPorts& ports) {
  Goose message;
  message.address = goose_address(ports.goose_appid);
  message.address.source = ports.source;
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
      outputs_(relay_.outputs().size(), false),
      followed_(ports_.streams.size()) {
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
    ++account_.malformed;
    return;
  }
  const int rate = static_cast<int>(ports_.rate_Hz);
  for (std::size_t s = 0; s < ports_.streams.size(); ++s) {
    if (incoming_.address.appid != ports_.streams[s].appid || incoming_.id != ports_.streams[s].id) continue;
    if (!of_its_source(s, now.steady_ns)) {
      ++account_.conflicting;
      return;
    }
    if (incoming_.count >= rate) {
      ++account_.malformed;
      return;
    }
    const int ahead = gathering_ < 0 ? 0 : (incoming_.count - gathering_ + rate) % rate;
    const bool late = ports_.streams.size() > 1 && rate - ahead <= most_late;
    if (late) {  // its sample was given up
      ++account_.lost;
      return;
    }
    if (ahead > 0) bridge(ahead);
    gathering_ = incoming_.count;
    take_sample(s);
    if (std::find(arrived_.begin(), arrived_.end(), 0) == arrived_.end()) push(now, link);
    return;
  }
}

bool RelayStandIn::of_its_source(std::size_t stream, std::int64_t now_ns) {
  Followed& followed = followed_[stream];
  const bool kept = followed.last_ns != 0 && now_ns - followed.last_ns < source_kept_ns;
  if (kept && incoming_.address.source != followed.source) return false;
  followed = {incoming_.address.source, now_ns};
  return true;
}

void RelayStandIn::take_sample(std::size_t stream) {
  ++account_.received;
  arrived_[stream] = 1;
  if (usable(incoming_)) {
    last_[stream] = sample_of(incoming_);
  } else {
    ++account_.lost;
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
  account_.lost += static_cast<long long>(missing) * static_cast<long long>(arrived_.size()) - there;
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  if (missing > ports_.rate_Hz / ports_.frequency_Hz / 4) {
    relay_.reset();
    return;
  }
  for (int k = 0; k < missing; ++k) relay_.push(last_);
}

Account RelayStandIn::account() const {
  Account account = account_;
  account.port = "device." + ports_.name;
  account.sent = publisher_.sent();
  account.unsent = publisher_.unsent();
  for (const Input& input : inputs_) {
    const GooseSubscriber::Counts& counts = input.subscriber.counts();
    account.malformed += counts.malformed;
    account.conflicting += counts.conflicting;
    account.regressed += counts.regressed;
    account.late += counts.late;
  }
  return account;
}

void RelayStandIn::poll(Now now, Link& link) { publisher_.poll(now, outputs_, link); }

Account run_stand_in(const protection::RelaySettings& settings, const StandInPorts& ports,
                     const std::string& interface, Medium medium, const std::atomic<bool>& stop) {
  RelayStandIn relay(settings, ports);
  const auto open = [&](std::uint16_t ethertype, const auto& read) {
    FrameFilter filter{ethertype, {}};
    for (const auto& one : read) filter.appids.push_back(one.appid);
    return read.empty() ? nullptr : open_link(interface, medium, filter);
  };
  const auto link = open(ethertype_sampled_values, ports.streams);
  const auto goose = open(ethertype_goose, ports.inputs);
  FrameBuffer frame;
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
  (void)pace::acquire_realtime_beside();
  constexpr int wait_ms = 1;
  std::int64_t held_back_ns = 0;
  bool streaming = false;
  for (std::int64_t before = now().steady_ns; !stop;) {
    relay.poll(now(), *link);
    const bool waits = link->wait(wait_ms);
    const std::int64_t after = now().steady_ns;
    if (streaming)
      held_back_ns = std::max<std::int64_t>(held_back_ns, after - before - wait_ms * 1'000'000LL);
    before = after;
    if (goose) take_waiting(*goose);
    if (waits) take_waiting(*link);
    streaming = streaming || waits;
  }
  Account account = relay.account();
  account.carries = link->description();
  account.held_back_us = held_back_ns / 1000;
  return account;
}

}  // namespace zavrek::bench
