#include <numbers>

#include <gtest/gtest.h>

#include "control/bench.hpp"

namespace zavrek::control {
namespace {

using test::Bench;

TEST(Plan, HoldsWhileHeWhoOrderedItLives) {
  Bench b;
  b.signals = {{"order", 250}, {"beat", 0}};
  auto& plan = b.add<Plan>("p");
  plan.input = "order";
  plan.beat = "beat";
  plan.otherwise = "-1";
  plan.lasts_s = 0.01;
  b.start(1e-3);
  b.run(3);
  EXPECT_EQ(b["p"], -1) << "he has not been heard yet";
  b.signals["beat"] = 1;
  b.run();
  EXPECT_EQ(b["p"], 250);
  EXPECT_EQ(b["p.fresh"], 1);
  b.run(9);
  EXPECT_EQ(b["p"], 250);
  b.run();
  EXPECT_EQ(b["p"], -1) << "ten periods without a beat";
  EXPECT_EQ(b["p.fresh"], 0);
  b.signals["beat"] = 2;
  b.run();
  EXPECT_EQ(b["p"], 250);
}

TEST(LoadShedding, ShedsAtOnceByPriorityAndBringsBackOneByOne) {
  Bench b;
  b.signals = {{"lost", 0}, {"available", 300}, {"offices", 120}};
  auto& shed = b.add<LoadShedding>("s");
  shed.lost = "lost";
  shed.available = "available";
  shed.loads = {"stores: 170", "workshops: 130", "offices: offices"};
  shed.restore_after_s = 0.005;
  b.start(1e-3);
  b.run(3);
  EXPECT_EQ(b["s"], 0);
  EXPECT_EQ(b["s.kept"], 420);
  b.signals["lost"] = 1;
  b.run();
  EXPECT_EQ(b["s"], 1) << "170 and 130 fit into 300, 120 more do not";
  EXPECT_EQ(b["s.offices"], 0);
  EXPECT_EQ(b["s.kept"], 300);
  b.signals["available"] = 299;
  b.run();
  EXPECT_EQ(b["s"], 2);
  EXPECT_EQ(b["s.stores"], 1);
  b.signals["available"] = 310;
  b.run(20);
  EXPECT_EQ(b["s"], 2) << "a twentieth must be left over";
  b.signals["available"] = 320;
  b.run(4);
  EXPECT_EQ(b["s"], 2) << "not for long enough";
  b.run();
  EXPECT_EQ(b["s.workshops"], 1);
  b.signals["lost"] = 0;
  b.run(4);
  EXPECT_EQ(b["s.offices"], 0);
  b.run();
  EXPECT_EQ(b["s.offices"], 1) << "the grid is there";
}

TEST(LoadShedding, NamesTheLoadThatIsNone) {
  Bench b;
  auto& shed = b.add<LoadShedding>("s");
  shed.lost = "0";
  shed.available = "0";
  shed.loads = {"offices"};
  EXPECT_EQ(b.refusal_of_ready(),
            "load_shedding.s, loads: \"offices\" is no load; write one such as \"offices: 120 kW\"");
}

TEST(Synchroniser, ReleasesWhereTheContactsWillMeetInPhase) {
  using std::numbers::pi;
  Bench b;
  b.signals = {{"v1", 326}, {"f1", 50.05}, {"a1", 0}, {"v2", 320}, {"f2", 50}, {"a2", 0}};
  auto& s = b.add<Synchroniser>("s");
  s.amplitude_1 = "v1", s.frequency_1 = "f1", s.angle_1 = "a1";
  s.amplitude_2 = "v2", s.frequency_2 = "f2", s.angle_2 = "a2";
  s.least_voltage_V = 200;
  s.closing_time_s = 0.1;
  s.angle_rad = pi / 18;
  s.lasts_s = 0.002;
  b.start(1e-3);
  // 0.05 Hz turn 1.8 degrees in 100 ms: released from 11.8 degrees before to 8.2 behind.
  const auto released = [&](double degrees) {
    b.signals["a1"] = 2 * pi + degrees * pi / 180;
    b.run(1);
    b.signals["v1"] = 0;
    b.run(1);
    b.signals["v1"] = 326;
    b.run(3);
    return b["s"] > 0.5;
  };
  EXPECT_FALSE(released(-12.0));
  EXPECT_TRUE(released(-11.5));
  EXPECT_TRUE(released(8.0));
  EXPECT_FALSE(released(8.5));
  EXPECT_NEAR(b["s.angle"], 8.5 * pi / 180, 1e-12);
  EXPECT_NEAR(b["s.slip"], 0.05, 1e-12);
  EXPECT_TRUE(released(0));
  b.signals["v2"] = 290;
  b.run();
  EXPECT_FALSE(b["s"] > 0.5) << "more than a tenth apart";
  b.signals["v2"] = 320;
  b.signals["f1"] = 50.2;
  b.run(5);
  EXPECT_FALSE(b["s"] > 0.5) << "too fast";
}

}  // namespace
}  // namespace zavrek::control
