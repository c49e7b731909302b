// A vehicle against closed forms of its motion.
#include <algorithm>
#include <cmath>

#include <gtest/gtest.h>

#include "control/bench.hpp"

namespace zavrek::control {
namespace {

using test::Bench;

constexpr double g = 9.80665;

/// 10 t on wheels of 0.5 m, geared 20 to 1; what turns counts as 2 * 100 / 0.5^2 = 800 kg more.
struct Road : Bench {
  Vehicle& vehicle;
  explicit Road(double period = 1e-3) : vehicle(add<Vehicle>("v")), period_(period) {
    signals = {{"front", 0}, {"rear", 0}, {"brake", 0}, {"slope", 0}};
    vehicle.front = "front";
    vehicle.rear = "rear";
    vehicle.brake = "brake";
    vehicle.slope = "slope";
    vehicle.mass_kg = 10e3;
    vehicle.radius_m = 0.5;
    vehicle.ratio = 20;
    vehicle.axle_inertia_kgm2 = 100;
  }
  void go(double seconds) {
    if (!c) start(period_);
    run(static_cast<int>(std::lround(seconds / period_)));
  }

 private:
  double period_;
};
constexpr double moved = 10.8e3;

TEST(Vehicle, TurnsTorqueIntoAccelerationByAllThatMovesAndTurns) {
  Road road;
  road.vehicle.efficiency = 0.95;
  road.signals["front"] = 150;
  road.signals["rear"] = 100;
  road.go(2);
  const double first = road["v"];
  road.go(4);
  const double wanted = (250 * 20 * 0.95 / 0.5 - 0.012 * 10e3 * g) / moved;
  EXPECT_NEAR((road["v"] - first) / 4, wanted, 1e-3 * wanted);
  EXPECT_NEAR(road["v.acceleration"], wanted, 1e-3 * wanted);
  EXPECT_NEAR(road["v.distance"], 0.5 * wanted * 36, 2e-2);
  // Ten times the weight by the slip, and both axles about as fast as the road.
  EXPECT_NEAR(road["v.rear_speed"], road["v"] / 0.5 * 20, 0.01 * road["v.rear_speed"]);
  EXPECT_GT(road["v.front_speed"], road["v"] / 0.5 * 20);
}

TEST(Vehicle, CoastsDownAgainstRollingAndAir) {
  Road road;
  road.vehicle.drag_area_m2 = 8;
  road.signals["front"] = road.signals["rear"] = 250;
  road.go(15);
  road.signals["front"] = road.signals["rear"] = 0;
  road.go(1);  // the tyres have let go
  const double from = road["v"], rolling = 0.012 * 10e3 * g, drag = 0.5 * 1.2 * 8;
  ASSERT_GT(from, 15);
  // m dv/dt = -R - k v^2: v = sqrt(R/k) tan(atan(v0 sqrt(k/R)) - t sqrt(R k)/m).
  const double end = std::sqrt(rolling / drag);
  for (int t = 1; t <= 60; ++t) {
    road.go(1);
    const double wanted = end * std::tan(std::atan(from / end) - t * std::sqrt(rolling * drag) / moved);
    ASSERT_NEAR(road["v"], wanted, 0.005) << t;
  }
  road.go(200);
  EXPECT_NEAR(road["v"], 0, 1e-9) << "it stays where it came to rest";
}

TEST(Vehicle, RollsBackOnASlopeUnlessItsBrakeHoldsIt) {
  Road road;
  road.vehicle.brake_force_N = 60e3;
  road.vehicle.rolling = 0;
  road.signals["slope"] = 0.06;
  road.signals["brake"] = 1;
  road.go(5);
  EXPECT_NEAR(road["v"], 0, 0.01) << "but for the creeping of its tyres";
  road.signals["brake"] = 0;
  road.go(1);
  const double before = road["v"];
  road.go(2);
  const double wanted = 10e3 * g * 0.06 / std::hypot(1, 0.06) / moved;
  EXPECT_NEAR((before - road["v"]) / 2, wanted, 0.01 * wanted);
}

TEST(Vehicle, IsHeldBackByItsBrakesByItsMass) {
  Road road;
  road.vehicle.brake_force_N = 30e3;
  road.vehicle.rolling = 0;
  road.vehicle.drawn_kg = 20e3;
  road.signals["front"] = road.signals["rear"] = 250;
  road.go(8);
  road.signals["front"] = road.signals["rear"] = 0;
  road.signals["brake"] = 1;
  road.go(0.5);
  const double before = road["v"];
  road.go(1);
  EXPECT_NEAR(before - road["v"], 30e3 / (moved + 20e3), 0.01);
}

TEST(Vehicle, FindsItsLimitInTheAdhesionOfTheAxlesThatDrive) {
  // Front alone: m a = mu (share m g - m a h/L), while the rear's rotating mass is carried along.
  Road road;
  road.vehicle.adhesion = 0.3;
  road.vehicle.rolling = 0;
  road.signals["front"] = 2000;
  road.go(1);
  const double before = road["v"];
  road.go(1);
  const double rear_mass = 100 / 0.25;
  const double wanted = 0.3 * 0.5 * 10e3 * g / (10e3 + rear_mass + 0.3 * 10e3 * 0.8 / 2.5);
  EXPECT_NEAR(road["v"] - before, wanted, 5e-3 * wanted);
  EXPECT_NEAR(road["v.grip"], 1, 1e-9);
  EXPECT_GT(road["v.front_speed"], 5 * road["v.rear_speed"]) << "the front wheels spin";
  // On all four it is mu g, whatever moves from axle to axle.
  Road all;
  all.vehicle.adhesion = 0.3;
  all.vehicle.rolling = 0;
  all.signals["front"] = all.signals["rear"] = 2000;
  all.go(1);
  const double from = all["v"];
  all.go(1);
  EXPECT_NEAR(all["v"] - from, 0.3 * g, 5e-3 * g);
}

TEST(Vehicle, GoesAlikeAtEveryPeriod) {
  std::vector<double> ends;
  for (const double period : {0.2e-3, 1e-3, 10e-3}) {
    Road road(period);
    road.vehicle.drag_area_m2 = 8;
    road.vehicle.brake_force_N = 30e3;
    road.signals["front"] = road.signals["rear"] = 200;
    road.signals["slope"] = 0.02;
    road.go(6);
    road.signals["rear"] = -100;
    road.go(2);
    road.signals["brake"] = 0.5;
    road.go(1);
    ends.push_back(road["v"]);
  }
  EXPECT_NEAR(ends[1], ends[0], 0.01);
  EXPECT_NEAR(ends[2], ends[0], 0.06);
}

}  // namespace
}  // namespace zavrek::control
