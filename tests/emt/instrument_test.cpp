#include <cmath>
#include <complex>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

Network with_ct(CurrentTransformer ct) {
  Network n;
  n.buses = {{"bar", 20e3}, {"end", 20e3}};
  ct.name = "ct";
  ct.on = "c";
  ct.primary_A = 400;
  n.elements = {
      Source{.name = "grid", .bus = "bar", .angle_rad = -pi / 2, .short_circuit_VA = 500e6, .x_over_r = 30},
      Cable{.name = "c",
            .between = {"bar", "end"},
            .length_m = 1000,
            .r1_ohm_per_m = 5e-5,
            .x1_ohm_per_m = 3e-4,
            .r0_ohm_per_m = 5e-5,
            .x0_ohm_per_m = 3e-4},
      Load{.name = "l", .bus = "end", .active_W = 6e6, .connection = "grounded star"}, ct};
  n.faults = {Fault{.name = "f", .on = "end", .phases = "ABC"}};
  return n;
}

/// Largest difference between the secondary and the primary over the ratio within a time after the fault.
double error_after_fault(const CurrentTransformer& ct, double from, double until) {
  Plant plant = compile(with_ct(ct), 20e-6);
  plant.close(plant.operable("f"), 0.04);
  double worst = 0;
  while (plant.time_s() < 0.04 + until) {
    EXPECT_EQ(plant.step(), Status::running);
    if (plant.time_s() > 0.04 + from)
      worst = std::max(worst, std::abs(value(plant, "ct.ia") - value(plant, "c.ia") / 400));
  }
  return worst;
}

TEST(CurrentTransformer, IsNearlyIdealBelowItsKneeAndSaturatesOnTheOffset) {
  CurrentTransformer ct{
      .knee_V = 2000, .knee_current_A = 0.02, .winding_resistance_ohm = 2, .burden_resistance_ohm = 3};
  EXPECT_LT(error_after_fault(ct, 0, 0.1), 0.05);
  ct.knee_V = 250;
  // The offset's flux fills the core within some cycles, not at once: time to saturation.
  EXPECT_LT(error_after_fault(ct, 0, 0.004), 0.5);
  EXPECT_GT(error_after_fault(ct, 0.004, 0.1), 10);
}

TEST(CurrentTransformer, CarriesAnInductiveBurdenAsTheEquationSays) {
  // Far below the knee the magnetising branch is an inductance M = 0.85 bend / knee: phasors are exact.
  CurrentTransformer ct{.knee_V = 200,
                        .knee_current_A = 0.2,
                        .winding_resistance_ohm = 2,
                        .burden_resistance_ohm = 3,
                        .burden_inductance_H = 40e-3};
  Plant plant = compile(with_ct(ct), 10e-6);
  for (int k = 0; k < 20000; ++k) ASSERT_EQ(plant.step(), Status::running);
  const double omega = 2 * pi * 50;
  const double inverse_henry = 0.85 * (0.2 * std::numbers::sqrt2) / (200 * std::numbers::sqrt2 / omega);
  const std::complex<double> z(5, omega * 40e-3), j(0, 1);
  // j w flux = z i_s, i_s = i_p - flux/M
  const std::complex<double> share = 1.0 / (1.0 + z * inverse_henry / (j * omega));
  const std::complex<double> expected = share * plant.phasor(plant.signal("c.ia")) / 400.0;
  double worst = 0, peak = std::abs(expected);
  for (int k = 0; k < 2000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double wanted = (expected * std::polar(1.0, omega * plant.time_s())).real();
    worst = std::max(worst, std::abs(value(plant, "ct.ia") - wanted));
  }
  EXPECT_LT(worst, 1e-3 * peak);
  EXPECT_GT(std::abs(share - 1.0), 5e-3) << "else the test shows nothing";
}

TEST(CurrentTransformer, AnInductiveBurdenBringsSaturationForward) {
  CurrentTransformer ct{
      .knee_V = 250, .knee_current_A = 0.02, .winding_resistance_ohm = 2, .burden_resistance_ohm = 3};
  const double resistive = error_after_fault(ct, 0, 0.006);
  ct.burden_inductance_H = 20e-3;
  EXPECT_GT(error_after_fault(ct, 0, 0.006), resistive);
}

