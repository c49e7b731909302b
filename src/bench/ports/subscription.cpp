#include "zavrek/bench/ports/subscription.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "bench/subscriber.hpp"

namespace zavrek::bench::internal {
namespace {

class SubscriptionPort final : public Port {
 public:
  explicit SubscriptionPort(const Subscription& settings)
      : settings_(settings),
        subscriber_("subscription." + settings.name, settings.identifier(), settings.appid) {}

  void declare(Exchange& exchange) override { points_.declare(exchange, settings_.name, settings_.entries); }
  void wire(Exchange& exchange) override {
    points_.wire(exchange, settings_.entries, settings_.opens, settings_.closes);
    operated_ = points_.operated(exchange);
  }
  std::string open(const Opening& how) override {
    subscriber_.open(how.frames);
    medium_ = how.frames.description();
    return {};
  }
  bool ready() override { return subscriber_.heard(); }
  void take(Exchange& exchange) noexcept override { subscriber_.tell(exchange, points_); }
  bool well() const noexcept override { return subscriber_.well(); }
  std::string failure() override {
    if (subscriber_.heard() && subscriber_.well()) return {};
    return fmt::format("no message from {} since {:.3f} s", settings_.name, subscriber_.last_heard_s());
  }
  std::string medium() const override { return medium_; }
  std::optional<Account> account() const override { return subscriber_.account(); }
  std::vector<Path> paths() const override {
    return {{"who publishes", fmt::format("subscription {}", settings_.name), operated_, 1, "the wire"}};
  }

 private:
  Subscription settings_;
  Subscriber subscriber_;
  OutputPoints points_;
  std::string medium_, operated_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Subscription& subscription, const RunPlan&) {
  return std::make_unique<SubscriptionPort>(subscription);
}

template <>
void check(const Subscription& subscription, Flaws& flaws) {
  const std::string place = "subscription." + subscription.name;
  if (subscription.entries.empty() || subscription.entries.size() > wire::most_goose_entries)
    flaws.report(place, "entries", fmt::format("1 to {} names are wanted", wire::most_goose_entries));
  flaws.need_commands(place, "opens", subscription.opens, subscription.entries);
  flaws.need_commands(place, "closes", subscription.closes, subscription.entries);
}

}  // namespace zavrek::bench::internal
