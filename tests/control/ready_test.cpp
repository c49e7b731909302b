// Formulas, sequences and the other blocks beyond the usual set; knobs; a user's own code; what ready
// controllers are made of.
#include <cmath>
#include <limits>
#include <map>
#include <numbers>

#include <gtest/gtest.h>

#include "control/bench.hpp"
#include "control/formula.hpp"
#include "zavrek/control.hpp"
#include "zavrek/error.hpp"

namespace zavrek::control {
namespace {

using std::numbers::pi;
using test::Bench;

double evaluated(const std::string& text, std::vector<double> inputs = {}, double time = 0) {
  return Formula(text).value(inputs.data(), time);
}
std::string refusal_of_ready(const std::string& text) {
  try {
    (void)Formula(text);
  } catch (const Error& error) {
    return error.what();
  }
  return "none";
}

TEST(Formula, FollowsTheRulesOfPrecedence) {
  EXPECT_DOUBLE_EQ(evaluated("2 + 3 * 4 - 6 / 3"), 12);
  EXPECT_DOUBLE_EQ(evaluated("-2 ^ 2"), -4);
  EXPECT_DOUBLE_EQ(evaluated("2 ^ 3 ^ 2"), 512);
  EXPECT_DOUBLE_EQ(evaluated("2 ^ -1"), 0.5);
  EXPECT_DOUBLE_EQ(evaluated("(2 + 3) * 4"), 20);
  EXPECT_DOUBLE_EQ(evaluated("1 < 2 and 2 >= 2 and not 3 == 4"), 1);
  EXPECT_DOUBLE_EQ(evaluated("0 and 1 or 1"), 1);
  EXPECT_DOUBLE_EQ(evaluated("1 != 1 or 2 <= 1"), 0);
  EXPECT_DOUBLE_EQ(evaluated("10 - 4 - 3"), 3);
  EXPECT_DOUBLE_EQ(evaluated("1e3 / 2.5e-1"), 4000);
}

TEST(Formula, KnowsItsFunctionsNamesAndTime) {
  EXPECT_DOUBLE_EQ(evaluated("sin(pi / 6) + cos(0) + sqrt(16) + abs(-2)"), 7.5);
  EXPECT_DOUBLE_EQ(evaluated("min(3, 2) + max(3, 2) + hypot(3, 4) + mod(-1, 3)"), 12);
  EXPECT_DOUBLE_EQ(evaluated("if(1, 5, 6) + if(0, 5, 6) + clamp(9, 0, 4) + sign(-7) + floor(2.9)"), 16);
  EXPECT_DOUBLE_EQ(evaluated("atan2(1, 0) + asin(1) - 2 * acos(0) + tan(0) + exp(0) + log(1)"), 1);
  const Formula f("grid.va - b_2 * t + grid.va");
  EXPECT_EQ(f.names(), (std::vector<std::string>{"grid.va", "b_2"}));
  const double in[] = {10, 3};
  EXPECT_DOUBLE_EQ(f.value(in, 2), 14);
}

TEST(Formula, StaysFiniteWhereMathematicsDoesNot) {
  EXPECT_DOUBLE_EQ(evaluated("1 / 0"), 0);
  EXPECT_DOUBLE_EQ(evaluated("sqrt(-1)"), 0);
  EXPECT_DOUBLE_EQ(evaluated("asin(2)"), pi / 2);
  EXPECT_TRUE(std::isfinite(evaluated("exp(1e9) * 0 + log(0)")));
}

TEST(Formula, SaysWhereItIsWrong) {
  EXPECT_EQ(refusal_of_ready("1 +"), "formula \"1 +\", at character 4: a value is expected");
  EXPECT_EQ(refusal_of_ready("(1 + 2"), "formula \"(1 + 2\", at character 7: \")\" is expected");
  EXPECT_EQ(refusal_of_ready("1 2"), "formula \"1 2\", at character 3: the end or an operator is expected");
  EXPECT_EQ(refusal_of_ready("sqr(2)"),
            "formula \"sqr(2)\" calls no known function \"sqr\", did you mean \"sqrt\"?");
  EXPECT_EQ(refusal_of_ready("min(2)"),
            "formula \"min(2)\", at character 6: \",\" and another of the 2 values is expected");
  EXPECT_EQ(refusal_of_ready(std::string(200, '(') + "1").substr(0, 8), "formula ");
  EXPECT_NE(refusal_of_ready(std::string(200, '-') + "1").find("nested too deeply"), std::string::npos);
  EXPECT_EQ(refusal_of_ready(std::string(400'000, '1')), "is longer than 4000 letters; divide it");
  std::string sums = "1";
  for (int k = 0; k < 40; ++k) sums = "1 + (" + sums + ")";
  EXPECT_NE(refusal_of_ready(sums).find("nested too deeply"), std::string::npos);
}

TEST(Formula, SurvivesGarbage) {
  const std::string letters = "0123456789.+-*/^()<>=!, abtpi_ornd";
  unsigned state = 7;
  int taken = 0;
  for (int k = 0; k < 20000; ++k) {
    std::string text;
    for (int n = 0; n < 1 + k % 24; ++n) {
      state = state * 1664525U + 1013904223U;
      text += letters[(state >> 16) % letters.size()];
    }
    try {
      const Formula f(text);
      const std::vector<double> in(f.names().size(), 1.5);
      (void)f.value(in.data(), 1);
      ++taken;
    } catch (const Error&) {
    }
  }
  EXPECT_GT(taken, 100);
}

TEST(Sequence, TakesItsStepsInOrderAndWaitsAsLongAsItIsTold) {
  Bench b;
  b.signals = {{"go", 0}, {"fault", 0}};
  auto& s = b.add<Sequence>("s");
  s.states = {"off", "ready", "run"};
  s.steps = {"* > off: fault", "off > ready: go", "ready > run: go and not fault after 5 ms"};
  b.start(1e-3);
  b.run(3);
  EXPECT_EQ(b["s.off"], 1);
  b.signals["go"] = 1;
  b.run(1);
  EXPECT_EQ(b["s"], 0) << "a new state shows a period later";
  b.run(1);
  EXPECT_EQ(b["s.ready"], 1);
  b.run(5);
  EXPECT_EQ(b["s"], 1);
  b.run(1);
  EXPECT_EQ(b["s.run"], 1);
  b.signals["fault"] = 1;
  b.run(2);
  EXPECT_EQ(b["s.off"], 1);
  EXPECT_EQ(b["s.run"], 0);
}

TEST(Sequence, RefusesStepsThatAreNone) {
  Bench b;
  auto& s = b.add<Sequence>("s");
  s.states = {"off", "running"};
  s.steps = {"off running: 1"};
  EXPECT_EQ(b.refusal_of_ready(),
            "sequence.s, steps: \"off running: 1\" is no step; \"off > run: ready after 20 ms\" is wanted");
  std::get<Sequence>(b.description.blocks[0]).steps = {"off > runing: 1"};
  EXPECT_EQ(b.refusal_of_ready(),
            "sequence.s, steps: \"off > runing: 1\" names no state \"runing\", did you mean \"running\"?");
}

TEST(Counter, CountsRisesAndWraps) {
  Bench b;
  b.signals = {{"x", 0}, {"clear", 0}};
  auto& counter = b.add<Counter>("n");
  counter.input = "x";
  counter.reset = "clear";
  counter.wraps_at = 3;
  b.start(1e-3);
  for (int k = 0; k < 4; ++k) {
    b.signals["x"] = 1;
    b.run(2);
    b.signals["x"] = 0;
    b.run(2);
  }
  EXPECT_EQ(b["n"], 1);
  b.signals["clear"] = 1;
  b.run();
  EXPECT_EQ(b["n"], 0);
}

TEST(Sensor, ErrsAndFailsAsItIsTold) {
  Bench b;
  b.signals = {{"x", 10}};
  auto& sensor = b.add<Sensor>("v");
  sensor.input = "x";
  sensor.high = 50;
  sensor.resolution = 0.5;
  b.start(1e-3);
  const auto with = [&](const std::string& knob, double value) {
    b.c->set(b.c->parameter("v." + knob), value);
    b.run();
    return b["v"];
  };
  EXPECT_EQ(with("gain", 1.03), 10.5) << "10.3 in steps of a half";
  EXPECT_EQ(with("offset", 2), 12.5);
  EXPECT_EQ(with("gain", 9), 50) << "its range ends there";
  (void)with("frozen", 1);
  b.signals["x"] = -3;
  b.run();
  EXPECT_EQ(b["v"], 50);
  (void)with("frozen", 0);
  EXPECT_EQ(with("dead", 1), 2);
  EXPECT_EQ(with("dead", 0), -25);
  (void)with("gain", 0);
  (void)with("offset", 0);
  (void)with("noise", 2);
  double sum = 0, squares = 0;
  for (int k = 0; k < 4000; ++k) {
    b.run();
    sum += b["v"];
    squares += b["v"] * b["v"];
  }
  EXPECT_NEAR(sum / 4000, 0, 0.15);
  EXPECT_NEAR(std::sqrt(squares / 4000), 2, 0.1);
}

TEST(Knobs, StandUnderTheNamesOfTheirBlocksAndKeepToTheirBounds) {
  Bench b;
  auto& setpoint = b.add<Setpoint>("wanted");
  setpoint.value = 3;
  setpoint.unit = "kW";
  b.add<Sensor>("v").input = "wanted";
  b.start(1e-3);
  EXPECT_EQ(b.c->unit(b.c->parameter("wanted")), "kW");
  b.c->set(b.c->parameter("wanted"), 7);
  b.c->set(b.c->parameter("v.frozen"), -4);
  b.run();
  EXPECT_EQ(b["v"], 7);
  try {
    (void)b.c->parameter("v.gian");
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "no block has \"v.gian\" to be changed, did you mean \"v.gain\"?");
  }
}

TEST(Separation, FindsPositiveAndNegativeSequence) {
  Bench b;
  b.signals = {{"a", 0}, {"b", 0}, {"c", 0}, {"angle", 0}};
  auto& s = b.add<Separation>("s");
  s.a = "a";
  s.b = "b";
  s.c = "c";
  s.angle = "angle";
  b.start(100e-6);
  for (int k = 0; k < 400; ++k) {
    const double w = 2 * pi * 50 * k * 100e-6;
    const char* names[] = {"a", "b", "c"};
    for (int p = 0; p < 3; ++p)
      b.signals[names[p]] =
          300 * std::cos(w + 0.3 - p * 2 * pi / 3) + 40 * std::cos(w - 0.5 + p * 2 * pi / 3);
    b.signals["angle"] = w;
    b.run();
  }
  EXPECT_NEAR(b["s.positive_d"], 300 * std::cos(0.3), 0.01);
  EXPECT_NEAR(b["s.positive_q"], 300 * std::sin(0.3), 0.01);
  EXPECT_NEAR(b["s.negative_d"], 40 * std::cos(0.5), 0.01);
  EXPECT_NEAR(b["s.negative_q"], 40 * std::sin(0.5), 0.01);
}

TEST(IntegratorLock, FollowsOneVoltageThroughHarmonicsAndAnotherFrequency) {
  Bench b;
  b.signals = {{"v", 0}};
  auto& lock = b.add<IntegratorLock>("lock");
  lock.input = "v";
  b.start(100e-6);
  double angle = 0;
  for (int k = 0; k < 10000; ++k) {
    angle = 2 * pi * 51.5 * k * 100e-6;
    b.signals["v"] = 325 * std::cos(angle) + 20 * std::cos(5 * angle);
    b.run();
  }
  EXPECT_NEAR(b["lock.frequency"], 51.5, 0.1);
  EXPECT_NEAR(b["lock.amplitude"], 325, 12);
  EXPECT_NEAR(std::remainder(b["lock.angle"] - angle, 2 * pi), 0, 0.06);
}

TEST(AlphaBeta, GoesThereAndBack) {
  Bench b;
  b.signals = {{"a", 5}, {"b", -2}, {"c", -3}};
  auto& to = b.add<ToAlphaBeta>("x");
  to.a = "a";
  to.b = "b";
  to.c = "c";
  auto& from = b.add<FromAlphaBeta>("y");
  from.alpha = "x.alpha";
  from.beta = "x.beta";
  b.start(1e-3);
  b.run();
  EXPECT_NEAR(b["x.alpha"], 5, 1e-12);
  EXPECT_NEAR(b["x.beta"], 1 / std::numbers::sqrt3, 1e-12);
  EXPECT_NEAR(b["y.b"], -2, 1e-12);
  EXPECT_NEAR(b["y.c"], -3, 1e-12);
}

TEST(PowerTracker, ClimbsToTheBestVoltageAndStaysNearIt) {
  Bench b;
  b.signals = {{"v", 600}, {"i", 0}};
  auto& tracker = b.add<PowerTracker>("best");
  tracker.voltage = "v";
  tracker.current = "i";
  tracker.step = 5;
  tracker.low = 300;
  tracker.high = 800;
  tracker.start = 720;
  b.start(20e-3);
  for (int k = 0; k < 200; ++k) {
    b.signals["v"] = k == 0 ? 720 : b["best"];
    b.signals["i"] = (40000 - std::pow(b.signals["v"] - 612, 2)) / b.signals["v"];
    b.run();
  }
  EXPECT_NEAR(b["best"], 612, 12);
}

TEST(Firing, GivesEachValveOnePulseACycleAtItsDelay) {
  Bench b;
  b.signals = {{"angle", 0}};
  auto& firing = b.add<Firing>("f");
  firing.bridge = "B";
  firing.angle = "angle";
  firing.frequency = "50";
  firing.delay = "0.5";
  b.start(100e-6);
  std::map<std::string, std::vector<double>> on;
  for (int k = 0; k < 600; ++k) {
    b.signals["angle"] = 2 * pi * 50 * k * 100e-6;
    b.run();
    for (const Edge& edge : b.c->edges()) {
      if (edge.on) on[b.c->gates()[static_cast<std::size_t>(edge.gate)]].push_back(edge.at_s);
    }
  }
  ASSERT_EQ(on.size(), 6U);
  const char* order[] = {"B.a_upper", "B.c_lower", "B.b_upper", "B.a_lower", "B.c_upper", "B.b_lower"};
  for (int k = 0; k < 6; ++k) {
    const auto& times = on[order[k]];
    ASSERT_GE(times.size(), 2U);
    // The last ones are free of the start: angle (k - 1) 60 deg + delay, modulo a turn.
    const double angle = 2 * pi * 50 * times.back();
    EXPECT_NEAR(std::remainder(angle - ((k - 1) * pi / 3 + 0.5), 2 * pi), 0, 1e-9) << order[k];
    EXPECT_NEAR(times.back() - times[times.size() - 2], 20e-3, 1e-9);
  }
}

class Doubler final : public Own {
 public:
  [[nodiscard]] std::vector<std::string> inputs() const override { return {"x"}; }
  [[nodiscard]] std::vector<std::string> outputs() const override { return {"y"}; }
  [[nodiscard]] std::vector<std::string> parameters() const override { return {"gain", "fails_at"}; }
  void start(double, std::span<const double> parameters) override {
    gain_ = parameters[0];
    fails_at_ = parameters[1];
  }
  std::string step(double time_s, std::span<const double> in, std::span<double> out) override {
    if (time_s > fails_at_) throw Error("had enough");
    if (in[0] < 100) out[0] = gain_ * in[0];
    return in[0] > 50 && in[0] < 60 ? "does not like 50 to 60" : "";
  }

 private:
  double gain_ = 0, fails_at_ = 0;
};

TEST(OwnCode, IsFedAndItsFailuresAreNamed) {
  const OwnMaker maker = [](const OwnCode& block) -> std::unique_ptr<Own> {
    return block.code == "doubler" ? std::make_unique<Doubler>() : nullptr;
  };
  const auto bench = [&](double x) {
    Bench b;
    b.signals = {{"x", x}};
    auto& own = b.add<OwnCode>("mine");
    own.code = "doubler";
    own.inputs = {"x: x"};
    own.parameters = {"gain: 2.5"};
    b.start(1e-3, maker);
    b.run();
    return b;
  };
  EXPECT_EQ(bench(4)["mine.y"], 10);
  EXPECT_EQ(bench(4).c->failure(), "");
  EXPECT_EQ(bench(55).c->failure(), "own.mine: does not like 50 to 60 (t = 0 s)");
  EXPECT_EQ(bench(200).c->failure(), "own.mine: its output \"y\" was not set to a finite value (t = 0 s)");

  Bench b;
  auto& own = b.add<OwnCode>("mine");
  own.code = "doubler";
  own.inputs = {"x: 1"};
  own.parameters = {"gain: 1", "fails_at: 2.5e-3"};
  b.start(1e-3, maker);
  b.run(6);
  EXPECT_EQ(b.c->failure(), "own.mine: threw \"had enough\" (t = 0.003 s)");
  EXPECT_EQ(b["mine.y"], 1) << "what it gave last stands";
  std::get<OwnCode>(b.description.blocks[0]).inputs = {"z: 1"};
  try {
    b.start(1e-3, maker);
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(
        error.what(),
        "own.mine, inputs: \"z: 1\" is none; \"NAME: VALUE\" with a name that the code knows is wanted, "
        "did you mean \"x\"?");
  }
}

TEST(ReadyController, ExpandsIntoBlocksOfItsName) {
  Description description;
  auto& ready = description.ready.emplace_back().emplace<GridFollowing>();
  ready.name = "sun";
  ready.bridge = "B1";
  ready.carrier_Hz = 5e3;
  ready.current = "L1";
  ready.dc = "C1.v";
  ready.voltage = "grid";
  ready.current_limit_A = 100;
  ready.trip_current_A = 200;
  ready.inductance_H = 1e-3;
  ready.least_voltage_V = 100;
  const Description all = expand(description);
  EXPECT_TRUE(all.ready.empty());
  for (const Block& block : all.blocks) EXPECT_EQ(name_of(block).substr(0, 4), "sun.");
  const Controller c(description, {"L1.ia", "L1.ib", "L1.ic", "C1.v", "grid.va", "grid.vb", "grid.vc"});
  EXPECT_EQ(c.unit(c.parameter("sun.active")), "W");
  EXPECT_EQ(c.gates().size(), 6U);
  std::get<GridFollowing>(description.ready[0]).regulates = "dc voltage";
  try {
    (void)expand(description);
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(),
                 "grid_following.sun, dc_voltage: missing; with regulates = \"dc voltage\" it is "
                 "wanted, and dc_capacitance");
  }
}

}  // namespace
}  // namespace zavrek::control