TEST(CurrentTransformer, RemanenceBringsSaturationForward) {
  const auto time_to_saturation = [](double remanence) {
    CurrentTransformer ct{.knee_V = 400,
                          .knee_current_A = 0.02,
                          .winding_resistance_ohm = 2,
                          .burden_resistance_ohm = 3,
                          .remanence = remanence};
    Plant plant = compile(with_ct(ct), 20e-6);
    plant.close(plant.operable("f"), 0.04);
    while (plant.time_s() < 0.5) {
      EXPECT_EQ(plant.step(), Status::running);
      if (std::abs(value(plant, "ct.ia") - value(plant, "c.ia") / 400) > 2) return plant.time_s() - 0.04;
    }
    return 1.0;
  };
  const double without = time_to_saturation(0), against = time_to_saturation(-0.8),
               with = time_to_saturation(0.8);
  EXPECT_LT(std::min(with, against), without);
  EXPECT_GT(std::max(with, against), std::min(with, against));
}

TEST(CurrentTransformer, DrawsAtTheKneeWhatTheStandardSays) {
  // Secondary e.m.f. of the knee: magnetising current knee_current_A; 10 % more: half as much again (peaks of
  // flux).
  CurrentTransformer ct{
      .knee_V = 100, .knee_current_A = 0.1, .winding_resistance_ohm = 50, .burden_resistance_ohm = 50};
  for (const auto& [factor, ratio] : {std::pair{1.0, 1.0}, std::pair{1.1, 1.5}}) {
    Network n = with_ct(ct);
    // Choose the load so that the flux swings to factor * knee: i_s = factor * knee_V / 100 ohm.
    std::get<Load>(n.elements[2]).active_W = std::sqrt(3.0) * 20e3 * 400 * factor * 100 / 100.0;
    Plant plant = compile(n, 20e-6);
    double most = 0, flux = 0;
    while (plant.time_s() < 0.1) {
      ASSERT_EQ(plant.step(), Status::running);
      const double magnetizing = std::abs(value(plant, "c.ia") / 400 - value(plant, "ct.ia"));
      if (std::abs(value(plant, "ct.fluxa")) > flux) {
        flux = std::abs(value(plant, "ct.fluxa"));
        most = magnetizing;
      }
    }
    const double knee = std::sqrt(2.0) * 100 / (2 * pi * 50), x = flux / knee;
    EXPECT_NEAR(most, std::sqrt(2.0) * 0.1 * (0.85 * x + 0.15 * std::pow(x, 14)), 1e-3) << factor;
    EXPECT_NEAR((0.85 * factor + 0.15 * std::pow(factor, 14)), ratio, 0.01);
  }
}

Network with_cvt() {
  Network n;
  n.buses = {{"bar", 110e3}};
  n.elements = {
      Source{.name = "grid", .bus = "bar", .short_circuit_VA = 3e9},
      CapacitiveVoltageTransformer{.name = "u", .bus = "bar", .primary_V = 110e3, .secondary_V = 100}};
  n.faults = {Fault{.name = "f", .on = "bar", .phases = "ABC", .resistance_ohm = 0.01}};
  return n;
}

TEST(CapacitiveVoltageTransformer, IsTrueInTheSteadyState) {
  Plant plant = compile(with_cvt());
  const double peak = 100 * std::sqrt(2.0 / 3);
  double worst = 0;
  while (plant.time_s() < 0.2) {
    ASSERT_EQ(plant.step(), Status::running);
    worst = std::max(worst, std::abs(value(plant, "u.va") - value(plant, "bar.va") * 100 / 110e3));
  }
  EXPECT_LT(worst, 0.03 * peak);
}

TEST(CapacitiveVoltageTransformer, KeepsAnEnergyOfItsOwnWhenThePrimaryCollapsesAndLosesIt) {
  Plant plant = compile(with_cvt());
  const double peak = 100 * std::sqrt(2.0 / 3);
  plant.close(plant.operable("f"), 0.055);
  double early = 0, late = 0;
  while (plant.time_s() < 0.3) {
    ASSERT_EQ(plant.step(), Status::running);
    const double v = std::abs(value(plant, "u.va"));
    if (plant.time_s() > 0.06 && plant.time_s() < 0.075) early = std::max(early, v);
    if (plant.time_s() > 0.25) late = std::max(late, v);
  }
  EXPECT_GT(early, 0.02 * peak);  // the primary holds less than 0.1 %
  EXPECT_LT(early, 0.5 * peak);
  EXPECT_LT(late, 0.01 * peak);
}

}  // namespace
}  // namespace zavrek::emt
