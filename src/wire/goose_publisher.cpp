#include <algorithm>
#include <array>
#include <utility>

#include "zavrek/wire/goose.hpp"

namespace zavrek::wire {
namespace {

/// A publisher that is an ordinary process may be kept from running for tens of milliseconds; a shorter
/// promise than this would call it dead.
constexpr int least_allowed_ms = 200;

bool same_state(const Datum& a, const Datum& b) noexcept {
  return a == b || (a.kind == Datum::Kind::time && b.kind == Datum::Kind::time);
}

}  // namespace

GoosePublisher::GoosePublisher(Goose message, Repeats repeats)
    : message_(std::move(message)), repeats_(repeats), booleans_(message_.entries.size()) {
  booleans_.reserve(most_goose_entries);
  message_.entries.reserve(most_goose_entries);
}

bool GoosePublisher::changes(std::span<const Datum> entries) const noexcept {
  return !std::equal(entries.begin(), entries.end(), message_.entries.begin(), message_.entries.end(),
                     same_state);
}

void GoosePublisher::poll(Now now, const std::vector<bool>& entries, Link& link) {
  booleans_.resize(entries.size());
  for (std::size_t k = 0; k < entries.size(); ++k) booleans_[k] = Datum::boolean(entries[k]);
  poll(now, booleans_, link);
}

void GoosePublisher::poll(Now now, std::span<const Datum> entries, Link& link) {
  const bool changed = sent_ && changes(entries);
  if (sent_ && !changed && now.steady_ns < due_ns_) return;
  if (!sent_) {
    interval_ms_ = repeats_.first_ms;
  } else if (changed) {
    ++message_.state;
    if (message_.state == 0) message_.state = 1;
    message_.sequence = 0;
    interval_ms_ = repeats_.first_ms;
  } else {
    ++message_.sequence;
    if (message_.sequence == 0) message_.sequence = 1;
    interval_ms_ = std::min(2 * interval_ms_, repeats_.slowest_ms);
  }
  if (changed || !sent_) take(now, entries);
  message_.allowed_ms = static_cast<std::uint32_t>(std::max(2 * interval_ms_, least_allowed_ms));
  std::array<std::uint8_t, longest_frame> frame;
  ++(link.send(Bytes(frame).first(encode(message_, frame))) ? frames_sent_ : frames_unsent_);
  due_ns_ = now.steady_ns + interval_ms_ * 1'000'000LL;
  sent_ = true;
}

void GoosePublisher::take(Now now, std::span<const Datum> entries) {
  message_.changed.utc_ns = static_cast<std::uint64_t>(now.utc_ns);
  message_.entries.assign(entries.begin(), entries.end());
}

void GoosePublisher::restart() noexcept {
  message_.state = 1;
  message_.sequence = 0;
  sent_ = false;
}

void GoosePublisher::describe(std::uint8_t clock_quality, bool simulation,
                              bool needs_commissioning) noexcept {
  message_.changed.quality = clock_quality;
  message_.simulation = message_.address.simulated = simulation;
  message_.needs_commissioning = needs_commissioning;
}

}  // namespace zavrek::wire
