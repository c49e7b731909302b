#include "zavrek/bench/ports/contact_out.hpp"

#include <cmath>

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

class ContactOutPort final : public Port {
 public:
  ContactOutPort(const ContactOut& settings, bool connected)
      : settings_(settings),
        connected_(connected),
        closed_(settings.wetting_V > 0 ? settings.wetting_V : 1) {}

  void declare(Exchange& exchange) override {
    stuck_ = exchange.add_setting(settings_.name, {"stuck", "", 0, 1}, !connected_);
    dead_ = exchange.add_setting(settings_.name, {"dead", "", 0, 1}, !connected_);
  }
  void wire(Exchange& exchange) override {
    for (const std::string& text : settings_.points) {
      const Signed point = signed_point(text);
      contacts_.push_back({exchange.point_of(point.name), point.reversed,
                           Lagging(0, settings_.pickup_time_s, settings_.drop_off_time_s), false});
      contacts_.back().lag.begin(exchange.on(contacts_.back().point) != point.reversed);
    }
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    card_ = &how.cards.join(settings_.card);
    return no_such_channel(settings_, "contact outputs", contacts_.size(), card_->contacts_out.size());
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void give(Exchange& exchange) noexcept override {
    if (!connected_) return;
    const bool stuck = exchange.setting(stuck_) > 0.5, dead = exchange.setting(dead_) > 0.5;
    for (std::size_t k = 0; k < contacts_.size(); ++k) {
      Contact& c = contacts_[k];
      const bool on = c.lag.next(exchange.on(c.point) != c.reversed, exchange.time_s());
      if (!stuck) c.closed = on != bounced(exchange.time_s() - c.lag.changed_s());
      card_->contacts_out[static_cast<std::size_t>(settings_.first_channel) + k] =
          c.closed && !dead ? closed_ : 0;
    }
  }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    Account account;
    account.port = "contact_out." + settings_.name;
    account.carries = fmt::format("{} channels of {}", contacts_.size(), settings_.card);
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    return {{joined(settings_.points), fmt::format("contact_out {}", settings_.name),
             settings_.device.empty() ? joined(settings_.terminals) : settings_.device, 1,
             settings_.pickup_time_s > 0 ? fmt::format("{:.3g} ms of pickup", 1e3 * settings_.pickup_time_s)
                                         : std::string()}};
  }

 private:
  struct Contact {
    PointId point;
    bool reversed;
    Lagging lag;
    bool closed;
  };
  /// Whether it is away from where it moved, so long behind.
  [[nodiscard]] bool bounced(double since_s) const noexcept {
    if (settings_.bounces == 0 || since_s >= 2 * settings_.bounces * settings_.bounce_s) return false;
    return static_cast<long long>(since_s / settings_.bounce_s) % 2 == 1;
  }

  ContactOut settings_;
  bool connected_;
  double closed_;  // what stands at a closed one
  std::vector<Contact> contacts_;
  SettingId stuck_, dead_;
  Cards::Opened* card_ = nullptr;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const ContactOut& settings, const RunPlan& plan) {
  return std::make_unique<ContactOutPort>(settings, plan.place.empty());
}

template <>
void check(const ContactOut& settings, Flaws& flaws) {
  const std::string place = "contact_out." + settings.name;
  check_terminals(settings, place, settings.points.size(), flaws);
  for (const std::string& text : settings.points) {
    const Signed point = signed_point(text);
    flaws.need_point(place, "points", point.name);
    if (point.reversed && !settings.device.empty())
      flaws.report(
          place, "points",
          fmt::format("\"{}\" feeds no device; invert it in the settings of {}", text, settings.device));
  }
  check_inputs_of(settings.device, settings.inputs, settings.points.size(), place, flaws);
}

}  // namespace zavrek::bench::internal
