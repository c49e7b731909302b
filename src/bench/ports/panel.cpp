#include "zavrek/bench/ports/panel.hpp"

#include <fmt/format.h>

#include "bench/make_port.hpp"
#include "bench/names.hpp"
#include "bench/subscriber.hpp"

namespace zavrek::bench::internal {
namespace {

wire::Followed followed_as(const Panel& panel) {
  wire::Followed followed;
  followed.appid = static_cast<std::uint16_t>(panel.appid);
  followed.id = panel.name;
  followed.least_entries = panel.switches.size();
  return followed;
}

class PanelPort final : public Port {
 public:
  PanelPort(const Panel& settings, bool connected, std::unique_ptr<Port> lamps)
      : settings_(settings),
        connected_(connected),
        lamps_(std::move(lamps)),
        subscriber_("panel." + settings.name, settings.name, followed_as(settings)) {}

  void declare(Exchange& exchange) override {
    if (connected_)
      subscriber_.declare(exchange);
    else
      Subscriber::declare_idle(exchange, settings_.name);
    if (lamps_) lamps_->declare(exchange);
  }
  void wire(Exchange& exchange) override {
    for (const std::string& name : settings_.switches)
      contacts_.push_back(exchange.ask_of(std::string(contact_prefix) + name));
    states_.assign(contacts_.size(), -1);
    if (lamps_) lamps_->wire(exchange);
  }
  std::vector<wire::Identity> identities() const override {
    if (!connected_) return {};
    std::vector<wire::Identity> all{
        {wire::ethertype_goose, static_cast<std::uint16_t>(settings_.appid), settings_.name, true}};
    if (!lamps_) return all;
    for (wire::Identity& one : lamps_->identities()) all.push_back(std::move(one));
    return all;
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    subscriber_.open(how.frames);
    medium_ = how.frames.description();
    return lamps_ ? lamps_->open(how) : std::string();
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void take(Exchange& exchange) noexcept override {
    if (lamps_) lamps_->take(exchange);
    if (!connected_ || !subscriber_.take(exchange)) return;
    const wire::Goose& message = subscriber_.message();
    for (std::size_t k = 0; k < contacts_.size(); ++k) {
      const char is = message.on(k) ? 1 : 0;
      if (std::exchange(states_[k], is) != is) exchange.ask(contacts_[k], is);
    }
  }
  void give(Exchange& exchange) noexcept override {
    if (lamps_) lamps_->give(exchange);
  }
  void end() override {
    if (lamps_) lamps_->end();
  }
  bool ended() override { return connected_ && subscriber_.contested(); }
  /// One that is not there is nothing wrong.
  std::string failure() override {
    return ended() ? subscriber_.failure(settings_.name, "message", false) : std::string();
  }
  std::string medium() const override { return medium_; }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    std::vector<Account> all{subscriber_.account()};
    if (!lamps_) return all;
    for (Account& one : lamps_->accounts()) all.push_back(std::move(one));
    return all;
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    return {{"people", "panel " + settings_.name, "contacts of the bench", 1, "the wire"}};
  }

 private:
  Panel settings_;
  bool connected_;
  std::unique_ptr<Port> lamps_;
  Subscriber subscriber_;
  std::vector<AskId> contacts_;
  std::vector<char> states_;  // as the panel told last; -1: nothing yet
  std::string medium_;
};

}  // namespace

/// Nobody is there in a run without a wire.
template <>
std::unique_ptr<Port> make_port(const Panel& panel, const RunPlan& plan) {
  const bool connected = plan.place.empty();
  std::unique_ptr<Port> lamps;
  if (connected && !panel.lamps.empty()) {
    Message message;
    message.name = panel.name + "/lamps";
    message.entries = panel.lamps;
    message.appid = panel.lamps_appid;
    lamps = make_port(message, plan);
  }
  return std::make_unique<PanelPort>(panel, connected, std::move(lamps));
}

template <>
void check(const Panel& panel, Flaws& flaws) {
  const std::string place = "panel." + panel.name;
  for (const std::string& name : panel.switches)
    flaws.need_one_of(place, "switches", std::string(contact_prefix) + name, contacts_of(flaws.setup.bench),
                      "contact");
  for (const std::string& lamp : panel.lamps) flaws.need_point(place, "lamps", lamp);
  if (panel.appid == panel.lamps_appid)
    flaws.report(place, "lamps_appid", "is its own appid; choose another");
}

}  // namespace zavrek::bench::internal
