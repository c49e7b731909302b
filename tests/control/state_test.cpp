// A controller that takes over the state of another goes on as that one does, to the bit.
#include <cmath>
#include <numbers>
#include <optional>
#include <set>

#include <gtest/gtest.h>

#include "zavrek/control.hpp"

namespace zavrek::control {
namespace {

template <class Kind, class Fill>
void put(Description& into, const std::string& name, Fill&& fill) {
  Kind block;
  block.name = name;
  fill(block);
  into.blocks.emplace_back(std::move(block));
}

/// One of each kind that remembers something.
Description remembering() {
  Description all;
  all.period_s = 1e-4;
  put<Pi>(all, "pi",
          [](Pi& b) { b.input = "u", b.integral_per_s = 7, b.derivative_s = 1e-3, b.low = -3, b.high = 3; });
  put<LowPass>(all, "low", [](LowPass& b) { b.input = "u", b.time_s = 3e-3; });
  put<Transfer>(all, "transfer", [](Transfer& b) {
    b.input = "u", b.numerator = {"1"}, b.denominator = {"1e-6", "1e-3", "1"};
  });
  put<Limiter>(all, "limit", [](Limiter& b) { b.input = "u", b.rise_per_s = 30, b.fall_per_s = 40; });
  put<Delay>(all, "delay", [](Delay& b) { b.input = "u", b.periods = 17; });
  put<Comparator>(all, "compare", [](Comparator& b) { b.input = "u", b.on_above = 0.7, b.off_below = -0.2; });
  put<Timer>(all, "timer", [](Timer& b) { b.input = "compare", b.on_delay_s = 2e-3, b.off_delay_s = 1e-3; });
  put<LatchBlock>(all, "latch", [](LatchBlock& b) { b.set = "timer", b.reset = "counter"; });
  put<Plan>(all, "plan",
            [](Plan& b) { b.input = "counter", b.beat = "timer", b.otherwise = "3", b.lasts_s = 2e-3; });
  put<LoadShedding>(all, "shed", [](LoadShedding& b) {
    b.lost = "timer", b.available = "counter", b.loads = {"one: 1", "two: 1"}, b.restore_after_s = 2e-3,
    b.margin = 0;
  });
  put<Synchroniser>(all, "synchroniser", [](Synchroniser& b) {
    b.amplitude_1 = b.amplitude_2 = "100", b.frequency_1 = "counter", b.frequency_2 = "timer",
    b.angle_1 = "counter", b.angle_2 = "timer", b.frequency_Hz = 2, b.angle_rad = 2, b.lasts_s = 2e-3;
  });
  put<Vehicle>(all, "vehicle", [](Vehicle& b) {
    b.front = "a", b.rear = "50", b.brake = "timer", b.slope = "0.01", b.mass_kg = 100, b.radius_m = 0.3,
    b.axle_inertia_kgm2 = 1;
  });
  put<Counter>(all, "counter", [](Counter& b) { b.input = "compare", b.wraps_at = 5; });
  put<PhaseLock>(all, "lock", [](PhaseLock& b) { b.a = "a", b.b = "b", b.c = "c"; });
  put<Rotor>(all, "rotor", [](Rotor& b) { b.frequency = "lock.frequency"; });
  put<Rms>(all, "rms", [](Rms& b) { b.input = "u"; });
  put<Sensor>(all, "sensor", [](Sensor& b) { b.input = "u", b.noise = 0.1; });
  put<IntegratorLock>(all, "single", [](IntegratorLock& b) { b.input = "a"; });
  put<Separation>(all, "parts",
                  [](Separation& b) { b.a = "a", b.b = "b", b.c = "c", b.angle = "lock.angle"; });
  put<PowerTracker>(all, "tracker", [](PowerTracker& b) {
    b.voltage = "u", b.current = "a", b.low = -5, b.high = 5, b.step = 0.1;
  });
  put<Setpoint>(all, "wanted", [](Setpoint& b) { b.value = 0.4; });
  put<Modulator>(all, "modulator", [](Modulator& b) {
    b.bridge = "N1", b.references = {"low", "a", "wanted"}, b.carrier_Hz = 5000, b.dead_time_s = 2e-6;
    b.period_s = 1e-4;
  });
  put<Firing>(all, "firing", [](Firing& b) {
    b.bridge = "N2", b.angle = "lock.angle", b.frequency = "lock.frequency", b.delay = "0.5",
    b.enable = "compare";
  });
  put<Sequence>(all, "sequence", [](Sequence& b) {
    b.states = {"rest", "run", "stop"};
    b.steps = {"rest > run: compare after 3 ms", "run > stop: u < 0 after 2 ms",
               "stop > rest: u > 0 after 1 ms"};
  });
  return all;
}

std::vector<double> seen(const Controller& controller, long long tick) {
  const double t = 1e-4 * static_cast<double>(tick), w = 2 * std::numbers::pi * 50.3;
  std::vector<double> values;
  for (const std::string& name : controller.reads()) {
    const double turn = name == "b" ? -2.0 / 3 : name == "c" ? 2.0 / 3 : 0;
    values.push_back(name == "u" ? std::sin(37 * t) + 0.5 * std::sin(211 * t + 0.3 * std::sin(5 * t))
                                 : std::sin(w * t + std::numbers::pi * turn));
  }
  return values;
}

TEST(ControllerState, IsTakenOverByAnotherOfTheSameBlocks) {
  const Description all = remembering();
  const std::vector<std::string> signals{"u", "a", "b", "c"};
  Controller first(all, signals);
  std::optional<Controller> second;
  std::vector<std::set<double>> values(first.outputs().size());
  std::size_t edges = 0;
  for (long long tick = 0; tick < 20'000; ++tick) {
    for (Controller* one : {&first, second ? &*second : nullptr}) {
      if (one && tick == 4'000) one->set(one->parameter("wanted"), -0.3);
    }
    if (tick % 997 == 500) {
      std::vector<std::byte> kept;
      StateArchive out(kept);
      first.visit_state(out);
      ASSERT_TRUE(out.whole());
      second.emplace(all, signals);
      StateArchive back{std::span<const std::byte>(kept)};
      second->visit_state(back);
    }
    first.run(tick, seen(first, tick));
    edges += first.edges().size();
    for (std::size_t k = 0; k < values.size(); ++k) values[k].insert(first.output(k));
    if (!second) continue;
    second->run(tick, seen(*second, tick));
    for (std::size_t k = 0; k < values.size(); ++k)
      ASSERT_EQ(first.output(k), second->output(k)) << first.outputs()[k] << ", tick " << tick;
    ASSERT_EQ(first.edges().size(), second->edges().size());
    for (std::size_t k = 0; k < first.edges().size(); ++k) {
      ASSERT_EQ(first.edges()[k].gate, second->edges()[k].gate);
      ASSERT_EQ(first.edges()[k].at_s, second->edges()[k].at_s);
    }
  }
  EXPECT_GT(edges, 1000U);
  for (std::size_t k = 0; k < values.size(); ++k) {  // what fires shows nothing else
    EXPECT_GT(values[k].size(), first.outputs()[k] == "firing" ? 0U : 1U) << first.outputs()[k];
  }
}

class Counting final : public Own {
 public:
  std::vector<std::string> inputs() const override { return {}; }
  std::vector<std::string> outputs() const override { return {"count"}; }
  std::string step(double, std::span<const double>, std::span<double> outputs) override {
    outputs[0] = ++count_;
    return {};
  }

 private:
  double count_ = 0;
};

TEST(ControllerState, OfAUsersOwnCodeIsNoWhole) {
  Description all;
  all.period_s = 1e-4;
  put<OwnCode>(all, "mine", [](OwnCode& b) { b.code = "counting"; });
  Controller controller(all, {}, [](const OwnCode&) { return std::make_unique<Counting>(); });
  std::vector<std::byte> kept;
  StateArchive out(kept);
  controller.visit_state(out);
  EXPECT_FALSE(out.whole());
}

}  // namespace
}  // namespace zavrek::control
