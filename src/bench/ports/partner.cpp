// A partner: what stands at the end of each step goes to it, what stood at the end of its own enters the step
// to come. Who waits looks again and again for some steps, then sleeps between looks, so that the kernel does
// not stop it (pace/realtime.cpp).
#include "zavrek/bench/ports/partner.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <optional>
#include <thread>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "bench/make_port.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/partner.hpp"

namespace zavrek::bench::internal {
namespace {

/// Who leads rests 60 us of each millisecond where the kernel would stop it else (pace/executive.cpp): who
/// follows sleeps at the same time, once a tick is late.
constexpr std::int64_t late_ns = 10'000;
constexpr std::chrono::microseconds nap{40};

/// What a cut says and hears, by its kind; nothing where it is none.
struct CutNames {
  std::vector<std::string> says, hears;
};
CutNames names_of_cut(const network::Network& network, const std::string& name) {
  CutNames names;
  const network::Element* element = network.find_element(name);
  if (!element) return names;
  const auto add = [&](std::vector<std::string>& into, const std::string& bus, const std::string& stem) {
    for (const char letter : network.find_bus(bus)->phases) into.push_back(stem + letter);
  };
  if (const auto* end = std::get_if<network::LineEnd>(element)) {
    add(names.says, end->bus, name + ".leaving_");
    add(names.says, end->bus, name + ".left_");
    add(names.hears, end->bus, name + ".arriving_");
    add(names.hears, end->bus, name + ".arrived_");
  } else if (const auto* current = std::get_if<network::ImposedCurrent>(element)) {
    add(names.says, current->bus, current->bus + ".v");
    add(names.hears, current->bus, name + ".");
  } else if (const auto* voltage = std::get_if<network::ImposedVoltage>(element)) {
    add(names.says, voltage->bus, name + ".i");
    add(names.hears, voltage->bus, name + ".");
  }
  return names;
}

class PartnerPort final : public Port {
 public:
  PartnerPort(const Partner& settings, const Setup& setup) : settings_(settings) {
    for (const std::string& cut : settings.cuts) {
      const CutNames names = names_of_cut(setup.network, cut);
      says_.insert(says_.end(), names.says.begin(), names.says.end());
      hears_.insert(hears_.end(), names.hears.begin(), names.hears.end());
    }
    says_.insert(says_.end(), settings.shows.begin(), settings.shows.end());
    hears_.insert(hears_.end(), settings.takes.begin(), settings.takes.end());
  }

