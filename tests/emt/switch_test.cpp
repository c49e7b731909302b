#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/circuits.hpp"
#include "emt/running.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

/// A source, a breaker, and an inductance behind it with a little capacitance.
Network reactor_circuit(Breaker breaker) {
  breaker.name = "q";
  breaker.between = {"bar", "line"};
  Network n;
  n.buses = {{"bar", 20e3}, {"line", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 500e6},
                Reactor{.name = "x", .bus = "line", .reactive_var = 4e6, .connection = "grounded star"},
                Capacitor{.name = "c", .bus = "line", .reactive_var = 0.05e6, .connection = "grounded star"},
                std::move(breaker)};
  return n;
}

/// Instants at which the three poles open after a command at 0.1 s.
std::array<double, 3> opening_times(const Network& n) {
  Plant plant = compile(n, 10e-6);
  plant.open(plant.operable("q"), 0.1);
  std::array<double, 3> at{};
  std::array<bool, 3> flows{true, true, true};
  while (plant.time_s() < 0.2) {
    EXPECT_EQ(plant.step(), Status::running);
    for (std::size_t k = 0; k < 3; ++k) {
      const bool now = std::abs(value(plant, std::string("q.i") + "abc"[k])) > 1e-3;
      if (now) at[k] = plant.time_s();
      flows[k] = now;
    }
  }
  return at;
}

TEST(Breaker, ScatterMovesEachPoleByItsOwnDelayAndAgainTheSame) {
  Breaker quiet{.chopping_A = 1e9};  // interrupts as soon as the contacts part, so that the delay shows
  Breaker scattered = quiet;
  scattered.scatter_s = 2e-3;
  const auto plain = opening_times(reactor_circuit(quiet)), once = opening_times(reactor_circuit(scattered)),
             twice = opening_times(reactor_circuit(scattered));
  EXPECT_NEAR(plain[0], plain[1], 2e-5);
  EXPECT_EQ(once, twice);
  scattered.seed = 2;
  EXPECT_NE(once, opening_times(reactor_circuit(scattered)));
  for (const double t : once) EXPECT_NEAR(t, 0.1, 2.1e-3);
  EXPECT_GT(std::abs(once[0] - once[1]), 1e-5);
}

TEST(Breaker, ChoppingAnInductiveCurrentRaisesTheVoltageByTheEnergyLeft) {
  Breaker breaker{.chopping_A = 8};
  Network n = reactor_circuit(breaker);
  std::get<Capacitor>(n.elements[2]).reactive_var = 0.01e6;
  Plant plant = compile(n, 5e-6);
  plant.open(plant.operable("q"), 0.0);
  double peak = 0;
  while (plant.time_s() < 0.05) {
    ASSERT_EQ(plant.step(), Status::running);
    for (const char* phase : {"line.va", "line.vb", "line.vc"})
      peak = std::max(peak, std::abs(value(plant, phase)));
  }
  // V^2 = V0^2 + (L/C) i^2 with V0 the crest of the source (at the current zero the voltage is at its crest).
  const double l = 20e3 * 20e3 / 4e6 / (2 * pi * 50), c = 0.01e6 / (2 * pi * 50 * 20e3 * 20e3);
  const double crest = 20e3 * std::sqrt(2.0 / 3);
  const double expected = std::sqrt(crest * crest + l / c * 64);
  EXPECT_GT(expected, 1.2 * crest);
  EXPECT_NEAR(peak, expected, 0.04 * expected);
}

TEST(Breaker, StrikesAgainWhenTheGapIsTooWeakAndGoesOutLater) {
  Breaker weak{.withstand = {{0, 2e3}, {8e-3, 18e3}, {12e-3, 80e3}}};
  Network n = reactor_circuit(weak);
  std::get<Capacitor>(n.elements[2]).reactive_var =
      3e6;  // capacitive: 2 pu across the gap half a cycle later
  std::get<Reactor>(n.elements[1]).reactive_var = 1e3;
  const auto count_strikes = [](Plant plant) {
    plant.open(plant.operable("q"), 0.0);
    int strikes = 0;
    double before = 0;
    while (plant.time_s() < 0.1) {
      EXPECT_EQ(plant.step(), Status::running);
      const double now = value(plant, "q.closed");
      if (now > before + 0.1 && plant.time_s() > 0.001) ++strikes;
      before = now;
    }
    return strikes;
  };
  EXPECT_GT(count_strikes(compile(n, 5e-6)), 0);
  std::get<Breaker>(n.elements[3]).withstand = {{0, 200e3}};
  EXPECT_EQ(count_strikes(compile(n, 5e-6)), 0);
}

