#include "zavrek/bench/ports/time_code.hpp"

#include "bench/irig.hpp"
#include "bench/make_port.hpp"

namespace zavrek::bench::internal {
namespace {

class TimeCodePort final : public Port {
 public:
  explicit TimeCodePort(const TimeCode& settings) : settings_(settings) {}
  void declare(Exchange& exchange) override {
    level_ = exchange.add_output(settings_.name, "level");
    carrier_ = exchange.add_value(settings_.name, "carrier", "V");
  }
  void wire(Exchange&) override {}
  /// Ahead of the step, so that contacts carry it behind it.
  void take(Exchange& exchange) noexcept override {
    const std::int64_t utc_ns = exchange.plant_utc_ns();
    const std::int64_t second = utc_ns / 1'000'000'000;
    if (second != second_) {
      second_ = second;
      ++seconds_;
      constexpr unsigned locked = 0, failed = 15;
      frame_ = irig_frame(second, settings_.local_minutes, exchange.synchronised() > 0 ? locked : failed);
    }
    const double into_s = 1e-9 * static_cast<double>(utc_ns % 1'000'000'000);
    exchange.tell(carrier_, irig_carrier(frame_, into_s));
    const bool high = irig_level(frame_, into_s);
    if (exchange.on(level_) != high) exchange.show_only(level_, high);
  }
  void visit_state(StateArchive& archive) override { archive(second_, seconds_, frame_); }
  std::vector<Account> accounts() const override {
    Account account;
    account.port = "time_code." + settings_.name;
    account.carries = "IRIG-B";
    account.sent = seconds_;
    return {account};
  }
  std::vector<Path> paths() const override {
    return {{"the clock", "time_code " + settings_.name, settings_.name + ".level", 1, ""}};
  }

 private:
  TimeCode settings_;
  PointId level_;
  ValueId carrier_;
  std::int64_t second_ = -1;
  Count seconds_;  // begun
  IrigFrame frame_{};
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const TimeCode& settings, const RunPlan&) {
  return std::make_unique<TimeCodePort>(settings);
}

template <>
void check(const TimeCode&, Flaws&) {}

}  // namespace zavrek::bench::internal
