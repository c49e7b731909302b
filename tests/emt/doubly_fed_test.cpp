// The doubly-fed machine: with its rings shorted it is an induction machine; open it is a transformer that
// turns.
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

DoublyFedMachine machine(double ratio, double start_speed) {
  return {.name = "m",
          .bus = "s",
          .rotor = "r",
          .ratio = ratio,
          .stator_resistance_ohm = 0.02,
          .stator_leakage_ohm = 0.1,
          .magnetizing_ohm = 4,
          .rotor_leakage_ohm = 0.12,
          .rotor_resistance_ohm = 0.025,
          .pole_pairs = 2,
          .inertia_kgm2 = 12,
          .load_torque_Nm = 0,
          .start_speed_rad_per_s = start_speed};
}

TEST(DoublyFedMachine, WithItsRingsShortedIsAnInductionMachine) {
  for (const double ratio : {1.0, 2.5}) {
    Network rings;
    rings.start = "zero";
    rings.buses = {{"s", 690}, {"r", 690}};
    DoublyFedMachine led_out = machine(ratio, 0);
    led_out.active_torque_Nm = -300;
    rings.elements = {Source{.name = "g", .bus = "s", .short_circuit_VA = 20e6}, led_out,
                      Branch{.name = "short", .between = {"r", "ground"}, .resistance_ohm = 1e-7}};
    Network cage = rings;
    cage.buses.pop_back();
    cage.elements.pop_back();
    cage.elements[1] = InductionMachine{.name = "m",
                                        .bus = "s",
                                        .stator_resistance_ohm = 0.02,
                                        .stator_leakage_ohm = 0.1,
                                        .magnetizing_ohm = 4,
                                        .rotor_leakage_ohm = 0.12,
                                        .rotor_resistance_ohm = 0.025,
                                        .pole_pairs = 2,
                                        .inertia_kgm2 = 12,
                                        .active_torque_Nm = -300,
                                        .start = "standstill"};
    Plant a = compile(rings, 20e-6), b = compile(cage, 20e-6);
    double current = 0, off = 0, torque = 0, torque_off = 0;
    while (a.time_s() < 1.2) {
      ASSERT_EQ(a.step(), Status::running);
      ASSERT_EQ(b.step(), Status::running);
      const auto of = [](const Plant& p, const char* name) { return p.value(p.signal(name)); };
      current = std::max(current, std::abs(of(b, "m.ia")));
      off = std::max(off, std::abs(of(a, "m.ia") - of(b, "m.ia")));
      torque = std::max(torque, std::abs(of(b, "m.torque")));
      torque_off = std::max(torque_off, std::abs(of(a, "m.torque") - of(b, "m.torque")));
    }
    EXPECT_GT(current, 2000);
    EXPECT_LT(off, 2e-3 * current) << ratio;
    EXPECT_LT(torque_off, 2e-3 * torque) << ratio;
    EXPECT_NEAR(a.value(a.signal("m.speed")), b.value(b.signal("m.speed")), 0.02);
    // The slip is positive, so the rotor's currents turn forwards, slowly.
    EXPECT_GT(a.value(a.signal("m.speed")), 150);
  }
}

TEST(DoublyFedMachine, WithItsRingsOpenHasTheSlipsVoltage) {
  Network n;
  n.buses = {{"s", 690}, {"r", 690}};
  n.elements = {Source{.name = "g", .bus = "s"}, machine(2, 0.8 * 2 * pi * 50 / 2),
                Branch{.name = "open", .between = {"r", "ground"}, .resistance_ohm = 1e5}};
  Plant plant = compile(n, 20e-6);
  const double peak = 690 * std::sqrt(2.0 / 3), share = 4 / std::hypot(4.1, 0.02);
  double most = 0, least = 0, crossings = 0, before = 0;
  while (plant.time_s() < 1) {
    ASSERT_EQ(plant.step(), Status::running);
    const double v = plant.value(plant.signal("r.va"));
    if (plant.time_s() < 0.01) continue;
    most = std::max(most, v);
    least = std::min(least, v);
    crossings += (before < 0 && v >= 0) ? 1 : 0;
    before = v;
  }
  EXPECT_NEAR(most, 2 * 0.2 * share * peak, 2e-3 * most);
  EXPECT_NEAR(least, -most, 2e-3 * most);
  EXPECT_NEAR(crossings, 10, 1);  // 10 Hz
  EXPECT_NEAR(plant.value(plant.signal("m.speed")), 0.8 * 2 * pi * 50 / 2, 0.01);
}

TEST(DoublyFedMachine, ConvergesToTheVariableStepSolution) {
  Network n;
  n.buses = {{"s", 690}, {"r", 690}};
  DoublyFedMachine fed = machine(1.5, 140);
  fed.active_torque_Nm = 900;
  fed.shaft = {"30 kg m^2, 200 kN m/rad, 300 N m s/rad"};
  n.elements = {Source{.name = "g", .bus = "s", .short_circuit_VA = 20e6}, fed,
                Branch{.name = "x", .between = {"r", "ground"}, .resistance_ohm = 0.3, .inductance_H = 1e-3}};
  n.faults = {Fault{.name = "f", .on = "s", .phases = "BC", .resistance_ohm = 0.05}};
  const Study study{.network = n,
                    .commands = {{0.0503, "f", true}, {0.12, "f", false}},
                    .duration_s = 0.2,
                    .sample_s = 1e-3,
                    .signals = {"m.ia", "m.ib_far", "m.torque", "m.speed"}};
  const Series exact = solve_reference(study);
  const auto worst = [&](std::size_t signal, double step_s) {
    const Series fixed = simulate(study, step_s);
    double off = 0, peak = 0;
    for (std::size_t k = 0; k < exact.time_s.size(); ++k) {
      off = std::max(off, std::abs(fixed.values[signal][k] - exact.values[signal][k]));
      peak = std::max(peak, std::abs(exact.values[signal][k]));
    }
    return off / peak;
  };
  for (std::size_t signal = 0; signal < 4; ++signal) {
    EXPECT_LT(worst(signal, 10e-6), 5e-5) << signal;
    // The speed is off by some 1e-7 at either step.
    EXPECT_GT(worst(signal, 40e-6) / worst(signal, 10e-6), signal == 3 ? 3 : 6) << signal;
  }
}

}  // namespace
}  // namespace zavrek::emt
