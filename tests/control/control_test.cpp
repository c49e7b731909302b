#include "zavrek/control.hpp"

#include <cmath>
#include <functional>
#include <map>
#include <numbers>

#include <gtest/gtest.h>

#include "zavrek/error.hpp"

namespace zavrek::control {
namespace {

using std::numbers::pi;

template <class Block>
Block named(const std::string& name) {
  Block block;
  block.name = name;
  return block;
}

/// A controller over functions of time in place of a plant.
struct Loop {
  std::map<std::string, std::function<double(double)>> plant;
  Description description;
  std::unique_ptr<Controller> controller{};
  long long tick = 0;

  template <class Block>
  Block& add(const std::string& name) {
    description.blocks.emplace_back(named<Block>(name));
    return std::get<Block>(description.blocks.back());
  }
  void start(double period_s) {
    description.period_s = period_s;
    std::vector<std::string> signals;
    for (const auto& [name, value] : plant) signals.push_back(name);
    controller = std::make_unique<Controller>(description, signals);
  }
  void run(long long count) {
    for (; count > 0; --count, ++tick) {
      std::vector<double> values;
      for (const std::string& name : controller->reads())
        values.push_back(plant.at(name)(static_cast<double>(tick) * controller->period_s()));
      controller->run(tick, values);
    }
  }
  double operator[](const std::string& name) const {
    for (std::size_t k = 0; k < controller->outputs().size(); ++k) {
      if (controller->outputs()[k] == name) return controller->output(k);
    }
    throw Error("no output " + name);
  }
  std::string refusal(double period_s) {
    try {
      start(period_s);
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  }
};

TEST(Controller, ExecutesInputsBeforeUsersWhateverTheOrderOfWriting) {
  Loop loop;
  loop.plant["x"] = [](double t) { return 10 * t; };
  loop.add<Sum>("last").inputs = {"middle", "1"};
  loop.add<Sum>("middle").inputs = {"first", "-0.5"};
  loop.add<Sum>("first").inputs = {"x"};
  loop.start(0.1);
  loop.run(3);
  EXPECT_DOUBLE_EQ(loop["last"], 2.5) << "all of the same instant, t = 0.2";
}

TEST(Controller, NamesAllBlocksOfAnAlgebraicLoop) {
  Loop loop;
  loop.add<Sum>("a").inputs = {"b"};
  loop.add<Product>("b").inputs = {"c", "2"};
  loop.add<Sum>("c").inputs = {"a", "1"};
  EXPECT_EQ(loop.refusal(0.1), "sum.a: stands in an algebraic loop: a <- b <- c <- a; put a delay into it");
  loop.add<Delay>("d").input = "a";
  std::get<Sum>(loop.description.blocks[2]).inputs = {"d", "1"};
  ASSERT_EQ(loop.refusal(0.1), "accepted");
  loop.run(4);  // a = 2 (a' + 1)
  EXPECT_DOUBLE_EQ(loop["a"], 30);
}

TEST(Controller, HoldsWhatASlowBlockGaveAndRefusesPeriodsThatDoNotFit) {
  Loop loop;
  loop.plant["x"] = [](double t) { return t; };
  loop.add<Sum>("slow").inputs = {"x"};
  std::get<Sum>(loop.description.blocks[0]).period_s = 0.4;
  loop.add<Sum>("fast").inputs = {"slow", "-x"};
  loop.start(0.1);
  loop.run(4);
  EXPECT_NEAR(loop["fast"], -0.3, 1e-12) << "three periods old";
  loop.run(1);
  EXPECT_NEAR(loop["fast"], 0, 1e-12);
  std::get<Sum>(loop.description.blocks[0]).period_s = 0.25;
  EXPECT_EQ(loop.refusal(0.1), "sum.slow, period: must be a multiple of 100000 us, the shortest");
}

TEST(Controller, RefusesWhatAFileCouldNotHold) {
  Loop limited;
  auto& limiter = limited.add<Limiter>("l");
  limiter.input = "1";
  limiter.rise_per_s = -1;
  EXPECT_EQ(limited.refusal(0.1), "limiter.l, rise: -1 is too small; more than 0 is wanted");
  Loop modulated;
  auto& pwm = modulated.add<Modulator>("pwm");
  pwm.bridge = "B";
  pwm.references = {"0", "0", "0"};
  pwm.carrier_Hz = 10e3;
  pwm.levels = "five";
  EXPECT_EQ(modulated.refusal(0.1), "modulator.pwm, levels: \"five\" is none of \"two\", \"three\"");
  Loop bare;
  bare.add<Delay>("d");
  EXPECT_TRUE(bare.refusal(0.1).starts_with("delay.d, input: missing; ")) << bare.refusal(0.1);
}

TEST(Controller, NamesTheNearestSignal) {
  Loop loop;
  loop.plant["grid.va"] = [](double) { return 0.0; };
  loop.add<Sum>("s").inputs = {"grid.vb"};
  EXPECT_EQ(loop.refusal(0.1),
            "sum.s: nothing gives \"grid.vb\", did you mean \"grid.va\"?; a number, a block's output or a "
            "signal of "
            "the plant is wanted");
}

TEST(Blocks, ProportionalIntegralControlDoesNotWindUp) {
  Loop loop;
  loop.plant["e"] = [](double t) { return t < 0.995 ? 1.0 : -1.0; };
  Pi& pi_block = loop.add<Pi>("c");
  pi_block.input = "e";
  pi_block.proportional = 0.5;
  pi_block.integral_per_s = 10;
  pi_block.low = -2;
  pi_block.high = 2;
  loop.start(0.01);
  loop.run(5);
  EXPECT_NEAR(loop["c"], 0.5 + 5 * 0.1, 1e-12);
  loop.run(95);
  EXPECT_DOUBLE_EQ(loop["c"], 2);
  loop.run(2);  // it leaves the limit as soon as the error turns, not after unwinding a second of error
  EXPECT_LT(loop["c"], 1.5);
}

TEST(Blocks, TransferFunctionFollowsItsStepResponse) {
  Loop loop;
  Transfer& t = loop.add<Transfer>("g");  // w^2/(s^2 + 2 z w s + w^2)
  t.input = "1";
  const double w = 100, z = 0.5;
  t.numerator = {"10000"};
  t.denominator = {"1", "100", "10000"};
  loop.start(1e-4);
  const double wd = w * std::sqrt(1 - z * z);
  for (int k = 1; k <= 500; ++k) {
    loop.run(1);
    const double at = (k - 0.5) * 1e-4;  // the trapezoidal rule sees a step as half a period earlier
    const double expected = 1 - std::exp(-z * w * at) * (std::cos(wd * at) + z * w / wd * std::sin(wd * at));
    ASSERT_NEAR(loop["g"], expected, 1e-4) << k;
  }
}

TEST(Blocks, FilterDelayTimerLatchAndComparatorDoWhatTheySay) {
  Loop loop;
  loop.plant["x"] = [](double t) { return t > 0.0995 && t < 0.2995 ? 1.0 : 0.0; };
  LowPass& filter = loop.add<LowPass>("filter");
  filter.input = "x";
  filter.time_s = 0.05;
  Timer& timer = loop.add<Timer>("timer");
  timer.input = "x";
  timer.on_delay_s = 0.05;
  timer.off_delay_s = 0.1;
  LatchBlock& latch = loop.add<LatchBlock>("latch");
  latch.set = "x";
  Comparator& comparator = loop.add<Comparator>("high");
  comparator.input = "filter";
  comparator.on_above = 0.9;
  comparator.off_below = 0.1;
  Delay& delay = loop.add<Delay>("delay");
  delay.input = "x";
  delay.periods = 30;
  loop.start(1e-3);
  loop.run(150);  // the last at t = 0.149
  EXPECT_NEAR(loop["filter"], 1 - std::exp(-50.0 / 50), 1e-9);
  EXPECT_EQ(loop["timer"], 0);
  loop.run(1);
  EXPECT_EQ(loop["timer"], 1);
  EXPECT_EQ(loop["high"], 0);
  EXPECT_EQ(loop["delay"], 1);
  loop.run(100);
  EXPECT_EQ(loop["high"], 1);
  loop.run(100);  // t = 0.35: x fell 51 ms ago
  EXPECT_EQ(loop["timer"], 1);
  EXPECT_EQ(loop["high"], 1) << "between the levels it stays";
  EXPECT_EQ(loop["latch"], 1);
  loop.run(150);
  EXPECT_EQ(loop["timer"], 0);
  EXPECT_EQ(loop["high"], 0);
}

TEST(Blocks, PhaseLockFindsFrequencyAngleAndMagnitude) {
  Loop loop;
  const auto phase = [](int k) {
    return [k](double t) { return 325 * std::cos(2 * pi * 48.5 * t + 1.2 - k * 2 * pi / 3); };
  };
  loop.plant = {{"a", phase(0)}, {"b", phase(1)}, {"c", phase(2)}};
  PhaseLock& pll = loop.add<PhaseLock>("pll");
  pll.a = "a";
  pll.b = "b";
  pll.c = "c";
  ToDq& dq = loop.add<ToDq>("dq");
  dq.a = "a";
  dq.b = "b";
  dq.c = "c";
  dq.angle = "pll.angle";
  FromDq& back = loop.add<FromDq>("back");
  back.d = "dq.d";
  back.q = "dq.q";
  back.angle = "pll.angle";
  loop.start(1e-4);
  loop.run(5000);
  const double t = 4999e-4;
  EXPECT_NEAR(loop["pll.frequency"], 48.5, 1e-3);
  EXPECT_NEAR(std::remainder(loop["pll.angle"] - (2 * pi * 48.5 * t + 1.2), 2 * pi), 0, 1e-4);
  EXPECT_NEAR(loop["pll.d"], 325, 1e-3);
  EXPECT_NEAR(loop["back.b"], phase(1)(t), 1e-6);
}

TEST(Blocks, PowerIsThatOfThePhasors) {
  Loop loop;
  const auto wave = [](double peak, double lag, int k) {
    return [=](double t) { return peak * std::cos(2 * pi * 50 * t - lag - k * 2 * pi / 3); };
  };
  loop.plant = {{"va", wave(100, 0, 0)},  {"vb", wave(100, 0, 1)},  {"vc", wave(100, 0, 2)},
                {"ia", wave(10, 0.6, 0)}, {"ib", wave(10, 0.6, 1)}, {"ic", wave(10, 0.6, 2)}};
  Power& power = loop.add<Power>("s");
  std::tie(power.va, power.vb, power.vc) = std::tuple{"va", "vb", "vc"};
  std::tie(power.ia, power.ib, power.ic) = std::tuple{"ia", "ib", "ic"};
  Rms& rms = loop.add<Rms>("rms");
  rms.input = "va";
  loop.start(1e-3);
  loop.run(60);
  EXPECT_NEAR(loop["s.p"], 1500 * std::cos(0.6), 1e-9);
  EXPECT_NEAR(loop["s.q"], 1500 * std::sin(0.6), 1e-9) << "a lagging current takes reactive power";
  EXPECT_NEAR(loop["rms"], 100 / std::sqrt(2.0), 1e-9);
}

/// Shares of a second that a gate was on, from all edges of a modulator.
std::map<std::string, double> time_on(Loop& loop, long long ticks) {
  std::map<std::string, double> on, since;
  for (long long k = 0; k < ticks; ++k) {
    loop.run(1);
    std::map<std::string, double> last;
    for (const Edge& edge : loop.controller->edges()) {
      const std::string& gate = loop.controller->gates()[static_cast<std::size_t>(edge.gate)];
      EXPECT_GE(edge.at_s, last[gate]) << gate;
      last[gate] = edge.at_s;
      if (edge.on) since[gate] = edge.at_s;
      if (!edge.on && since.contains(gate)) {
        on[gate] += edge.at_s - since[gate];
        since.erase(gate);
      }
    }
  }
  return on;
}

TEST(Modulator, KeepsEachLegOnForItsShareLessTheDeadTime) {
  Loop loop;
  Modulator& pwm = loop.add<Modulator>("pwm");
  pwm.bridge = "B";
  pwm.references = {"0", "0", "0"};
  pwm.carrier_Hz = 10e3;
  pwm.references = {"0.6", "-0.3", "0"};
  pwm.carrier_Hz = 10e3;
  pwm.dead_time_s = 1e-6;
  loop.start(50e-6);
  std::map<std::string, double> on = time_on(loop, 20000);  // 1 s, 10,000 pulses
  EXPECT_NEAR(on["B.a_upper"], 0.8 - 0.01, 1e-3);
  EXPECT_NEAR(on["B.a_lower"], 0.2 - 0.01, 1e-3);
  EXPECT_NEAR(on["B.b_upper"], 0.35 - 0.01, 1e-3);
  EXPECT_NEAR(on["B.c_lower"], 0.5 - 0.01, 1e-3);
}

TEST(Modulator, SharesThreeLevelsBetweenTwoPairsAndTurnsAllOffWhenNotEnabled) {
  Loop loop;
  loop.plant["run"] = [](double t) { return t < 0.5 ? 1.0 : 0.0; };
  Modulator& pwm = loop.add<Modulator>("pwm");
  pwm.bridge = "B";
  pwm.references = {"0", "0", "0"};
  pwm.carrier_Hz = 10e3;
  pwm.references = {"0.25"};
  pwm.levels = "three";
  pwm.enable = "run";
  pwm.carrier_Hz = 5e3;
  loop.start(100e-6);
  std::map<std::string, double> on = time_on(loop, 10000);
  EXPECT_NEAR(on["B.a_1"], 0.125, 1e-3) << "up for a quarter of half a second";
  EXPECT_NEAR(on["B.a_3"], 0.375, 1e-3);
  EXPECT_NEAR(on["B.a_2"], 0.5, 1e-3);
  EXPECT_EQ(on["B.a_4"], 0);
}

TEST(Modulator, RefusesACarrierThatDoesNotFitThePeriod) {
  Loop loop;
  Modulator& pwm = loop.add<Modulator>("pwm");
  pwm.bridge = "B";
  pwm.references = {"0", "0", "0"};
  pwm.carrier_Hz = 10e3;
  pwm.references = {"0"};
  pwm.carrier_Hz = 3e3;
  EXPECT_EQ(
      loop.refusal(100e-6),
      "modulator.pwm, carrier: the block's period must be half of the carrier's, or a multiple of that");
}

}  // namespace
}  // namespace zavrek::control
