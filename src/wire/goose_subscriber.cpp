#include <utility>

#include "zavrek/wire/goose.hpp"

namespace zavrek::wire {
namespace {

/// Within this time of a change a redundant network may deliver a message of the state before again.
constexpr std::int64_t again_ns = 100'000'000;

}  // namespace

GooseSubscriber::GooseSubscriber(Followed followed) : followed_(std::move(followed)) {
  message_.entries.reserve(most_goose_entries);
  incoming_.entries.reserve(most_goose_entries);
}
GooseSubscriber::GooseSubscriber(std::uint16_t appid, std::string id, std::optional<MacAddress> source)
    : GooseSubscriber(Followed{appid, std::move(id), source, {}, 0}) {}

void GooseSubscriber::accept_simulated(bool yes) noexcept {
  if (!yes && simulated_) {
    // The publisher's own messages count again, whatever their numbers.
    simulated_ = false;
    another_ = heard_;
  }
  accepts_simulated_ = yes;
}

/// Whether the message that came in may be believed as far as what it says of itself goes.
bool GooseSubscriber::follows(std::int64_t now_ns) {
  if (incoming_.id != followed_.id) {
    ++counts_.foreign;
    return false;
  }
  if (incoming_.simulation ? !accepts_simulated_ : simulated_) {
    ++counts_.refused;
    return false;
  }
  const std::size_t entries = incoming_.entries.size();
  if (incoming_.needs_commissioning || (followed_.revision && incoming_.revision != *followed_.revision) ||
      entries < followed_.least_entries) {
    ++counts_.unfit;
    return false;
  }
  if (incoming_.simulation) {
    if (simulated_) return !alive(now_ns) || incoming_.address.source == message_.address.source;
    simulated_ = true;
    another_ = heard_;
    return true;
  }
  const bool other_source =
      followed_.source ? incoming_.address.source != *followed_.source
                       : alive(now_ns) && !another_ && incoming_.address.source != message_.address.source;
  if (!other_source) return true;
  ++counts_.conflicting;
  rival_ = incoming_.address.source;
  return false;
}

bool GooseSubscriber::take(Bytes frame, std::int64_t now_ns) {
  const auto kind = kind_of(frame);
  if (!kind || kind->ethertype != ethertype_goose || kind->appid != followed_.appid) return false;
  if (!decode(frame, incoming_)) {
    ++counts_.malformed;
    return false;
  }
  if (!follows(now_ns)) return false;
  const bool another = std::exchange(another_, false);
  const Order order = another ? Order::restarted : order_of_incoming(now_ns);
  if (order == Order::repeated) return false;
  const bool changes = !heard_ || another || incoming_.state != message_.state;
  if (order == Order::older) {
    ++counts_.regressed;
    doubtful_ = doubtful_ || (changes && now_ns - changed_ns_ > again_ns);
    return false;
  }
  if (order == Order::newer && heard_) {
    if (!changes && incoming_.entries != message_.entries) {
      ++counts_.regressed;
      doubtful_ = true;
      return false;
    }
    count_missing();
    if (!alive(now_ns)) ++counts_.late;
  }
  if (order == Order::restarted && !another) ++counts_.restarts;
  std::swap(message_, incoming_);
  heard_ = true;
  last_ns_ = now_ns;
  if (changes) changed_ns_ = now_ns;
  good_until_ns_ = now_ns + static_cast<std::int64_t>(message_.allowed_ms) * 1'000'000;
  return true;
}

/// Numbers wrap, so that the nearer way tells which is ahead (RFC 1982).
GooseSubscriber::Order GooseSubscriber::order_of_incoming(std::int64_t now_ns) const {
  if (!heard_) return Order::newer;
  const auto states = static_cast<std::int32_t>(incoming_.state - message_.state);
  const auto sequences = static_cast<std::int32_t>(incoming_.sequence - message_.sequence);
  if (states == 0 && sequences == 0) return Order::repeated;
  if (states > 0 || (states == 0 && sequences > 0)) return Order::newer;
  const bool begins =
      incoming_.state == 1 && incoming_.sequence <= 1 && incoming_.changed.utc_ns > message_.changed.utc_ns;
  return begins || !alive(now_ns) ? Order::restarted : Order::older;
}

void GooseSubscriber::count_missing() {
  const std::uint32_t states = incoming_.state - message_.state;
  if (states > 0) {
    counts_.lost += states - 1 + incoming_.sequence;  // a state begins with sequence 0
    return;
  }
  const bool wrapped = incoming_.sequence < message_.sequence;  // 0 is left out then
  counts_.lost += incoming_.sequence - message_.sequence - (wrapped ? 2U : 1U);
}

}  // namespace zavrek::wire
