// A port of one's own: an undervoltage relay of a few lines, wired to a running plant without a file or a
// protocol. It looks at the voltage of a berth 80 times a cycle, and when its peak over half a cycle falls
// below a half it asks for the breaker to open. The delay is the port's own half cycle and one step of the
// bench.
#include <algorithm>
#include <cmath>
#include <cstdio>
#include <memory>

#include <zavrek/bench.hpp>

using namespace zavrek;

class Undervoltage final : public bench::Port {
 public:
  void wire(bench::Exchange& exchange) override {
    voltage_ = exchange.value_of("berth.va");
    breaker_ = exchange.ask_of("Q1");
  }
  void sample(const bench::Exchange& exchange) noexcept override {
    const double now = std::abs(exchange.value(voltage_));
    peak_ = std::max(now, peak_ * decay_);
    healthy_ = std::max(healthy_, now);
  }
  void give(bench::Exchange& exchange) noexcept override {
    if (tripped_ || exchange.time_s() < 0.04 || peak_ > 0.4 * healthy_) return;
    tripped_ = exchange.ask(breaker_, 0);
    ++account_.sent;
  }
  std::vector<bench::Account> accounts() const override { return {account_}; }

 private:
  static constexpr double decay_ = 0.985;  // to a half in half a cycle
  bench::ValueId voltage_;
  bench::AskId breaker_;
  double peak_ = 0, healthy_ = 0;
  bool tripped_ = false;
  bench::Account account_{.port = "undervoltage", .carries = "a voltage out, a trip in"};
};

int main() {
  bench::Setup setup;
  setup.network.title = "one berth of Veskar quay";
  setup.network.buses = {{"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  setup.network.elements = {
      network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
      network::Breaker{.name = "Q1", .between = {"quay", "feed"}, .opening_time_s = 0.04},
      network::Branch{
          .name = "cable", .between = {"feed", "berth"}, .resistance_ohm = 0.4, .inductance_H = 0.8e-3},
      network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  setup.network.faults = {{.name = "fault", .on = "berth", .phases = "ABC", .resistance_ohm = 0.1}};

  bench::Run run(setup, setup.network, {.free = true});
  run.add(std::make_unique<Undervoltage>());
  run.record(0.3, 0, {"berth.va"});
  run.schedule({{.at_s = 0.1, .kind = bench::Deed::Kind::close, .what = "fault"}});
  if (const std::string why = run.start(); !why.empty()) return std::fprintf(stderr, "%s\n", why.c_str());
  (void)run.execute(0.3);

  const record::Record record = run.take_record(0.1);
  for (const record::Event& event : record.events)
    std::printf("%.3f s  %s\n", event.time_s, event.text.c_str());
  std::printf("%s\n", bench::to_string(run.accounts(), run.exchange().step_s()).c_str());
}
