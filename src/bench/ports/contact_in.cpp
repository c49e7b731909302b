#include "zavrek/bench/ports/contact_in.hpp"

#include <fmt/format.h>

#include "bench/at_terminals.hpp"
#include "bench/channels.hpp"
#include "bench/output_points.hpp"
#include "zavrek/bench/cards.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double drops_below = 0.9;  // of the threshold

class ContactInPort final : public Port {
 public:
  ContactInPort(const ContactIn& settings, bool connected)
      : settings_(settings),
        connected_(connected),
        threshold_(settings.threshold * (settings.wetting_V > 0 ? settings.wetting_V : 1)),
        lines_(settings.points.size(),
               {false, Lagging(settings.debounce_s, settings.pickup_time_s, settings.drop_off_time_s)}) {
    for (Line& line : lines_) line.lag.begin(settings.inverted);
  }

  void declare(Exchange& exchange) override {
    points_.declare(exchange, settings_.name, settings_.points);
    stuck_ = exchange.add_setting(settings_.name, {"stuck", "", 0, 1}, !connected_);
    dead_ = exchange.add_setting(settings_.name, {"dead", "", 0, 1}, !connected_);
  }
  void wire(Exchange& exchange) override {
    points_.wire(exchange, settings_.points, settings_.opens, settings_.closes);
    operated_ = points_.operated(exchange);
  }
  std::string open(const Opening& how) override {
    if (!connected_) return {};
    card_ = &how.cards.join(settings_.card);
    return no_such_channel(settings_, "contact inputs", lines_.size(), card_->contacts_in.size());
  }
  bool each_step() const noexcept override { return connected_; }
  bool by_the_clock() const noexcept override { return connected_; }
  void take(Exchange& exchange) noexcept override {
    if (!connected_ || exchange.setting(stuck_) > 0.5) return;
    const bool dead = exchange.setting(dead_) > 0.5;
    for (std::size_t k = 0; k < lines_.size(); ++k) {
      Line& line = lines_[k];
      const double there =
          dead ? 0 : card_->contacts_in[static_cast<std::size_t>(settings_.first_channel) + k];
      line.closed = there >= (line.closed ? drops_below : 1) * threshold_;
      points_.tell(exchange, k, line.lag.next(line.closed != settings_.inverted, exchange.time_s()));
    }
  }
  std::vector<Account> accounts() const override {
    if (!connected_) return {};
    Account account;
    account.port = "contact_in." + settings_.name;
    account.carries = fmt::format("{} channels of {}", lines_.size(), settings_.card);
    return {account};
  }
  std::vector<Path> paths() const override {
    if (!connected_) return {};
    const double late_s = settings_.debounce_s + settings_.pickup_time_s;
    return {{settings_.device.empty() ? joined(settings_.terminals) : settings_.device,
             fmt::format("contact_in {}", settings_.name), operated_, 1,
             late_s > 0 ? fmt::format("{:.3g} ms of debouncing and pickup", 1e3 * late_s) : std::string()}};
  }

 private:
  struct Line {
    bool closed;
    Lagging lag;
  };
  ContactIn settings_;
  bool connected_;
  double threshold_;
  std::vector<Line> lines_;
  OutputPoints points_;
  SettingId stuck_, dead_;
  Cards::Opened* card_ = nullptr;
  std::string operated_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const ContactIn& settings, const RunPlan& plan) {
  return std::make_unique<ContactInPort>(settings, plan.place.empty());
}

template <>
void check(const ContactIn& settings, Flaws& flaws) {
  const std::string place = "contact_in." + settings.name;
  check_terminals(settings, place, settings.points.size(), flaws);
  flaws.need_commands(place, "opens", settings.opens, settings.points);
  flaws.need_commands(place, "closes", settings.closes, settings.points);
  if (const Device* device = flaws.setup.bench.find_device(settings.device)) {
    for (const std::string& point : settings.points)
      flaws.need_one_of(place, "points", point, protection::outputs_of(device->relay), "output");
  }
}

}  // namespace zavrek::bench::internal
