#include <algorithm>
#include <cmath>
#include <utility>

#include <fmt/format.h>

#include "zavrek/bench/stand_ins.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench {

using namespace wire;

namespace {
/// Samples by which a stream may lag another; a count further back is a stream that began again.
constexpr int most_late = 40;
/// That may be missing without doubt of the number behind them.
constexpr int most_gap = 40;
/// A stream that is silent for so long may come from another source from then on.
constexpr std::int64_t source_kept_ns = 100'000'000;
}  // namespace

RelayStandIn::RelayStandIn(protection::RelaySettings settings, StandInPorts ports)
    : relay_(std::move(settings), ports.rate_Hz, ports.frequency_Hz, static_cast<int>(ports.streams.size())),
      ports_(std::move(ports)),
      messages_(ports_, relay_),
      last_(ports_.streams.size()),
      before_(last_),
      between_(last_),
      filtered_(last_),
      filters_(last_.size()),
      arrived_(ports_.streams.size(), 0),
      missing_(ports_.streams.size(), 0),
      suspects_(ports_.streams.size(), -1),
      stream_rate_(static_cast<int>(std::lround(ports_.streams.empty() || ports_.streams[0].rate_Hz == 0
                                                    ? ports_.rate_Hz
                                                    : ports_.streams[0].rate_Hz))),
      followed_(ports_.streams.size()) {
  constexpr double corner_share = 0.4;  // of its own rate
  for (auto& filters : filters_) {
    if (stream_rate_ > ports_.rate_Hz) filters.fill(AntiAlias(corner_share * ports_.rate_Hz, stream_rate_));
  }
}

void RelayStandIn::take(Bytes frame, Now now, Link& link) {
  const auto kind = kind_of(frame);
  if (kind && kind->ethertype == ethertype_goose) return messages_.take(frame, now.steady_ns, relay_);
  if (!decode(frame, incoming_)) {
    ++account_.malformed;
    return;
  }
  for (std::size_t s = 0; s < ports_.streams.size(); ++s) {
    if (incoming_.address.appid != ports_.streams[s].appid || incoming_.first().id != ports_.streams[s].id)
      continue;
    if (incoming_.address.simulated) {
      ++account_.refused;
      return;
    }
    if (!of_its_source(s, now.steady_ns)) {
      ++account_.conflicting;
      return;
    }
    for (const Asdu& asdu : incoming_.all()) take_asdu(s, asdu, now, link);
    return;
  }
}

void RelayStandIn::take_asdu(std::size_t stream, const Asdu& asdu, Now now, Link& link) {
  const auto& places = ports_.streams[stream].places;
  if (asdu.count >= stream_rate_ || asdu.values.size() <= *std::max_element(places.begin(), places.end())) {
    ++account_.malformed;
    return;
  }
  const int ahead = gathering_ < 0 ? 0 : (asdu.count - gathering_ + stream_rate_) % stream_rate_;
  const bool late = ahead > 0 && stream_rate_ - ahead <= most_late;
  if (late) {  // its sample was given up
    ++account_.late;
    return;
  }
  if (ahead > most_gap) {
    // A number that is far off may be damaged: it counts once the next follows it.
    const bool follows = suspects_[stream] >= 0 && asdu.count == (suspects_[stream] + 1) % stream_rate_;
    suspects_[stream] = asdu.count;
    if (!follows) {
      ++account_.unfit;
      return;
    }
  }
  suspects_[stream] = -1;
  if (ahead > stream_rate_ / 2)
    begin_again();
  else if (ahead > 0)
    bridge(ahead);
  gathering_ = asdu.count;
  take_sample(stream, asdu);
  if (std::find(arrived_.begin(), arrived_.end(), 0) == arrived_.end()) push(now, link);
}

bool RelayStandIn::of_its_source(std::size_t stream, std::int64_t now_ns) {
  Followed& followed = followed_[stream];
  const bool kept = followed.last_ns != 0 && now_ns - followed.last_ns < source_kept_ns;
  if (kept && incoming_.address.source != followed.source) return false;
  followed = {incoming_.address.source, now_ns};
  return true;
}

