#include <cmath>
#include <complex>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

OnePhaseTransformer pot(const char* name, const char* high, const char* low) {
  return {.name = name,
          .high = "high",
          .high_phases = high,
          .low = "low",
          .low_phases = low,
          .rating_VA = 100e3,
          .high_voltage_V = 7200,
          .low_voltage_V = 2400,
          .short_circuit_voltage = 0.05,
          .copper_loss_W = 1e3};
}

Network bank(std::vector<OnePhaseTransformer> pots) {
  Network n;
  n.buses = {{"high", 12.47e3}, {"low", 2400}};
  n.elements = {
      Source{.name = "grid", .bus = "high"},
      Load{.name = "l", .bus = "low", .active_W = 30e3, .reactive_var = 10e3, .connection = "delta"},
      Load{.name = "earth", .bus = "low", .active_W = 10, .connection = "grounded star"}};
  for (auto& one : pots) n.elements.emplace_back(std::move(one));
  return n;
}

TEST(OnePhaseTransformer, OpenStarToOpenDeltaGivesThreePhasesFromTwo) {
  const Plant plant = compile(bank({pot("t1", "a", "ab"), pot("t2", "b", "bc")}));
  const auto ab = phasor(plant, "low.va") - phasor(plant, "low.vb");
  const auto bc = phasor(plant, "low.vb") - phasor(plant, "low.vc");
  // In step with the phases that the high windings lie on; the third side closes the triangle.
  EXPECT_NEAR(std::abs(ab) / std::numbers::sqrt2, 2400, 0.02 * 2400);
  EXPECT_NEAR(std::arg(ab / phasor(plant, "high.va")), 0, 0.03);
  EXPECT_NEAR(std::arg(bc / phasor(plant, "high.vb")), 0, 0.03);
  EXPECT_NEAR(std::abs(ab + bc) / std::numbers::sqrt2, 2400, 0.02 * 2400);
  EXPECT_NEAR(std::abs(phasor(plant, "t1.ia_far") + phasor(plant, "t1.ib_far")), 0, 1e-9);
}

TEST(OnePhaseTransformer, DrawsItsRatedCurrentAtItsShortCircuitVoltage) {
  Network n;
  n.buses = {{"high", 7200, "b"}, {"low", 2400, "b"}};
  OnePhaseTransformer t = pot("t", "", "");
  t.iron_loss_W = 200;
  n.elements = {Source{.name = "grid", .bus = "high", .voltage_V = 0.05 * 7200},
                Branch{.name = "short", .between = {"low", "ground"}, .resistance_ohm = 1e-6}, t};
  const Plant plant = compile(n);
  const auto current = phasor(plant, "t.ib") / std::numbers::sqrt2;
  EXPECT_NEAR(std::abs(current), 100e3 / 7200, 0.002 * 100e3 / 7200);
  // Copper loss 1 kW at the rated current.
  const auto power = phasor(plant, "high.vb") * std::conj(phasor(plant, "t.ib")) / 2.0;
  EXPECT_NEAR(power.real(), 1e3, 10);
}

TEST(OnePhaseTransformer, TurnsItsWindingRoundWithItsPhases) {
  const Plant plant = compile(bank({pot("t1", "ab", "ba"), pot("t2", "bc", "cb")}));
  const auto low = phasor(plant, "low.va") - phasor(plant, "low.vb");
  const auto high = phasor(plant, "high.va") - phasor(plant, "high.vb");
  EXPECT_NEAR(std::abs(std::arg(low / high)), pi, 0.03);
}

TEST(OnePhaseTransformer, DrawsInrushBeyondItsKneeFromItsResidualFlux) {
  Network n;
  n.start = "zero";
  n.buses = {{"high", 7200, "a"}, {"low", 2400, "a"}, {"bar", 7200, "a"}};
  OnePhaseTransformer t = pot("t", "", "");
  t.knee = 1.2;
  t.residual_flux = 0.7;
  n.elements = {Source{.name = "grid", .bus = "bar", .angle_rad = -pi / 2, .short_circuit_VA = 50e6},
                Branch{.name = "z", .between = {"bar", "high"}, .resistance_ohm = 0.1},
                Load{.name = "l", .bus = "low", .active_W = 1e3, .connection = "grounded star"}, t};
  Plant plant = compile(n);
  double peak = 0, flux = 0;
  while (plant.time_s() < 0.02) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(value(plant, "t.ia")));
    flux = std::max(flux, value(plant, "t.flux"));
  }
  const double rated = std::numbers::sqrt2 * 100e3 / 7200,
               rated_Vs = std::numbers::sqrt2 * 7200 / (2 * pi * 50);
  EXPECT_GT(flux, 2 * rated_Vs);  // of 2.7 without the drop of the current
  EXPECT_GT(peak, 2 * rated);
}

TEST(OnePhaseTransformer, SaysWhatItsWindingsMayLieBetween) {
  EXPECT_EQ(
      message_of([] { (void)compile(bank({pot("t1", "abc", "ab")})); }),
      "one_phase_transformer.t1, high_phases: \"abc\" are 3 phases; one or two are wanted, such as \"a\" or "
      "\"ab\"");
  auto lossy = pot("t1", "a", "ab");
  lossy.copper_loss_W = 6e3;
  EXPECT_EQ(
      message_of([&] {
        (void)compile(bank({lossy, pot("t2", "b", "bc")}));
      }),
      "one_phase_transformer.t1, copper_loss: is more than the short-circuit voltage allows; check both");
}

}  // namespace
}  // namespace zavrek::emt