TEST(Breaker, InsertionResistorTakesTheVoltageFirst) {
  Breaker breaker{.closed = false, .insertion_resistance_ohm = 60, .insertion_time_s = 12e-3};
  Network n = reactor_circuit(breaker);
  std::get<Capacitor>(n.elements[2]).reactive_var = 5e6;  // a bank that surges when it is switched in bare
  const auto surge = [](Network network, bool bare) {
    if (bare) std::get<Breaker>(network.elements[3]).insertion_resistance_ohm = unset;
    Plant plant = compile(network, 5e-6);
    plant.close(plant.operable("q"), 0.01);
    double peak = 0;
    while (plant.time_s() < 0.04) {
      EXPECT_EQ(plant.step(), Status::running);
      peak = std::max(peak, std::abs(value(plant, "line.va")));
    }
    return peak / (20e3 * std::sqrt(2.0 / 3));
  };
  EXPECT_GT(surge(n, true), 1.5);
  EXPECT_LT(surge(n, false), 1.2);
}

Network bay() {
  Network n;
  n.buses = {{"bar", 20e3}, {"mid", 20e3}, {"feeder", 20e3}};
  n.elements = {
      Source{.name = "grid", .bus = "bar", .short_circuit_VA = 500e6},
      Breaker{.name = "q0", .between = {"bar", "mid"}},
      Disconnector{
          .name = "q9", .between = {"mid", "feeder"}, .travel_time_s = 0.05, .only_when_open = {"q0"}},
      EarthingSwitch{.name = "q8", .bus = "feeder", .travel_time_s = 0.05, .only_when_open = {"q9"}},
      Load{.name = "l", .bus = "feeder", .active_W = 5e6, .connection = "grounded star"}};
  return n;
}

TEST(Interlocking, RefusesUntilItsConditionHolds) {
  Plant plant = compile(bay());
  EXPECT_FALSE(plant.open(plant.operable("q9"), 0));
  EXPECT_FALSE(plant.close(plant.operable("q8"), 0));
  run(plant, 0.1);
  EXPECT_EQ(value(plant, "q9.closed"), 1);
  EXPECT_TRUE(plant.open(plant.operable("q0"), plant.time_s()));
  run(plant, 0.05);
  EXPECT_TRUE(plant.open(plant.operable("q9"), plant.time_s()));
  run(plant, 0.1);
  EXPECT_EQ(value(plant, "q9.closed"), 0);
  EXPECT_TRUE(plant.close(plant.operable("q8"), plant.time_s()));
  run(plant, 0.1);
  EXPECT_EQ(value(plant, "q8.closed"), 1);
  EXPECT_FALSE(plant.close(plant.operable("q9"), plant.time_s()) && value(plant, "q0.closed") > 0);
  EXPECT_TRUE(plant.open(plant.operable("q8"), plant.time_s()));
}

TEST(Interlocking, RefusesANameThatIsNoSwitch) {
  Network n = bay();
  std::get<Disconnector>(n.elements[2]).only_when_open = {"q1"};
  try {
    (void)compile(n);
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(),
                 "q9, only_when_open: nothing named \"q1\" opens and closes, did you mean \"q0\"?");
  }
}

TEST(Arc, DistortsTheVoltageAtItsOwnLevel) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 200e6}};
  n.faults = {
      Fault{.name = "f", .on = "bar", .phases = "AG", .arc_voltage_V = 2000, .arc_resistance_ohm = 0.02}};
  Plant plant = compile(n, 20e-6);
  plant.close(plant.operable("f"), 0.005);
  run(plant, 0.1);
  // Near its crest the current hardly changes: the voltage there is u0 + r0 i.
  double crest = 0, at_crest = 0;
  for (int k = 0; k < 1000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double i = value(plant, "f.ia");
    if (std::abs(i) > crest) {
      crest = std::abs(i);
      at_crest = std::abs(value(plant, "bar.va"));
    }
  }
  EXPECT_GT(crest, 5e3);
  EXPECT_NEAR(at_crest, 2000 + 0.02 * crest, 0.05 * 2000);
}