/// A protection uses what is good and not under test (IEC 61850-7-3, quality; the relay itself is not).
void RelayStandIn::take_sample(std::size_t stream, const Asdu& asdu) {
  ++account_.received;
  arrived_[stream] = 1;
  const auto& places = ports_.streams[stream].places;
  const bool good = std::all_of(places.begin(), places.end(), [&](std::size_t k) {
    return asdu.values[k].usable() && (asdu.values[k].quality & Quality::test) == 0;
  });
  if (!good) {
    ++account_.unfit;
    return;
  }
  missing_[stream] = 0;
  for (std::size_t k = 0; k < 4; ++k) {
    last_[stream].current_A[k] = asdu.values[places[k]].value * current_lsb_A;
    last_[stream].voltage_V[k] = asdu.values[places[4 + k]].value * voltage_lsb_V;
  }
}

/// One sample of the streams to the relay, whose own instants may lie between theirs; none while one of them
/// has had nothing good for too long.
void RelayStandIn::feed() {
  const bool was_blind = std::exchange(
      blind_,
      std::any_of(missing_.begin(), missing_.end(), [&](int missing) { return missing > most_missing(); }));
  for (int& missing : missing_) missing = std::min(missing + 1, stream_rate_);
  if (blind_ && !was_blind) relay_.reset();
  if (blind_) return;
  const double rate = stream_rate_;
  if (rate == ports_.rate_Hz) {
    relay_.push(last_);
    return;
  }
  // What lies beyond half of its own rate would come back as something else.
  for (std::size_t s = 0; s < last_.size(); ++s) {
    for (std::size_t k = 0; k < 4; ++k) {
      filtered_[s].current_A[k] = filters_[s][k].next(last_[s].current_A[k]);
      filtered_[s].voltage_V[k] = filters_[s][4 + k].next(last_[s].voltage_V[k]);
    }
  }
  const auto mixed = [](double a, double b, double share) { return a + share * (b - a); };
  const double now_s = static_cast<double>(fed_++) / rate;
  for (;; ++relay_fed_) {
    const double at_s = static_cast<double>(relay_fed_) / ports_.rate_Hz;
    if (at_s > now_s + 1e-9) break;
    const double share = std::clamp(1 - (now_s - at_s) * rate, 0.0, 1.0);
    for (std::size_t s = 0; s < last_.size(); ++s) {
      for (std::size_t k = 0; k < 4; ++k) {
        between_[s].current_A[k] = mixed(before_[s].current_A[k], filtered_[s].current_A[k], share);
        between_[s].voltage_V[k] = mixed(before_[s].voltage_V[k], filtered_[s].voltage_V[k], share);
      }
    }
    relay_.push(between_);
  }
  before_ = filtered_;
}

void RelayStandIn::push(Now now, Link& link) {
  feed();
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  gathering_ = (gathering_ + 1) % stream_rate_;
  messages_.publish(now, relay_, link);
}

/// Samples that did not come, or not from all streams.
void RelayStandIn::bridge(int missing) {
  const auto there = std::count(arrived_.begin(), arrived_.end(), 1);
  account_.lost += static_cast<long long>(missing) * static_cast<long long>(arrived_.size()) - there;
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  if (missing > most_missing()) return begin_again();
  for (int k = 0; k < missing; ++k) feed();
}

/// A quarter cycle.
int RelayStandIn::most_missing() const noexcept {
  return static_cast<int>(stream_rate_ / ports_.frequency_Hz / 4);
}

void RelayStandIn::begin_again() {
  ++account_.restarts;
  std::fill(arrived_.begin(), arrived_.end(), char{0});
  relay_.reset();
}

Account RelayStandIn::account() const {
  Account account = account_;
  account.port = "device." + ports_.name;
  messages_.count(account);
  return account;
}

void RelayStandIn::poll(Now now, Link& link) { messages_.publish(now, relay_, link); }

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
  const auto now = [] { return Now{pace::system_clock().now_ns(), pace::utc_ns()}; };
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
