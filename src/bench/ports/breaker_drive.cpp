// The drive of a breaker. A coil that is energised long enough moves the contacts once, after its time; a
// trip that comes while they close opens them as soon as they have (IEC 62271-100: trip-free, anti-pumping).
#include "zavrek/bench/ports/breaker_drive.hpp"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "bench/channels.hpp"
#include "bench/make_port.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr double never = INFINITY;

class BreakerDrivePort final : public Port {
 public:
  explicit BreakerDrivePort(const BreakerDrive& settings)
      : settings_(settings),
        trip_(settings.coil_time_s, 0, 0),
        close_(settings.coil_time_s, 0, 0),
        a_(0, settings.a_lag_s, settings.a_lag_s),
        b_(0, settings.b_lag_s, settings.b_lag_s) {}

  void declare(Exchange& exchange) override {
    a_point_ = exchange.add_output(settings_.name, "a");
    b_point_ = exchange.add_output(settings_.name, "b");
    charged_point_ = exchange.add_output(settings_.name, "charged");
    stuck_ = exchange.add_setting(settings_.name, {"stuck", "", 0, 1});
    late_ = exchange.add_setting(settings_.name, {"late", "s", 0, 10});
    empty_ = exchange.add_setting(settings_.name, {"empty", "", 0, 1});
  }
  void wire(Exchange& exchange) override {
    position_ = exchange.point_of(settings_.breaker);
    operated_ = exchange.operable_of(settings_.breaker);
    for (const auto& [texts, points] :
         {std::pair{&settings_.opens, &opens_}, std::pair{&settings_.closes, &closes_},
          std::pair{&settings_.interlocks, &interlocks_}}) {
      for (const std::string& text : *texts) {
        const Signed point = signed_point(text);
        points->push_back({exchange.point_of(point.name), point.reversed});
      }
    }
    closed_ = position_was_ = exchange.on(position_);
    a_.begin(closed_);
    b_.begin(!closed_);
    exchange.show_only(a_point_, closed_);
    exchange.show_only(b_point_, !closed_);
    exchange.show_only(charged_point_, true);
  }

  void take(Exchange& exchange) noexcept override {
    const double now = exchange.time_s();
    const bool trips = trip_.next(any_of(exchange, opens_), now);
    const bool closes = close_.next(any_of(exchange, closes_), now);
    follow(exchange);
    if (trips && open_due_ == never && (closed_ || close_due_ != never)) begin_to_open(exchange, now);
    if (now >= open_due_) {
      open_due_ = never;
      move(exchange, false);
    }
    if (closes && !wanted_) begin_to_close(exchange, trips, now);
    wanted_ = closes;
    if (now >= close_due_) {
      close_due_ = never;
      move(exchange, true);
    }
    if (!charged_ && exchange.setting(empty_) > 0.5) charged_due_ = now + settings_.charging_time_s;
    if (!charged_ && now >= charged_due_) charged_ = true;
    tell(exchange, a_point_, a_.next(closed_, now));
    tell(exchange, b_point_, b_.next(!closed_, now));
    tell(exchange, charged_point_, charged_);
  }

  void visit_state(StateArchive& archive) override {
    archive(trip_, close_, a_, b_, closed_, position_was_, charged_, wanted_, open_due_, close_due_,
            charged_due_, opened_, closings_, refused_);
  }
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "breaker_drive." + settings_.name;
    account.carries = fmt::format("{}: opened {}, closed {} times", settings_.breaker, opened_, closings_);
    account.refused = refused_;
    return {account};
  }
  std::vector<Path> paths() const override {
    return {{"coils", "breaker_drive " + settings_.name, settings_.breaker, 1,
             fmt::format("{:.3g} ms to open, {:.3g} ms to close", 1e3 * settings_.opening_time_s,
                         1e3 * settings_.closing_time_s)}};
  }

 private:
  struct Contact {
    PointId point;
    bool reversed;
  };
  static bool holds(const Exchange& exchange, const Contact& contact) noexcept {
    return exchange.on(contact.point) != contact.reversed;
  }
  static bool any_of(const Exchange& exchange, const std::vector<Contact>& contacts) noexcept {
    return std::any_of(contacts.begin(), contacts.end(),
                       [&](const Contact& one) { return holds(exchange, one); });
  }
  static void tell(Exchange& exchange, PointId point, bool on) noexcept {
    if (exchange.on(point) != on) exchange.tell(point, on);
  }
  /// Where somebody else operated the breaker.
  void follow(const Exchange& exchange) noexcept {
    const bool is = exchange.on(position_);
    if (is != position_was_) closed_ = is;
    position_was_ = is;
  }
  /// Not ahead of a closing that is under way.
  void begin_to_open(const Exchange& exchange, double now) noexcept {
    const double from_s = close_due_ == never ? now : close_due_;
    open_due_ =
        from_s + std::max(0.0, settings_.opening_time_s - settings_.coil_time_s) + exchange.setting(late_);
  }
  void begin_to_close(const Exchange& exchange, bool trips, double now) noexcept {
    const bool locked = !std::all_of(interlocks_.begin(), interlocks_.end(),
                                     [&](const Contact& one) { return holds(exchange, one); });
    if (closed_ || close_due_ != never) return;
    if (trips || locked || !charged_) {
      ++refused_;
      return;
    }
    close_due_ = now + std::max(0.0, settings_.closing_time_s - settings_.coil_time_s);
  }
  void move(Exchange& exchange, bool close) noexcept {
    if (close) {
      charged_ = false;
      charged_due_ = exchange.time_s() + settings_.charging_time_s;
    }
    if (closed_ == close || exchange.setting(stuck_) > 0.5) return;
    if (!exchange.ask(operated_, close ? 1 : 0)) {
      ++refused_;
      return;
    }
    closed_ = close;
    ++(close ? closings_ : opened_);
  }

  BreakerDrive settings_;
  PointId position_, a_point_, b_point_, charged_point_;
  AskId operated_;
  SettingId stuck_, late_, empty_;
  std::vector<Contact> opens_, closes_, interlocks_;
  Lagging trip_, close_, a_, b_;
  bool closed_ = true, position_was_ = true, charged_ = true, wanted_ = false;
  double open_due_ = never, close_due_ = never, charged_due_ = 0;
  Count opened_, closings_, refused_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const BreakerDrive& settings, const RunPlan&) {
  return std::make_unique<BreakerDrivePort>(settings);
}

template <>
void check(const BreakerDrive& settings, Flaws& flaws) {
  const std::string place = "breaker_drive." + settings.name;
  flaws.need_one_of(place, "breaker", settings.breaker, flaws.elements_of<network::Breaker>(), "breaker");
  for (const auto& [field, texts] :
       {std::pair{"opens", &settings.opens}, std::pair{"closes", &settings.closes},
        std::pair{"interlocks", &settings.interlocks}}) {
    for (const std::string& text : *texts) flaws.need_point(place, field, signed_point(text).name);
  }
}

}  // namespace zavrek::bench::internal
