#include "zavrek/emt/line_constants.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "emt/circuits.hpp"

namespace zavrek::emt {
namespace {

using test::four_wires;

TEST(LineConstants, MeetThePublishedMatricesWithinTheirRounding) {
  // Published to four digits; its susceptances imply a permittivity 0.07 % below that of vacuum.
  const test::LineDeviation deviation = test::line_deviation(ZAVREK_TEST_DATA);
  EXPECT_EQ(deviation.entries, 9);
  EXPECT_LT(deviation.resistance_ohm_per_mile, 6.5e-5);
  EXPECT_LT(deviation.reactance_ohm_per_mile, 6.5e-5);
  EXPECT_LT(deviation.susceptance_share, 8e-4);
}

TEST(LineConstants, AgreeBetweenTheTwoEarthReturnsAtLowFrequency) {
  LineGeometry g = four_wires();
  const LineConstants carson = line_constants(g);
  g.earth = "complex depth";
  const LineConstants depth = line_constants(g);
  EXPECT_NEAR(std::abs(depth.z1_ohm_per_m / carson.z1_ohm_per_m), 1, 1e-3);
  EXPECT_NEAR(std::abs(depth.z0_ohm_per_m / carson.z0_ohm_per_m), 1, 1e-2);
}

TEST(LineConstants, OfAPairOfWiresFollowTheClosedForm) {
  // Far above ground and alone, the positive sequence of three wires in an equilateral triangle is
  // x1 = (w mu0 / 2 pi) ln(D / GMR) and c1 = 2 pi eps0 / ln(D / r).
  LineGeometry g;
  const double side = 4, height = 400;
  for (int k = 0; k < 3; ++k) {
    const double angle = 2 * std::numbers::pi * k / 3;
    g.wires.push_back({.name = std::string(1, static_cast<char>('a' + k)),
                       .phase = std::string(1, static_cast<char>('a' + k)),
                       .x_m = side / std::sqrt(3.0) * std::cos(angle),
                       .height_m = height + side / std::sqrt(3.0) * std::sin(angle),
                       .resistance_ohm_per_m = 1e-4,
                       .diameter_m = 0.02});
  }
  const LineConstants constants = line_constants(g);
  EXPECT_NEAR(constants.z1_ohm_per_m.real(), 1e-4, 1e-9);
  EXPECT_NEAR(constants.z1_ohm_per_m.imag(),
              2 * std::numbers::pi * 50 * 2e-7 * std::log(side / (0.01 * std::exp(-0.25))), 1e-9);
  EXPECT_NEAR(constants.c1_F_per_m, 2 * std::numbers::pi * 8.8541878128e-12 / std::log(side / 0.01), 1e-15);
}

TEST(LineConstants, JoinABundleAsItsSeparateWires) {
  LineGeometry together;
  together.wires = {{.name = "a",
                     .phase = "a",
                     .x_m = 0,
                     .height_m = 20,
                     .resistance_ohm_per_m = 6e-5,
                     .diameter_m = 0.03,
                     .bundle = 2,
                     .bundle_spacing_m = 0.4}};
  LineGeometry in_condensed;
  for (const double x : {-0.2, 0.2}) {
    in_condensed.wires.push_back({.name = x < 0 ? "a1" : "a2",
                                  .phase = "a",
                                  .x_m = x,
                                  .height_m = 20,
                                  .resistance_ohm_per_m = 6e-5,
                                  .diameter_m = 0.03});
  }
  const auto one = line_constants(together);
  const auto two = line_constants(in_condensed);
  EXPECT_NEAR(std::abs(one.series_ohm_per_m[0] / two.series_ohm_per_m[0]), 1, 1e-4);
  EXPECT_NEAR(one.capacitance_F_per_m[0] / two.capacitance_F_per_m[0], 1, 1e-4);
}

TEST(LineConstants, RefuseWiresThatCannotBe) {
  LineGeometry g = four_wires();
  g.wires[1].x_m = g.wires[0].x_m;
  g.wires[2].sag_m = 20;
  g.wires[3].diameter_m = network::unset;
  std::string text;
  for (const Flaw& flaw : validate(g)) text += to_string(flaw) + "\n";
  EXPECT_EQ(text,
            "wire.b, x: lies inside wire \"a\"\nwire.c, sag: lets the wire touch the ground\n"
            "wire.n, diameter: missing; a length in mm is wanted\n");
}

}  // namespace
}  // namespace zavrek::emt
