#include "bench/subscriber.hpp"

#include <utility>

#include <fmt/format.h>

#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

/// A time stamp further from now than this is of another clock, and tells nothing of the delay.
constexpr std::int64_t another_clock_ns = 10'000'000'000;

constexpr PortSetting accepts_simulated{"accepts_simulated", "", 0, 1};

}  // namespace

Subscriber::Subscriber(std::string port, std::string owner, wire::Followed followed)
    : owner_(std::move(owner)), appid_(followed.appid), subscriber_(std::move(followed)) {
  account_.port = std::move(port);
  account_.carries = fmt::format("GOOSE {:#06x} in", appid_);
  account_.delay_of = "from a message's time stamp to the step that reads it";
}

void Subscriber::declare(Exchange& exchange) {
  way_.declare(exchange, owner_);
  accepts_simulated_ = exchange.add_setting(owner_, accepts_simulated);
}

void Subscriber::declare_idle(Exchange& exchange, const std::string& owner) {
  (void)Way::declare_settings(exchange, owner, true);
  (void)exchange.add_setting(owner, accepts_simulated, true);
}

void Subscriber::take_frame(wire::Bytes frame, std::int64_t now_ns) noexcept {
  const auto kind = wire::kind_of(frame);
  if (!kind || kind->ethertype != wire::ethertype_goose || kind->appid != appid_) return;
  way_.pass(frame, now_ns, [&](wire::Bytes passed) { follow(passed, now_ns); });
}

void Subscriber::follow(wire::Bytes frame, std::int64_t now_ns) noexcept {
  const std::uint32_t state = subscriber_.message().state;
  const bool first = !subscriber_.heard();  // it may be as old as the publisher
  if (!subscriber_.take(frame, now_ns)) return;
  news_ = true;
  ++account_.received;
  const std::int64_t delay_ns =
      pace::utc_ns() - static_cast<std::int64_t>(subscriber_.message().changed.utc_ns);
  const bool changed = !first && subscriber_.message().state != state;
  if (changed && delay_ns >= 0 && delay_ns < another_clock_ns) account_.delay.add(delay_ns);
}

Account Subscriber::account() const {
  Account account = account_;
  const wire::GooseSubscriber::Counts& counts = subscriber_.counts();
  account.malformed = counts.malformed;
  account.foreign = counts.foreign;
  account.refused = counts.refused;
  account.unfit = counts.unfit + unfit_entries_;
  account.conflicting = counts.conflicting;
  account.regressed = counts.regressed;
  account.lost = counts.lost;
  account.late = counts.late;
  account.restarts = counts.restarts;
  account.spoiled = way_.spoiled();
  return account;
}

bool Subscriber::ready() noexcept {
  contested_ = subscriber_.counts().conflicting > 0;
  return subscriber_.heard() && !contested_;
}

std::string Subscriber::failure(const std::string& name, const char* what, bool must_speak) const {
  if (contested_)
    return fmt::format("somebody else publishes as {} from {}; end it, or choose another appid", name,
                       wire::to_string(subscriber_.rival()));
  if (!subscriber_.heard()) {
    const long long unfit = subscriber_.counts().unfit;
    return unfit == 0 ? fmt::format("no {} from {} at the start", what, name)
                      : fmt::format(
                            "no {} from {} that fits at the start: {} needed commissioning, or were "
                            "of another revision or data set",
                            what, name, unfit);
  }
  if (must_speak && !well()) return fmt::format("no {} from {} since {:.3f} s", what, name, last_heard_s_);
  if (subscriber_.doubtful())
    return fmt::format(
        "messages of {} went back without a restart: somebody else publishes under its address {}", name,
        wire::to_string(subscriber_.message().address.source));
  return {};
}

bool Subscriber::take(const Exchange& exchange) noexcept {
  const std::int64_t now_ns = exchange.now_ns();
  subscriber_.accept_simulated(exchange.setting(accepts_simulated_) > 0.5);
  if (way_.look(exchange)) way_.release(now_ns, [&](wire::Bytes frame) { follow(frame, now_ns); });
  const bool news = std::exchange(news_, false);
  if (news) last_heard_s_ = exchange.time_s();
  silent_ = subscriber_.heard() && !subscriber_.alive(now_ns);
  return news;
}

}  // namespace zavrek::bench::internal
