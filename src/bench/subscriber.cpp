#include "bench/subscriber.hpp"

#include <fmt/format.h>

#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

/// A time stamp further from now than this is of another clock, and tells nothing of the delay.
constexpr std::int64_t another_clock_ns = 10'000'000'000;

}  // namespace

Subscriber::Subscriber(std::string port, const std::string& id, int appid)
    : subscriber_(static_cast<std::uint16_t>(appid), id) {
  account_.port = std::move(port);
  account_.carries = fmt::format("GOOSE {:#06x} in", appid);
  account_.delay_of = "from a message's time stamp to the step that reads it";
}

void Subscriber::take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept {
  const std::uint32_t state = subscriber_.message().state;
  const bool first = !subscriber_.heard();  // it may be as old as the publisher
  if (subscriber_.take(frame, now_ns)) {
    news_ = true;
    ++account_.received;
    const std::int64_t delay_ns = pace::utc_ns() - static_cast<std::int64_t>(subscriber_.message().time_ns);
    const bool changed = !first && subscriber_.message().state != state;
    if (changed && delay_ns >= 0 && delay_ns < another_clock_ns) account_.delay.add(delay_ns);
  }
  account_.malformed = subscriber_.malformed();
  account_.foreign = subscriber_.foreign();
  account_.refused = subscriber_.refused();
}

void Subscriber::tell(Exchange& exchange, const OutputPoints& points) noexcept {
  if (std::exchange(news_, false)) {
    last_heard_s_ = exchange.time_s();
    const auto& entries = subscriber_.message().entries;
    for (std::size_t k = 0; k < points.size(); ++k)
      points.tell(exchange, k, k < entries.size() && entries[k]);
  }
  silent_ = subscriber_.heard() && !subscriber_.alive(exchange.now_ns());
}

}  // namespace zavrek::bench::internal
