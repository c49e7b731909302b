// Loads whose power depends on their voltage: the law itself, and that nothing rings on the way.
#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

constexpr double nominal_V = 11e3, active_W = 2e6, frequency_Hz = 50;

struct Law {
  double current = 0, power = 0;  // shares
  double reactive_var = 0.6e6;
  std::string connection = "grounded star";
  double step_s = 50e-6;
};

/// The load behind an inductance that matters, at a source that goes to `level` of its voltage at 40 ms.
Network network_of(const Law& law, double level) {
  Network n;
  n.step_s = law.step_s;
  n.frequency_Hz = frequency_Hz;
  n.buses = {{"s", nominal_V}, {"r", nominal_V}};
  n.elements = {Source{.name = "g", .bus = "s", .magnitude_programme = {{0.04, 1}, {0.0401, level}}},
                Branch{.name = "z", .between = {"s", "r"}, .resistance_ohm = 0.2, .inductance_H = 8e-3},
                Load{.name = "l",
                     .bus = "r",
                     .active_W = active_W,
                     .reactive_var = law.reactive_var,
                     .connection = law.connection,
                     .constant_current = law.current,
                     .constant_power = law.power}};
  return n;
}

struct Taken {
  double per_unit = 0, active_W = 0, reactive_var = 0;
};

/// Of the cycle that follows, by Fourier.
Taken measure(Plant& plant) {
  const long cycle = std::lround(1 / frequency_Hz / plant.step_s());
  std::complex<double> v[3], i[3];
  for (long k = 0; k < cycle; ++k) {
    EXPECT_EQ(plant.step(), Status::running);
    const std::complex<double> turn = std::polar(std::numbers::sqrt2 / static_cast<double>(cycle),
                                                 -2 * std::numbers::pi * frequency_Hz * plant.time_s());
    for (int p = 0; p < 3; ++p) {
      const std::string phase(1, static_cast<char>('a' + p));
      v[p] += value(plant, "r.v" + phase) * turn;
      i[p] += value(plant, "l.i" + phase) * turn;
    }
  }
  Taken taken{std::abs(v[0]) / (nominal_V / std::numbers::sqrt3)};
  for (int p = 0; p < 3; ++p) {
    taken.active_W += (v[p] * std::conj(i[p])).real();
    taken.reactive_var += (v[p] * std::conj(i[p])).imag();
  }
  return taken;
}

class LoadLaw : public testing::TestWithParam<Law> {};

TEST_P(LoadLaw, HoldsAtEveryVoltageAfterItsResponse) {
  const Law law = GetParam();
  for (const double level : {1.12, 0.92, 0.82, 0.66}) {
    const Network n = network_of(law, level);
    Plant plant = compile(n);
    run(plant, 0.4);
    const Taken taken = measure(plant);
    const double u = taken.per_unit, held = std::max(u, 0.7);
    const double share =
        u * u * (1 - law.current - law.power + law.current / held + law.power / (held * held));
    EXPECT_NEAR(taken.active_W, share * active_W, 0.002 * active_W) << level << " at " << u;
    EXPECT_NEAR(taken.reactive_var, share * law.reactive_var, 0.002 * active_W) << level << " at " << u;
  }
}

/// In a dip the voltage turns by what its frequency makes it turn, and not by alternating from step to step.
TEST_P(LoadLaw, DoesNotRingInADip) {
  const Law law = GetParam();
  for (const double level : {0.85, 0.75, 0.6, 0.4}) {
    const Network n = network_of(law, level);
    Plant plant = compile(n);
    run(plant, 0.06);  // two cycles into the dip, the response under way
    double last = value(plant, "r.va"), previous = last, alternating = 0;
    for (int k = 0; k < 2000; ++k) {
      ASSERT_EQ(plant.step(), Status::running);
      const double now = value(plant, "r.va");
      if (k > 1) alternating = std::max(alternating, std::abs(now - 2 * last + previous));
      previous = last;
      last = now;
    }
    // The second difference of the fundamental, and as much again.
    const double omega_h = 2 * std::numbers::pi * frequency_Hz * law.step_s;
    EXPECT_LT(alternating, 2 * omega_h * omega_h * 9e3 + 1e-3) << level;
  }
}

INSTANTIATE_TEST_SUITE_P(Mixtures, LoadLaw,
                         testing::Values(Law{.power = 1}, Law{.power = 1, .step_s = 2e-6}, Law{.current = 1},
                                         Law{.current = 0.3, .power = 0.5, .connection = "delta"},
                                         Law{.power = 1, .reactive_var = 0},
                                         Law{.power = 1, .reactive_var = -0.5e6},
                                         Law{.power = 0.8, .reactive_var = -0.5e6, .step_s = 5e-6}));

TEST(Load, OfConstantPowerTakesTheMoreCurrentTheLowerItsVoltageDownToItsLeast) {
  double before = 0;
  for (const double level : {1.0, 0.9, 0.8}) {
    const Network n = network_of({.power = 1}, level);
    Plant plant = compile(n);
    run(plant, 0.4);
    const Taken taken = measure(plant);
    const double amperes = taken.active_W / taken.per_unit;
    EXPECT_GT(amperes, before);
    before = amperes;
  }
}

}  // namespace
}  // namespace zavrek::emt