TEST(Fault, EvolvesFromOnePhaseToThree) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 200e6}};
  n.faults = {Fault{.name = "first", .on = "bar", .phases = "AG"},
              Fault{.name = "then", .on = "bar", .phases = "ABC"}};
  Plant plant = compile(n);
  plant.close(plant.operable("first"), 0.02);
  plant.close(plant.operable("then"), 0.06);
  run(plant, 0.05);
  EXPECT_GT(std::abs(value(plant, "bar.vb")) + std::abs(value(plant, "bar.vc")), 5e3);
  run(plant, 0.05);
  EXPECT_LT(std::abs(value(plant, "bar.vb")), 50);
}

TEST(Source, FollowsItsProgrammesAndCarriesItsHarmonics) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {Source{.name = "grid",
                       .bus = "bar",
                       .harmonics = {{5, 0.04}},
                       .magnitude_programme = {{0.1, 1}, {0.2, 0.5}},
                       .frequency_programme = {{0.1, 50}, {0.3, 45}}}};
  Plant plant = compile(n);
  const double peak = 20e3 * std::sqrt(2.0 / 3);
  run(plant, 0.05);
  EXPECT_NEAR(
      value(plant, "bar.va"),
      peak * (std::cos(2 * pi * 50 * plant.time_s()) + 0.04 * std::cos(10 * pi * 50 * plant.time_s())), 1);
  run(plant, 0.35);
  // theta(t) = 2 pi (50 * 0.1 + (50 + 45)/2 * 0.2 + 45 (t - 0.3))
  const double theta = 2 * pi * (5 + 9.5 + 45 * (plant.time_s() - 0.3));
  EXPECT_NEAR(value(plant, "bar.va"), 0.5 * peak * (std::cos(theta) + 0.04 * std::cos(5 * theta)), 1);
}

/// A level of 100 V on 1 ohm and 10 mH that a programme moves.
Network driven_by(Points programme) {
  Network n;
  n.start = "zero";
  n.buses = {{"a", 100, "a"}, {"b", 100, "a"}, {"c", 100, "a"}};
  n.elements = {Source{.name = "s",
                       .bus = "a",
                       .voltage_V = 100,
                       .frequency_Hz = 0,
                       .magnitude_programme = std::move(programme)},
                Branch{.name = "z", .between = {"a", "b"}, .inductance_H = 10e-3},
                Branch{.name = "r", .between = {"b", "c"}, .resistance_ohm = 1},
                Source{.name = "end", .bus = "c", .voltage_V = 0, .frequency_Hz = 0}};
  return n;
}

/// Current of that behind a jump of `jump` V and a ramp of `slope` V/s: time constant 10 ms.
double driven_current(double jump, double slope, double since_s) {
  if (since_s <= 0) return 0;
  const double tau = 10e-3, decay = std::exp(-since_s / tau);
  return jump * (1 - decay) + slope * (since_s - tau * (1 - decay));
}

TEST(Source, FeelsCornersAndJumpsOfItsProgrammeAtTheirInstants) {
  const double at = 4.01373e-3, until = 9.00617e-3;
  const auto jump_error = [&](const Points& programme, auto&& expected, double step_s) {
    Plant plant = compile(driven_by(programme), step_s);
    const SignalId current = plant.signal("z.ia");
    double worst = 0;
    while (plant.time_s() < 20e-3) {
      EXPECT_EQ(plant.step(), Status::running);
      worst = std::max(worst, std::abs(plant.value(current) - expected(plant.time_s())));
    }
    return worst;
  };
  const Points jumps{{at, 0}, {at, 1}, {until, 1}, {until, 0.25}};
  const auto jumped = [&](double t) {
    return driven_current(100, 0, t - at) + driven_current(-75, 0, t - until);
  };
  const Points ramps{{at, 0}, {until, 1}};
  const double slope = 100 / (until - at);
  const auto ramped = [&](double t) {
    return driven_current(0, slope, t - at) - driven_current(0, slope, t - until);
  };
  EXPECT_LT(jump_error(jumps, jumped, 50e-6), 1e-3);    // of 70 A
  EXPECT_LT(jump_error(ramps, ramped, 50e-6), 1.5e-3);  // of 30 A
  EXPECT_GT(jump_error(jumps, jumped, 200e-6) / jump_error(jumps, jumped, 50e-6), 10);
  EXPECT_GT(jump_error(ramps, ramped, 200e-6) / jump_error(ramps, ramped, 50e-6), 8);
}