  void declare(Exchange& exchange) override {
    round_trip_ = exchange.add_value(settings_.name, "round_trip", "s");
    waited_ = exchange.add_value(settings_.name, "waited", "s");
    linked_ = exchange.add_output(settings_.name, "linked");
  }
  void wire(Exchange& exchange) override {
    for (const std::string& name : says_) {
      if (const auto point = exchange.knows_value(name) ? std::nullopt : point_of(exchange, name))
        points_.push_back({values_.size() + points_.size(), *point});
      else
        values_.push_back(exchange.value_of(name));
    }
    for (const std::string& name : hears_) asks_.push_back({exchange.ask_of(name)});
    said_.resize(says_.size());
    step_s_ = exchange.step_s();
    looks_for_ns_ = late_ns + std::llround(1e9 * step_s_);
  }
  std::string open(const Opening& how) override {
    try {
      const std::string& meeting = settings_.meeting.empty() ? settings_.name : settings_.meeting;
      way_ = settings_.over == "memory" ? wire::make_partner_memory(meeting, settings_.leads)
             : settings_.over == "datagrams"
                 ? wire::make_partner_datagrams(settings_.own, settings_.other)
                 : wire::make_partner_frames(how.frames.interface(), how.frames.medium(), settings_.channel);
    } catch (const Error& error) {
      return fmt::format("partner.{}: {}", settings_.name, error.what());
    }
    std::string names;
    for (const std::string& name : says_) names += name + "\n";
    talk_.emplace(*way_, wire::PartnerSettings{.leads = settings_.leads,
                                               .step_s = step_s_,
                                               .says = says_.size(),
                                               .hears = hears_.size(),
                                               .names = names,
                                               .delay = settings_.delay,
                                               .silence_s = settings_.silence_s});
    return {};
  }
  double patience_s() const noexcept override { return settings_.waits_s; }
  bool ready() override { return talk_ && talk_->met() && talk_->failure().empty(); }
  bool ended() override { return talk_ && (!talk_->failure().empty() || talk_->left()); }
  std::int64_t waited_ns() const noexcept override { return settings_.leads ? waited_ns_ : 0; }
  bool gives_pace() const noexcept override { return !settings_.leads; }
  int processor() const noexcept override {
    return settings_.processor >= 0 ? settings_.processor : settings_.leads ? -1 : -2;
  }
  void begin(Exchange& exchange) override {
    begun_ = true;
    exchange.tell(linked_, true);
    say(exchange);
  }
  bool await(Exchange& exchange) noexcept override {
    const std::int64_t begun = exchange.now_ns();
    const std::int64_t wanted = steps_ + 1 - settings_.delay;
    std::int64_t now = begun;
    while (wanted >= 0 && !talk_->look(wanted, exchange.now())) {
      now = exchange.now_ns();
      if (now - begun > looks_for_ns_) std::this_thread::sleep_for(nap);
    }
    waited_ns_ = std::max(waited_ns_, now - begun);
    return talk_->failure().empty() && (wanted < 0 || talk_->has(wanted));
  }
  void take(Exchange& exchange) noexcept override {
    if (!talk_) return;
    if (!begun_) return talk_->meet(exchange.now());
    waited_ns_ = 0;
    if (!await(exchange)) {
      if (well_) exchange.tell(linked_, false);
      well_ = false;
      return;
    }
    if (const std::int64_t wanted = steps_ + 1 - settings_.delay; wanted >= 0) {
      const std::span<const double> heard = talk_->heard(wanted);
      for (std::size_t k = 0; k < asks_.size(); ++k) {
        if (asks_[k].is != heard[k]) (void)exchange.ask(asks_[k].what, heard[k]);
        asks_[k].is = heard[k];
      }
    }
    exchange.tell(waited_, 1e-9 * static_cast<double>(waited_ns_));
    if (const auto round_trip = talk_->take_round_trip()) {
      delay_.add(*round_trip);
      exchange.tell(round_trip_, 1e-9 * static_cast<double>(*round_trip));
    }
  }
  void give(Exchange& exchange) noexcept override {
    if (!begun_ || !well_) return;
    ++steps_;
    say(exchange);
  }
  bool well() const noexcept override { return well_; }
  void end() override {
    if (!talk_ || ended_) return;
    ended_ = true;
    const auto now = [] {
      const auto since = [](auto clock) {
        return std::chrono::duration_cast<std::chrono::nanoseconds>(clock.time_since_epoch()).count();
      };
      return wire::Now{since(std::chrono::steady_clock::now()), since(std::chrono::system_clock::now())};
    };
    talk_->end(talk_->failure().empty() ? std::string() : "it heard that this side " + talk_->failure(),
               now());
    while (begun_ && talk_->linger(now())) std::this_thread::sleep_for(nap);
  }
  std::string failure() override {
    const std::string of = fmt::format("partner.{}: the partner ", settings_.name);
    if (!talk_) return {};
    if (!talk_->failure().empty())
      return of + talk_->failure() + (begun_ ? fmt::format(" (t = {:.6g} s)", time_s()) : std::string());
    if (!talk_->met())
      return of + fmt::format("did not come within {} ({})", print_quantity(settings_.waits_s, "s"),
                              way_->description());
    if (!well_) return of + fmt::format("ended its run in order, at {:.6g} s", time_s());
    return {};
  }
  std::string medium() const override { return way_ ? way_->description() : std::string(); }
  std::vector<Account> accounts() const override {
    if (!talk_) return {};
    const wire::PartnerTalk::Counts& counts = talk_->counts();
    Account account;
    account.port = "partner." + settings_.name;
    account.carries = fmt::format(
        "{}; {}; {} values out, {} in; {} of {} steps out of count, to its step and "
        "back {} steps",
        settings_.leads ? "leads" : "follows", way_->description(), says_.size(), hears_.size(),
        static_cast<long long>(counts.off), steps_, 2 * settings_.delay);
    account.sent = counts.sent;
    account.unsent = counts.unsent;
    account.received = counts.received;
    account.lost = counts.lost;
    account.malformed = counts.malformed;
    account.foreign = counts.foreign;
    account.delay_of = "to the partner's bench and back";
    account.delay = delay_;
    return {account};
  }
  std::vector<Path> paths() const override {
    const auto listed = [](const std::vector<std::string>& names) {
      return names.size() <= 3 ? fmt::format("{}", fmt::join(names, ", "))
                               : fmt::format("{} ... {}", names.front(), names.back());
    };
    const std::string by = "partner " + settings_.name;
    std::vector<Path> all;
    if (!says_.empty())
      all.push_back({listed(says_), by, "its step", static_cast<double>(settings_.delay), ""});
    if (!hears_.empty())
      all.push_back({"its step", by, listed(hears_), static_cast<double>(settings_.delay), ""});
    return all;
  }

