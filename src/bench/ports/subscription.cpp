#include "zavrek/bench/ports/subscription.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/data_set.hpp"
#include "bench/make_port.hpp"
#include "bench/names.hpp"
#include "bench/output_points.hpp"
#include "bench/subscriber.hpp"

namespace zavrek::bench::internal {
namespace {

class SubscriptionPort final : public Port {
 public:
  explicit SubscriptionPort(const Subscription& settings)
      : settings_(settings),
        reader_(settings.entries),
        subscriber_("subscription." + settings.name, settings.name, followed(settings, reader_.entries())) {}

  void declare(Exchange& exchange) override {
    points_.declare(exchange, settings_.name, reader_.points());
    for (const std::string& name : reader_.numbers())
      values_.push_back(exchange.add_value(settings_.name, name, ""));
    accepts_test_ = exchange.add_setting(settings_.name, {"accepts_test", "", 0, 1});
    subscriber_.declare(exchange);
  }
  void wire(Exchange& exchange) override {
    points_.wire(exchange, reader_.points(), settings_.opens, settings_.closes);
    operated_ = points_.operated(exchange);
    const std::vector<std::string>& numbers = reader_.numbers();
    for (const std::string& text : settings_.sets) {
      const auto [what, number] = split_pair(text);
      const auto at = std::find(numbers.begin(), numbers.end(), number) - numbers.begin();
      sets_.push_back({static_cast<std::size_t>(at), exchange.settable_of(what)});
      operated_ += (operated_.empty() ? "" : ", ") + what;
    }
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
  bool by_the_clock() const noexcept override { return true; }
  bool ready() override { return subscriber_.ready(); }
  bool ended() override { return subscriber_.contested(); }
  void take(Exchange& exchange) noexcept override {
    if (subscriber_.take(exchange)) tell(exchange);
    if (!subscriber_.silent() || settings_.when_silent != "off") return;
    for (std::size_t k = 0; k < points_.size(); ++k) points_.tell(exchange, k, false);
  }
  bool well() const noexcept override { return subscriber_.well() || settings_.when_silent != "end"; }
  std::string failure() override {
    return subscriber_.failure(settings_.name, "message", settings_.when_silent == "end");
  }
  std::string medium() const override { return medium_; }
  std::vector<Account> accounts() const override { return {subscriber_.account()}; }
  std::vector<Path> paths() const override {
    return {{"who publishes", fmt::format("subscription {}", settings_.name), operated_, 1, "the wire"}};
  }

 private:
  static wire::Followed followed(const Subscription& settings, std::size_t entries) {
    wire::Followed followed;
    followed.appid = static_cast<std::uint16_t>(settings.appid);
    followed.id = settings.identifier();
    if (!settings.source.empty()) followed.source = wire::parse_mac_address(settings.source);
    if (settings.revision != 0) followed.revision = static_cast<std::uint32_t>(settings.revision);
    followed.least_entries = entries;
    return followed;
  }

  void tell(Exchange& exchange) noexcept {
    const auto point = [&](std::size_t place, bool on) { points_.tell(exchange, place, on); };
    const auto number = [&](std::size_t place, double value) {
      exchange.tell(values_[place], value);
      for (const Set& set : sets_) {
        if (set.number == place) exchange.ask(set.what, value);
      }
    };
    subscriber_.count_unfit(
        reader_.read(subscriber_.message(), exchange.setting(accepts_test_) > 0.5, point, number));
  }

  struct Set {
    std::size_t number;
    AskId what;
  };
  Subscription settings_;
  DataSetReader reader_;
  Subscriber subscriber_;
  OutputPoints points_;
  std::vector<ValueId> values_;
  std::vector<Set> sets_;
  SettingId accepts_test_;
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
  flaws.need_address(place, "source", subscription.source);
  std::vector<EntryText> entries;
  try {
    entries = read_data_set(subscription.entries);
  } catch (const Error& error) {
    flaws.report(place, "entries", error.what());
  }
  flaws.need_commands(place, "opens", subscription.opens, names_in(entries, false));
  flaws.need_commands(place, "closes", subscription.closes, names_in(entries, false));
  for (const std::string& text : subscription.sets)
    flaws.need_one_of(place, "sets", split_pair(text).second, names_in(entries, true), "number");
}

}  // namespace zavrek::bench::internal
