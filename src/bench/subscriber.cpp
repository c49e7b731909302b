#include "bench/subscriber.hpp"

#include <optional>
#include <utility>

#include <fmt/format.h>

#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

/// A time stamp further from now than this is of another clock, and tells nothing of the delay.
constexpr std::int64_t another_clock_ns = 10'000'000'000;

std::optional<wire::MacAddress> address_in(const std::string& text) {
  if (text.empty()) return std::nullopt;
  return wire::parse_mac_address(text);
}

}  // namespace

Subscriber::Subscriber(std::string port, const std::string& id, int appid, const std::string& source)
    : appid_(static_cast<std::uint16_t>(appid)), subscriber_(appid_, id, address_in(source)) {
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
  const wire::GooseSubscriber::Counts& counts = subscriber_.counts();
  account_.malformed = counts.malformed;
  account_.foreign = counts.foreign;
  account_.refused = counts.refused;
  account_.conflicting = counts.conflicting;
  account_.regressed = counts.regressed;
  account_.lost = counts.lost;
  account_.late = counts.late;
  account_.restarts = counts.restarts;
}

bool Subscriber::ready() noexcept {
  contested_ = subscriber_.counts().conflicting > 0;
  return subscriber_.heard() && !contested_;
}

std::string Subscriber::failure(const std::string& name, const char* what) const {
  if (contested_)
    return fmt::format("somebody else publishes as {} from {}; end it, or choose another appid", name,
                       wire::to_string(subscriber_.rival()));
  if (!subscriber_.heard()) return fmt::format("no {} from {} at the start", what, name);
  if (!well()) return fmt::format("no {} from {} since {:.3f} s", what, name, last_heard_s_);
  if (subscriber_.doubtful())
    return fmt::format(
        "messages of {} went back without a restart: somebody else publishes under its address {}", name,
        wire::to_string(subscriber_.message().address.source));
  return {};
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