TEST(Source, JumpsOfItsAngleAndCornersOfItsFrequencyAreThoseOfTheReference) {
  const Network n = test::by_programmes();
  const Study study{.network = n, .duration_s = 0.08, .sample_s = 0.2e-3, .signals = {"z.ia", "z.ib"}};
  const Series exact = solve_reference(study);
  const auto error = [&](double step_s) {
    const Series fixed = simulate(study, step_s);
    double worst = 0;
    for (std::size_t s = 0; s < 2; ++s) {
      for (std::size_t k = 0; k < exact.time_s.size(); ++k)
        worst = std::max(worst, std::abs(fixed.values[s][k] - exact.values[s][k]));
    }
    return worst / 330;  // A, the peak at the start
  };
  EXPECT_LT(error(20e-6), 2e-4);
  EXPECT_GT(error(100e-6) / error(20e-6), 12);
}

TEST(Source, PlaysSamplesWithStraightLinesBetween) {
  Network n;
  n.buses = {{"bar", 20e3, "a"}};
  Source source{.name = "grid", .bus = "bar", .playback = "record.cfg"};
  source.playback_time_s = {0, 0.01, 0.02};
  source.playback_values = {{100, 300, 200}};
  n.elements = {source};
  n.start = "zero";
  Plant plant = compile(n, 1e-3);
  run(plant, 0.0055);
  EXPECT_NEAR(value(plant, "bar.va"), 100 + 200 * plant.time_s() / 0.01, 1e-9);
  run(plant, 0.03);
  EXPECT_EQ(value(plant, "bar.va"), 200);
  std::get<Source>(n.elements[0]).playback_values.clear();
  EXPECT_THROW((void)compile(n), Error);
}

TEST(Arrester, HoldsAnOvervoltageNearItsCurve) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {
      Source{.name = "grid",
             .bus = "bar",
             .short_circuit_VA = 50e6,
             .magnitude_programme = {{0.02, 1}, {0.021, 2.5}}},
      Arrester{.name = "u", .bus = "bar", .curve = {{18e3, 1e-3}, {22e3, 10}, {26e3, 1e3}, {30e3, 10e3}}}};
  Plant plant = compile(n, 10e-6);
  double peak = 0, current = 0;
  while (plant.time_s() < 0.08) {
    ASSERT_EQ(plant.step(), Status::running);
    if (std::abs(value(plant, "bar.va")) > peak) {
      peak = std::abs(value(plant, "bar.va"));
      current = std::abs(value(plant, "u.ia"));
    }
  }
  EXPECT_LT(peak, 30e3);  // 41 kV without
  EXPECT_GT(current, 100);
  // On the curve.
  const double expected =
      current < 1e3 ? 22e3 + 4e3 * (current - 10) / 990 : 26e3 + 4e3 * (current - 1e3) / 9e3;
  EXPECT_NEAR(peak, expected, 10);
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
}

TEST(Filter, PresentsItsTunedResistance) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .harmonics = {{5, 0.05}}},
                HarmonicFilter{.name = "f",
                               .bus = "bar",
                               .reactive_var = 2e6,
                               .order = 5,
                               .quality = 40,
                               .connection = "grounded star"}};
  Plant plant = compile(n, 10e-6);
  run(plant, 0.4);
  std::complex<double> first = 0, fifth = 0;
  for (int k = 0; k < 2000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    first += value(plant, "f.ia") * std::polar(1e-3, -2 * pi * 50 * plant.time_s());
    fifth += value(plant, "f.ia") * std::polar(1e-3, -10 * pi * 50 * plant.time_s());
  }
  const double peak = 20e3 * std::sqrt(2.0 / 3);
  EXPECT_NEAR(std::abs(first) * peak * 1.5, 2e6, 0.01 * 2e6);
  const double c = 2e6 / (2 * pi * 50 * 20e3 * 20e3) * (1 - 1.0 / 25), r = 1 / (5 * 2 * pi * 50 * c) / 40;
  EXPECT_NEAR(std::abs(fifth), 0.05 * peak / r, 0.05 * 0.05 * peak / r);
}

}  // namespace
}  // namespace zavrek::emt
