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
        subscriber_("subscription." + settings.name, settings.identifier(), settings.appid, settings.source) {
  }

  void declare(Exchange& exchange) override { points_.declare(exchange, settings_.name, settings_.entries); }
  void wire(Exchange& exchange) override {
    points_.wire(exchange, settings_.entries, settings_.opens, settings_.closes);
    operated_ = points_.operated(exchange);
  }
  std::vector<wire::Identity> identities() const override {
    return {
        {wire::ethertype_goose, static_cast<std::uint16_t>(settings_.appid), settings_.identifier(), true}};
  }
  std::string open(const Opening& how) override {
    subscriber_.open(how.frames);
    medium_ = how.frames.description();
    return {};
  }
  bool ready() override { return subscriber_.ready(); }
  bool ended() override { return subscriber_.contested(); }
  void take(Exchange& exchange) noexcept override { subscriber_.tell(exchange, points_); }
  bool well() const noexcept override { return subscriber_.well(); }
  std::string failure() override { return subscriber_.failure(settings_.name); }
  std::string medium() const override { return medium_; }
  std::vector<Account> accounts() const override { return {subscriber_.account()}; }
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
  flaws.need_address(place, "source", subscription.source);
  flaws.need_commands(place, "opens", subscription.opens, subscription.entries);
  flaws.need_commands(place, "closes", subscription.closes, subscription.entries);
}

}  // namespace zavrek::bench::internal