 private:
  [[nodiscard]] static std::optional<PointId> point_of(Exchange& exchange, const std::string& name) {
    try {
      return exchange.point_of(name);
    } catch (const Error&) {
      return std::nullopt;
    }
  }
  [[nodiscard]] double time_s() const { return static_cast<double>(steps_) * step_s_; }
  void say(Exchange& exchange) noexcept {
    std::size_t point = 0, value = 0;
    for (std::size_t k = 0; k < said_.size(); ++k) {
      const bool is_point = point < points_.size() && points_[point].at == k;
      said_[k] = is_point ? (exchange.on(points_[point++].what) ? 1 : 0) : exchange.latest(values_[value++]);
    }
    talk_->say(steps_, steps_ < settings_.delay ? -1 : steps_ - settings_.delay, said_, exchange.now());
  }

  Partner settings_;
  std::vector<std::string> says_, hears_;
  std::vector<ValueId> values_;
  struct ShownPoint {
    std::size_t at;  // among all that is said
    PointId what;
  };
  struct Told {
    AskId what;
    double is = NAN;
  };
  std::vector<ShownPoint> points_;
  std::vector<Told> asks_;
  std::vector<double> said_;
  ValueId round_trip_, waited_;
  PointId linked_;
  std::unique_ptr<wire::PartnerWay> way_;
  std::optional<wire::PartnerTalk> talk_;
  pace::Histogram delay_;
  double step_s_ = 0;
  std::int64_t steps_ = 0;  // done
  std::int64_t waited_ns_ = 0, looks_for_ns_ = 0;
  bool begun_ = false, well_ = true, ended_ = false;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Partner& settings, const RunPlan& plan) {
  return std::make_unique<PartnerPort>(settings, plan.setup);
}

template <>
void check(const Partner& settings, Flaws& flaws) {
  const std::string place = "partner." + settings.name;
  std::size_t says = settings.shows.size(), hears = settings.takes.size();
  for (const std::string& cut : settings.cuts) {
    flaws.need_one_of(place, "cuts", cut,
                      flaws.elements_of<network::LineEnd, network::ImposedCurrent, network::ImposedVoltage>(),
                      "line_end, imposed_current or imposed_voltage");
    const CutNames names = names_of_cut(flaws.setup.network, cut);
    says += names.says.size();
    hears += names.hears.size();
    const network::Element* element = flaws.setup.network.find_element(cut);
    const auto* end = element ? std::get_if<network::LineEnd>(element) : nullptr;
    if (end && end->delay_steps != settings.delay)
      flaws.report(place, "delay",
                   fmt::format("is {} here and {} at line_end.{}; they are the same", settings.delay,
                               end->delay_steps, cut));
  }
  if (says + hears == 0) flaws.report(place, "cuts", "nothing is said or heard; name cuts, shows or takes");
  if (std::max(says, hears) > wire::most_partner_values)
    flaws.report(
        place, "shows",
        fmt::format("{} values one way; {} have room", std::max(says, hears), wire::most_partner_values));
  if (settings.over != "datagrams") return;
  for (const auto& [field, text] : {std::pair{"own", &settings.own}, std::pair{"other", &settings.other}}) {
    if (text->empty())
      flaws.report(place, field, "missing; over datagrams both sides have an address and a port");
  }
}

}  // namespace zavrek::bench::internal
