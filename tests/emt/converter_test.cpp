// Converters at both depths, their d.c. side, and how they fail.
#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>
#include <tuple>
#include <vector>

#include <gtest/gtest.h>

#include "emt/converters.hpp"
#include "emt/running.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

/// Two gates of a leg at a duty that may change, edges given a period ahead, without dead time unless asked.
struct Pulser {
  GateId upper, lower;
  double period_s;
  std::function<double(double)> duty;
  double dead_s = 0;
  long long next = 0;
  void operator()(Plant& plant) {
    for (; static_cast<double>(next) * period_s < plant.time_s() + plant.step_s() / 2; ++next) {
      const double begins = static_cast<double>(next) * period_s, d = duty(begins);
      const double on = begins + (1 - d) / 2 * period_s, off = begins + (1 + d) / 2 * period_s;
      plant.fire(lower, false, on);
      plant.fire(upper, true, on + dead_s);
      plant.fire(upper, false, off);
      plant.fire(lower, true, off + dead_s);
    }
  }
};
Pulser pulse(const Plant& plant, const std::string& leg, double frequency_Hz,
             std::function<double(double)> duty, double dead_s = 0) {
  return {plant.gate(leg + "_upper"), plant.gate(leg + "_lower"), 1 / frequency_Hz, std::move(duty), dead_s};
}

struct Mean {
  double sum = 0, least = 1e300, greatest = -1e300;
  long long count = 0;
  void add(double x) {
    sum += x;
    least = std::min(least, x);
    greatest = std::max(greatest, x);
    ++count;
  }
  [[nodiscard]] double value() const { return sum / static_cast<double>(count); }
};

/// A leg of a bridge of three levels or two on an R-L load to the middle of a split source.
Network leg_on_load(const std::string& topology, const std::string& depth) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 800, "pnm"}, {"ac", 400, "a"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 1e-4},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 0.2, .voltage_V = 800, .earth_ohm = 0.01},
                Bridge{.name = "b",
                       .topology = topology,
                       .dc = "dc",
                       .ac = "ac",
                       .depth = depth,
                       .on_resistance_ohm = 1e-3},
                Branch{.name = "z", .between = {"ac", "ground"}, .resistance_ohm = 2, .inductance_H = 2e-3}};
  return n;
}

TEST(AveragedLeg, GivesTheMeanCurrentOfTheSwitchedOne) {
  const auto wave = [](double t) { return 0.5 + 0.4 * std::sin(2 * pi * 50 * t); };
  // A fine switched run is the truth; its mean over a carrier period is what an averaged one should show.
  const auto run_at = [&](const std::string& depth, double step) {
    Plant plant = compile(leg_on_load("two-level", depth), step);
    Pulser feed = pulse(plant, "b.a", 5e3, wave);
    std::vector<double> means;
    Mean mean;
    for (const auto id = plant.signal("z.ia"); plant.time_s() < 0.02 - 1e-9;) {
      feed(plant);
      EXPECT_EQ(plant.step(), Status::running);
      mean.add(plant.value(id));
      if (mean.count == std::llround(200e-6 / step)) {
        means.push_back(mean.value());
        mean = {};
      }
    }
    return means;
  };
  const auto truth = run_at("switched", 1e-6);
  const auto averaged = run_at("averaged", 20e-6), coarse = run_at("averaged", 50e-6);
  ASSERT_EQ(truth.size(), averaged.size());
  double error = 0, coarse_error = 0, peak = 0;
  for (std::size_t k = 0; k < truth.size(); ++k) {
    error = std::max(error, std::abs(averaged[k] - truth[k]));
    coarse_error = std::max(coarse_error, std::abs(coarse[k] - truth[k]));
    peak = std::max(peak, std::abs(truth[k]));
  }
  EXPECT_GT(peak, 60);
  EXPECT_LT(error, 0.012 * peak);
  EXPECT_LT(coarse_error, 0.03 * peak);
}

TEST(AveragedBridge, OfDiodesCommutatesAsTheSwitchedOne) {
  std::vector<double> seen;
  for (const char* depth : {"switched", "averaged"}) {
    Network n;
    n.buses = {{"grid", 400}, {"dc", 560, "pn"}};
    n.elements = {Source{.name = "e", .bus = "grid", .short_circuit_VA = 1e6},
                  Bridge{.name = "b", .dc = "dc", .ac = "grid", .depth = depth, .device = "diode"},
                  DcLink{.name = "c",
                         .bus = "dc",
                         .capacitance_F = 1e-3,
                         .voltage_V = 500,
                         .discharge_ohm = 20,
                         .earth_ohm = 1e5}};
    Plant plant = compile(n, 20e-6);
    while (plant.time_s() < 0.04) ASSERT_EQ(plant.step(), Status::running);
    seen.push_back(value(plant, "c.v"));
  }
  EXPECT_GT(seen[0], 500);
  EXPECT_EQ(seen[0], seen[1]);
}

TEST(AveragedLeg, SharesItsPolesAsTheSwitchedOneDoesInEveryTopology) {
  for (const std::string topology : {"two-level", "neutral-point clamped", "t-type"}) {
    const bool three = topology != "two-level";
    std::vector<double> seen;
    for (const auto& [depth, step] : {std::pair{"switched", 1e-6}, {"averaged", 10e-6}}) {
      Network n = leg_on_load(topology, depth);
      Plant plant = compile(n, step);
      if (three) {  // 1 against 3 at a share of 60 %, 2 on, 4 off: between p and m
        plant.fire(plant.gate("b.a_2"), true, 0);
        Pulser feed{plant.gate("b.a_1"), plant.gate("b.a_3"), 200e-6, [](double) { return 0.6; }};
        while (plant.time_s() < 20e-3) {
          feed(plant);
          ASSERT_EQ(plant.step(), Status::running);
        }
      } else {
        Pulser feed = pulse(plant, "b.a", 5e3, [](double) { return 0.8; });
        while (plant.time_s() < 20e-3) {
          feed(plant);
          ASSERT_EQ(plant.step(), Status::running);
        }
      }
      Mean current, from_p;
      const double until = plant.time_s();
      Plant& p = plant;
      Pulser feed = three ? Pulser{p.gate("b.a_1"), p.gate("b.a_3"), 200e-6, [](double) { return 0.6; }}
                          : pulse(p, "b.a", 5e3, [](double) { return 0.8; });
      feed.next = std::llround(until / 200e-6);
      while (plant.time_s() < until + 2e-3 - step / 2) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        current.add(value(plant, "z.ia"));
        from_p.add(value(plant, "b.idc"));
      }
      seen.push_back(current.value());
      seen.push_back(from_p.value());
      EXPECT_NEAR(current.value(), 240 / 2.0, 4) << topology << depth << ", the link sinking a little";
    }
    EXPECT_NEAR(seen[0], seen[2], 0.6) << topology;
    EXPECT_NEAR(seen[1], seen[3], 2.0) << topology;
  }
}

TEST(AveragedBridge, IsTheSwitchedOneWhileItsGatesAreOff) {
  Network n;
  n.buses = {{"grid", 400}, {"dc", 600, "pn"}};
  n.elements = {Source{.name = "s", .bus = "grid", .short_circuit_VA = 1e6, .x_over_r = 5},
                Bridge{.name = "b", .dc = "dc", .ac = "grid", .depth = "averaged"},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 0, .earth_ohm = 1e5},
                Branch{.name = "r", .between = {"dc.p", "dc.n"}, .resistance_ohm = 50}};
  Plant averaged = compile(n, 10e-6);
  std::get<Bridge>(n.elements[1]).depth = "switched";
  Plant switched = compile(n, 10e-6);
  while (averaged.time_s() < 0.05) {
    ASSERT_EQ(averaged.step(), Status::running);
    ASSERT_EQ(switched.step(), Status::running);
    ASSERT_NEAR(value(averaged, "c.v"), value(switched, "c.v"), 1e-4);
  }
  EXPECT_GT(value(averaged, "c.v"), 480) << "the diodes charge the link";
}

TEST(AveragedBridge, FallsBackToItsValvesWhenOneBreaksOrBothGatesOfALegAreOn) {
  for (const bool breaks : {true, false}) {
    std::vector<double> seen;
    for (const auto& [depth, step] : {std::pair{"switched", 1e-6}, {"averaged", 10e-6}}) {
      Plant plant = compile(leg_on_load("two-level", depth), step);
      Pulser feed = pulse(plant, "b.a", 5e3, [](double) { return 0.7; });
      while (plant.time_s() < 5e-3) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
      }
      if (breaks) plant.fail(plant.gate("b.a_upper"), Failure::dead);
      if (!breaks) {
        plant.fire(plant.gate("b.a_upper"), true, plant.time_s());
        plant.fire(plant.gate("b.a_lower"), true, plant.time_s());
        feed.next = 1 << 20;
      }
      double worst = 0;
      while (plant.time_s() < 7e-3) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        worst = std::max(worst, value(plant, "e.i"));
      }
      seen.push_back(breaks ? value(plant, "z.ia") : worst);
    }
    if (breaks)
      EXPECT_NEAR(seen[0], seen[1], 3);
    else
      EXPECT_GT(std::min(seen[0], seen[1]), 1e4) << "the short circuit of the leg shows at both depths";
  }
}

TEST(Valve, ObeysLatePulsesLateAndLostOnesNotUntilTheyComeBack) {
  Plant plant = compile(leg_on_load("two-level", "switched"), 1e-6);
  const auto on = plant.signal("b.a_upper.on");
  const GateId gate = plant.gate("b.a_upper");
  const auto rises_at = [&](double at) {
    plant.fire(gate, true, at);
    plant.fire(gate, false, at + 50e-6);
    while (plant.time_s() < at + 40e-6) {
      EXPECT_EQ(plant.step(), Status::running);
      if (plant.value(on) > 0) break;
    }
    const double seen = plant.value(on) > 0 ? plant.time_s() : -1;
    while (plant.time_s() < at + 120e-6) EXPECT_EQ(plant.step(), Status::running);
    return seen < 0 ? -1 : seen - at;
  };
  EXPECT_NEAR(rises_at(100e-6), 1e-6, 1.1e-6);
  plant.fail(gate, Failure::late, 8e-6);
  EXPECT_NEAR(rises_at(300e-6), 9e-6, 1.1e-6);
  plant.fail(gate, Failure::lost);
  EXPECT_EQ(rises_at(500e-6), -1);
  plant.fail(gate, Failure::none);
  EXPECT_NEAR(rises_at(700e-6), 1e-6, 1.1e-6);
  plant.fail(gate, Failure::dead);
  plant.fail(gate, Failure::none);
  EXPECT_EQ(rises_at(900e-6), -1) << "what is dead does not come back";
}

Network dc_converter(const std::string& topology, const std::string& depth, double load_ohm) {
  const bool up = topology == "boost";
  Network n;
  n.start = "zero";
  n.buses = {{"high", 400, "pn"}, {"low", 200, "pn"}};
  n.elements = {
      DcSource{
          .name = "e", .bus = up ? "low" : "high", .voltage_V = up ? 200.0 : 400.0, .resistance_ohm = 1e-4},
      DcLink{.name = "c",
             .bus = up ? "high" : "low",
             .capacitance_F = 500e-6,
             .voltage_V = up ? 400.0 : 200.0,
             .earth_ohm = 1e4},
      DcConverter{.name = "d",
                  .topology = topology,
                  .high = "high",
                  .low = "low",
                  .inductance_H = 1e-3,
                  .depth = depth,
                  .on_resistance_ohm = 1e-4},
      Branch{.name = "r",
             .between = {up ? "high.p" : "low.p", up ? "high.n" : "low.n"},
             .resistance_ohm = load_ohm}};
  return n;
}

TEST(DcConverter, TransformsVoltagesByItsDuty) {
  for (const std::string topology : {"buck", "boost", "two-quadrant"}) {
    for (const auto& [depth, step] : {std::pair{"switched", 2e-6}, {"averaged", 20e-6}}) {
      Plant plant = compile(dc_converter(topology, depth, 4), step);
      Pulser feed = pulse(plant, "d.a", 10e3, [](double) { return 0.6; });
      Mean volts;
      while (plant.time_s() < 0.1) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        if (plant.time_s() > 0.09) volts.add(value(plant, "c.v"));
      }
      // A boost's upper share is that of the diode: 1/0.6 of what comes in.
      const double wanted = topology == "boost" ? 200 / 0.6 : 240;
      EXPECT_NEAR(volts.value(), wanted, 0.008 * wanted) << topology << " " << depth;
    }
  }
}

TEST(DcConverter, RestsAtNoCurrentUnderALightLoadAtBothDepths) {
  // Discontinuous conduction, K = 2 L f/R: a buck gives 2/(1 + sqrt(1 + 4 K/D^2)), a boost
  // (1 + sqrt(1 + 4 D^2/K))/2 (Erickson and Maksimovic, "Fundamentals of Power Electronics", chapter 5).
  struct Point {
    const char* topology;
    double upper_share, load_ohm, wanted_V;
  };
  const double k_buck = 2 * 1e-3 * 10e3 / 100, k_boost = 2 * 1e-3 * 10e3 / 400;
  for (const Point& p : {Point{"buck", 0.3, 100, 400 * 2 / (1 + std::sqrt(1 + 4 * k_buck / 0.09))},
                         Point{"boost", 0.6, 400, 100 * (1 + std::sqrt(1 + 4 * 0.16 / k_boost))}}) {
    for (const auto& [depth, step, within] :
         {std::tuple{"switched", 10e-6, 0.01}, {"averaged", 10e-6, 0.01}}) {
      Plant plant = compile(dc_converter(p.topology, depth, p.load_ohm), step);
      Pulser feed = pulse(plant, "d.a", 10e3, [&](double) { return p.upper_share; });
      Mean volts, current;
      double against = 0;
      const double sign = std::string(p.topology) == "buck" ? 1 : -1;
      while (plant.time_s() < 0.6) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        if (plant.time_s() < 0.5) continue;
        volts.add(value(plant, "c.v"));
        current.add(sign * value(plant, "d.i"));
        against = std::min(against, sign * value(plant, "d.i"));
      }
      EXPECT_NEAR(volts.value(), p.wanted_V, within * p.wanted_V) << p.topology << " " << depth;
      EXPECT_GT(against, -0.01) << p.topology << " " << depth;
    }
  }
}

TEST(DcConverter, KeepsATenthOfAPercentAtTenStepsPerPeriodHoweverItConducts) {
  struct Point {
    double inductance_H, load_ohm, duty, start_V;
  };
  for (const Point& p : {Point{500e-6, 20, 0.4, 166}, Point{100e-6, 200, 0.4, 250}}) {
    Study study = test::boost(p.inductance_H, p.load_ohm, p.duty, p.start_V);
    const Series exact = solve_reference(study, 1e-9);
    for (const char* depth : {"switched", "averaged"}) {
      std::get<DcConverter>(study.network.elements[1]).depth = depth;
      const auto error = [&](double step_s) { return test::worst_apart(simulate(study, step_s), exact); };
      EXPECT_LT(error(10e-6), 1e-3) << depth << " " << p.load_ohm;
      EXPECT_LT(error(2e-6), 5e-5) << depth << " " << p.load_ohm;
    }
  }
}

TEST(DcConverter, LetsABuckRunDryAndATwoQuadrantLegTurnItsCurrent) {
  // Without load a buck charges its output to the peak; with both transistors the duty still decides.
  for (const auto& [topology, wanted] : {std::pair{"buck", 400.0}, {"two-quadrant", 240.0}}) {
    Plant plant = compile(dc_converter(topology, "switched", 1e5), 2e-6);
    Pulser feed = pulse(plant, "d.a", 10e3, [](double) { return 0.6; });
    double least = 0;
    Mean volts;
    while (plant.time_s() < 0.3) {
      feed(plant);
      ASSERT_EQ(plant.step(), Status::running);
      if (plant.time_s() < 0.1) continue;
      least = std::min(least, value(plant, "d.i"));
      volts.add(value(plant, "c.v"));
    }
    EXPECT_NEAR(volts.value(), wanted, 6) << topology;
    if (std::string(topology) == "buck")
      EXPECT_GT(least, -0.01);
    else
      EXPECT_LT(least, -1);
  }
}

TEST(Chopper, TakesThePowerOfItsResistorWhileItsGateIsOn) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 700, .resistance_ohm = 0.5},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 700, .earth_ohm = 1e5},
                Chopper{.name = "h", .bus = "dc", .resistance_ohm = 7, .inductance_H = 20e-6}};
  Plant plant = compile(n, 5e-6);
  run(plant, 5e-3);
  EXPECT_NEAR(value(plant, "h.i"), 0, 1e-3);
  plant.fire(plant.gate("h.valve"), true, plant.time_s());
  run(plant, 20e-3);
  EXPECT_NEAR(value(plant, "h.i"), 700 / 7.501, 0.05);
  plant.fire(plant.gate("h.valve"), false, plant.time_s());
  double least = 0;
  for (int k = 0; k < 400; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    least = std::min(least, value(plant, "h.i"));
  }
  EXPECT_NEAR(value(plant, "h.i"), 0, 1e-3) << "the resistor's inductance empties through its diode";
  EXPECT_GT(least, -1e-3);
}

TEST(Bridge, OfTwelvePulsesDoublesTheVoltageAndQuartersTheRipple) {
  Network n;
  n.buses = {{"grid", 11e3}, {"star", 400}, {"delta", 400}, {"dc", 1000, "pn"}};
  Transformer to_star;
  to_star.name = "t1";
  to_star.high = "grid";
  to_star.low = "star";
  to_star.rating_VA = 5e6;
  to_star.high_voltage_V = 11e3;
  to_star.low_voltage_V = 400;
  to_star.vector_group = "Yy0";
  to_star.short_circuit_voltage = 0.01;
  Transformer to_delta = to_star;
  to_delta.name = "t2";
  to_delta.low = "delta";
  to_delta.vector_group = "Yd1";
  n.elements = {Source{.name = "s", .bus = "grid"},
                to_star,
                to_delta,
                Bridge{.name = "b",
                       .topology = "twelve-pulse",
                       .dc = "dc",
                       .ac = "star",
                       .ac_delta = "delta",
                       .device = "diode"},
                DcLink{.name = "earth", .bus = "dc", .capacitance_F = 1e-9, .earth_ohm = 1e5},
                Branch{.name = "r", .between = {"dc.p", "dc.n"}, .resistance_ohm = 20}};
  Plant plant = compile(n, 10e-6);
  Mean volts;
  while (plant.time_s() < 0.06) {
    ASSERT_EQ(plant.step(), Status::running);
    if (plant.time_s() > 0.04) volts.add(value(plant, "earth.v"));
  }
  EXPECT_NEAR(volts.value(), 2 * 3 * std::numbers::sqrt2 / pi * 400, 12);
  // Of six pulses the ripple is 14 % of the mean, of twelve 3.4 %.
  EXPECT_LT((volts.greatest - volts.least) / volts.value(), 0.05);
}

PvArray modules() {
  return {.name = "pv",
          .bus = "dc",
          .modules = 20,
          .strings = 5,
          .open_circuit_voltage_V = 38.4,
          .short_circuit_current_A = 9.2,
          .best_voltage_V = 31.2,
          .best_current_A = 8.7};
}
Network pv_on_source(const PvArray& array, double volts) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = volts, .resistance_ohm = 1e-3},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = volts, .earth_ohm = 1e5},
                array};
  return n;
}

TEST(PvArray, MeetsTheFourValuesOfItsModule) {
  for (const auto& [volts, amperes] : {std::pair{0.0, 46.0}, {624.0, 43.5}, {768.0, 0.0}}) {
    Plant plant = compile(pv_on_source(modules(), volts), 50e-6);
    run(plant, 5e-3);
    EXPECT_NEAR(value(plant, "pv.i"), amperes, 0.12) << volts;
  }
  // The best voltage gives the most power.
  double best = 0, at = 0;
  Plant plant = compile(pv_on_source(modules(), 400), 50e-6);
  for (double volts = 400; volts < 760; volts += 4) {
    plant.turn(plant.knob("e.voltage"), volts);
    run(plant, 10e-3);
    if (value(plant, "pv.p") > best) best = value(plant, "pv.p"), at = volts;
  }
  EXPECT_NEAR(at, 624, 6);
  EXPECT_NEAR(best, 624 * 43.5, 60);
}

TEST(PvArray, FollowsLightWarmthAndShade) {
  Plant plant = compile(pv_on_source(modules(), 600), 50e-6);
  const auto with = [&](const char* knob, double x) {
    plant.turn(plant.knob(knob), x);
    run(plant, 5e-3);
    return value(plant, "pv.i");
  };
  const double full = with("pv.irradiance", 1000);
  EXPECT_NEAR(with("pv.irradiance", 500) / full, 0.5, 0.02);
  (void)with("pv.irradiance", 1000);
  EXPECT_LT(with("pv.temperature", 340), 0.8 * full) << "600 V is near the end of the curve when it is warm";
  (void)with("pv.temperature", 298.15);
  // A third of each string in deep shade: beyond the reach of the others the shaded modules set the current,
  // below it their diodes pass the full one.
  (void)with("pv.shaded", 0.3);
  EXPECT_NEAR(with("pv.shade", 0.2), 0.2 * 46, 1.2);
  plant.turn(plant.knob("e.voltage"), 380);
  EXPECT_GT(with("pv.shade", 0.2), 0.9 * 43.5);
}

TEST(PvArray, RefusesAModuleThatCannotBe) {
  PvArray array = modules();
  array.best_current_A = 9.3;
  EXPECT_EQ(
      message_of([&] { (void)compile(pv_on_source(array, 600)); }),
      "pv_array.pv, best_voltage: a module of 60 cells with 38.4 V and 9.2 A cannot give 9.3 A at 31.2 V; "
      "check the four values and the cells");
}

TEST(DcLink, LosesCapacitanceAsItAgesAndKeepsItsVoltage) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {DcLink{.name = "c",
                       .bus = "dc",
                       .capacitance_F = 1e-3,
                       .voltage_V = 700,
                       .earth_ohm = 1e6,
                       .remaining = 1},
                Branch{.name = "r", .between = {"dc.p", "dc.n"}, .resistance_ohm = 100}};
  Plant plant = compile(n, 10e-6);
  run(plant, 0.02);
  EXPECT_NEAR(value(plant, "c.v"), 700 * std::exp(-0.2), 0.02);
  const double before = value(plant, "c.v");
  plant.turn(plant.knob("c.remaining"), 0.25);
  ASSERT_EQ(plant.step(), Status::running);
  EXPECT_NEAR(value(plant, "c.v"), before, 0.5);
  run(plant, 0.02);
  EXPECT_NEAR(value(plant, "c.v"), before * std::exp(-0.8), 0.3);
}

TEST(Contactor, InterruptsADirectCurrentAndChargesThroughItsResistor) {
  Network n;
  n.start = "zero";
  n.buses = {{"source", 700, "pn"}, {"dc", 700, "pn"}};
  n.elements = {
      DcSource{.name = "e", .bus = "source", .voltage_V = 700, .resistance_ohm = 0.01},
      DcLink{.name = "c0", .bus = "source", .capacitance_F = 10e-6, .voltage_V = 700, .earth_ohm = 1e5},
      Contactor{.name = "k",
                .between = {"source", "dc"},
                .opening_time_s = 0,
                .closing_time_s = 0,
                .precharge_resistance_ohm = 20},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .earth_ohm = 1e5},
      Branch{.name = "r", .between = {"dc.p", "dc.n"}, .resistance_ohm = 1000}};
  Plant plant = compile(n, 10e-6);
  run(plant, 1e-3);
  EXPECT_NEAR(value(plant, "c.v"), 0, 1);
  plant.close(plant.operable("k.precharge"), plant.time_s());
  double most = 0;
  for (int k = 0; k < 20000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    most = std::max(most, value(plant, "e.i"));
  }
  EXPECT_NEAR(most, 700 / 40.0, 1);
  EXPECT_NEAR(value(plant, "c.v"), 700 * 1000 / 1040.0, 6);
  plant.close(plant.operable("k"), plant.time_s());
  run(plant, 5e-3);
  EXPECT_NEAR(value(plant, "k.ip"), 0.7, 0.02);
  plant.open(plant.operable("k"), plant.time_s());
  plant.open(plant.operable("k.precharge"), plant.time_s());
  run(plant, 2e-3);
  EXPECT_NEAR(value(plant, "k.ip"), 0, 1e-3);
  EXPECT_NEAR(value(plant, "k.closed"), 0, 0);
}

TEST(Breaker, LosesASinglePhase) {
  Network n;
  n.buses = {{"grid", 400}, {"load", 400}};
  n.elements = {Source{.name = "s", .bus = "grid"}, Breaker{.name = "Q", .between = {"grid", "load"}},
                Load{.name = "l", .bus = "load", .active_W = 10e3}};
  Plant plant = compile(n, 50e-6);
  plant.open(plant.operable("Q.b"), 5e-3);
  run(plant, 0.04);
  EXPECT_NEAR(value(plant, "Q.closed"), 2.0 / 3, 1e-9);
  EXPECT_NEAR(value(plant, "Q.ib"), 0, 1e-6);
}

TEST(Fault, ShortsTheDcPolesUntilItsTimeIsOver) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 700, .resistance_ohm = 1},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-4, .voltage_V = 700, .earth_ohm = 1e5}};
  n.faults = {Fault{.name = "fault", .on = "dc", .phases = "PN", .resistance_ohm = 0.01}};
  Plant plant = compile(n, 10e-6);
  plant.close(plant.operable("fault"), 1e-3);
  plant.open(plant.operable("fault"), 5e-3);
  run(plant, 4e-3);
  EXPECT_NEAR(value(plant, "fault.ip"), 700 / 1.01, 0.5);
  run(plant, 3e-3);
  EXPECT_NEAR(value(plant, "c.v"), 700, 0.01);
}

Network arm_pair(const std::string& depth, int submodules) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 8000, "pnm"}, {"ac", 4000, "a"}};
  const auto arm = [&](const char* name, const char* from, const char* to) {
    return SubmoduleArm{.name = name,
                        .between = {from, to},
                        .submodules = submodules,
                        .capacitance_F = 5e-3 * submodules / 10,
                        .voltage_V = 8000.0 / submodules,
                        .inductance_H = 2e-3,
                        .depth = depth,
                        .inserted = 0.5};
  };
  n.elements = {
      DcSource{.name = "e", .bus = "dc", .voltage_V = 8000, .resistance_ohm = 0.05},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 0.5, .voltage_V = 8000, .earth_ohm = 1e-3},
      arm("up", "dc.p", "ac.a"), arm("low", "ac.a", "dc.n"),
      Branch{.name = "z", .between = {"ac", "ground"}, .resistance_ohm = 20, .inductance_H = 10e-3}};
  return n;
}

TEST(SubmoduleArm, MakesAStaircaseAndKeepsItsCapacitorsAlike) {
  for (const auto& [depth, submodules] : {std::pair{"switched", 20}, {"averaged", 8}}) {
    Plant plant = compile(arm_pair(depth, submodules), 20e-6);
    for (const char* gate : {"up.enable", "low.enable"}) plant.fire(plant.gate(gate), true, 0);
    const KnobId up = plant.knob("up.inserted"), low = plant.knob("low.inserted");
    Mean spread;
    double c = 0, s = 0;
    long long count = 0;
    while (plant.time_s() < 0.2 - 1e-9) {
      const double m = 0.8 * std::sin(2 * pi * 50 * plant.time_s());
      plant.turn(up, 0.5 * (1 - m));
      plant.turn(low, 0.5 * (1 + m));
      ASSERT_EQ(plant.step(), Status::running);
      if (plant.time_s() < 0.1) continue;
      spread.add((value(plant, "up.greatest") - value(plant, "up.least")) / (8000.0 / submodules));
      c += value(plant, "z.ia") * std::cos(2 * pi * 50 * plant.time_s());
      s += value(plant, "z.ia") * std::sin(2 * pi * 50 * plant.time_s());
      ++count;
    }
    const double amplitude = 2 * std::hypot(c, s) / static_cast<double>(count);
    // Behind half the arms' inductance in parallel: 4000 * 0.8 over |20 + j w (10 + 1) mH|.
    const double wanted = 3200 / std::hypot(20, 2 * pi * 50 * 11e-3);
    EXPECT_NEAR(amplitude, wanted, 0.05 * wanted) << depth;
    EXPECT_LT(spread.greatest, 0.1) << depth;
    EXPECT_NEAR(value(plant, "up.greatest") * submodules, 8000, 800) << depth;
  }
}

TEST(SubmoduleArm, ChargesWhileBlockedAndCarriesNothingBackwards) {
  Network n = arm_pair("switched", 8);
  for (auto& element : n.elements) {
    if (auto* arm = std::get_if<SubmoduleArm>(&element)) arm->voltage_V = 0, arm->inserted = 1;
  }
  Plant plant = compile(n, 20e-6);
  double least = 0;
  while (plant.time_s() < 0.2) {
    ASSERT_EQ(plant.step(), Status::running);
    least = std::min(least, value(plant, "up.i"));
  }
  // Both stacks in series on the link share its voltage.
  EXPECT_GT(value(plant, "up.v") + value(plant, "low.v"), 7900);
  EXPECT_NEAR(value(plant, "up.least"), value(plant, "up.greatest"), 1e-6);
  EXPECT_GT(least, -1);
}

// --- power in equals power out, plus losses, plus what is stored ------------------------------------

TEST(Converters, BalanceTheirPowerInEveryTopologyAtBothDepths) {
  const auto duty = [](double t) { return 0.5 + 0.35 * std::sin(2 * pi * 100 * t); };
  for (const std::string depth : {"switched", "averaged"}) {
    for (const std::string topology : {"two-level", "neutral-point clamped", "t-type"}) {
      Network n = leg_on_load(topology, depth);
      std::get<Bridge>(n.elements[2]).on_resistance_ohm = 1e-6;  // so that next to nothing is lost
      Plant plant = compile(n, 2e-6);
      std::vector<Pulser> feeds;
      if (topology == "two-level") {
        feeds.push_back(pulse(plant, "b.a", 4e3, duty));
      } else {
        feeds.push_back({plant.gate("b.a_1"), plant.gate("b.a_3"), 250e-6,
                         [&](double t) { return std::clamp(2 * duty(t) - 1, 0.0, 1.0); }});
        feeds.push_back({plant.gate("b.a_2"), plant.gate("b.a_4"), 250e-6,
                         [&](double t) { return std::clamp(2 * duty(t), 0.0, 1.0); }});
      }
      double in = 0, out = 0;
      const double h = plant.step_s();
      // Both halves of the link, and what flows from the middle, count; instants are joined by trapezoids.
      double in_before = 0, out_before = 0;
      const auto stored = [&] {
        const double i = value(plant, "z.ia");
        const double up = value(plant, "dc.vp") - value(plant, "dc.vm");
        const double down = value(plant, "dc.vm") - value(plant, "dc.vn");
        return 0.5 * 2e-3 * i * i + 0.5 * 0.2 * (up * up + down * down);
      };
      const double at_start = stored();
      while (plant.time_s() < 0.02) {
        for (Pulser& feed : feeds) feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        const double i = value(plant, "z.ia"), m = value(plant, "dc.vm");
        const double in_now = value(plant, "e.i") * (value(plant, "dc.vp") - value(plant, "dc.vn"));
        const double out_now = 2 * i * i + m * m / 0.01;
        in += h * (in_now + in_before) / 2;
        out += h * (out_now + out_before) / 2;
        in_before = in_now;
        out_before = out_now;
      }
      const double moved = stored() - at_start;
      EXPECT_GT(std::abs(out), 100);
      EXPECT_NEAR(in, out + moved, 0.01 * out) << topology << " " << depth;
    }
  }
}

TEST(DcConverter, BalancesItsPowerWithItsLosses) {
  for (const std::string topology : {"buck", "boost", "two-quadrant"}) {
    for (const auto& [depth, step] : {std::pair{"switched", 1e-6}, {"averaged", 10e-6}}) {
      Network n = dc_converter(topology, depth, 4);
      auto& converter = std::get<DcConverter>(n.elements[2]);
      converter.on_resistance_ohm = 50e-3;
      converter.resistance_ohm = 20e-3;
      Plant plant = compile(n, step);
      Pulser feed = pulse(plant, "d.a", 10e3, [](double) { return 0.6; });
      const bool up = topology == "boost";
      double in = 0, out = 0, lost = 0;
      const auto stored = [&] {
        const double i = value(plant, "d.i"), v = value(plant, "c.v");
        return 0.5 * 1e-3 * i * i + 0.5 * 500e-6 * v * v;
      };
      double at_start = 0, before[3] = {};
      while (plant.time_s() < 0.1 - step / 2) {
        feed(plant);
        ASSERT_EQ(plant.step(), Status::running);
        const double i = value(plant, "d.i"), v = value(plant, "c.v"), from = value(plant, "e.i");
        // One valve of the leg carries the inductor's current at any instant.
        const double now[3] = {from * ((up ? 200 : 400) - 1e-4 * from), v * v / 4, 70e-3 * i * i};
        if (plant.time_s() > 0.05 + step / 2) {
          in += step * (now[0] + before[0]) / 2;
          out += step * (now[1] + before[1]) / 2;
          lost += step * (now[2] + before[2]) / 2;
        } else {
          at_start = stored();
        }
        std::copy(now, now + 3, before);
      }
      EXPECT_GT(lost, 0.005 * out);
      // A step's mean share of the current stands beside the current at its end.
      const double within = depth == std::string("averaged") ? 0.015 : 0.004;
      EXPECT_NEAR(in, out + lost + stored() - at_start, within * in) << topology << " " << depth;
    }
  }
}

TEST(Converters, NeverLetADiodeConductBackwardsWhateverTheGatesDo) {
  unsigned state = 12345;
  const auto chance = [&] {
    state = state * 1664525U + 1013904223U;
    return static_cast<double>(state >> 8) / 16777216.0;
  };
  for (const std::string topology : {"two-level", "neutral-point clamped", "t-type"}) {
    Network n = leg_on_load(topology, "switched");
    std::get<DcSource>(n.elements[0]).resistance_ohm = 0.1;
    std::get<DcLink>(n.elements[1]).capacitance_F = 2e-3;
    Plant plant = compile(n, 2e-6);
    std::vector<GateId> gates;
    for (const std::string& name : plant.gate_names()) gates.push_back(plant.gate(name));
    std::vector<bool> on(gates.size(), false);
    std::vector<SignalId> diodes;
    for (const std::string& name : plant.signal_names()) {
      if (name.find("_to_") != std::string::npos && name.ends_with(".i"))
        diodes.push_back(plant.signal(name));
    }
    EXPECT_EQ(diodes.size(), topology == "neutral-point clamped" ? 2U : 0U);
    double backwards = 0, most = 0;
    while (plant.time_s() < 0.02) {
      const std::size_t k = static_cast<std::size_t>(chance() * static_cast<double>(gates.size()));
      // One gate changes every 20 us; two poles are never joined: the outer valves need the inner ones off.
      const bool outer = k == 0 || k + 1 == gates.size();
      const bool allowed =
          on[k] || (outer ? !on[gates.size() - 1 - k] && (gates.size() == 2 || !on[k == 0 ? 2 : 1])
                          : !on[k == 1 ? 3 : 0]);
      if (allowed) {
        on[k] = !on[k];
        plant.fire(gates[k], on[k], plant.time_s() + 1e-6 * chance());
      }
      for (int step = 0; step < 10; ++step) {
        ASSERT_EQ(plant.step(), Status::running);
        for (const SignalId diode : diodes) {
          backwards = std::min(backwards, plant.value(diode));
          most = std::max(most, plant.value(diode));
        }
        ASSERT_LT(value(plant, "e.i"), 500) << topology << ": no leg is shorted";
      }
    }
    EXPECT_GE(backwards, -1e-5 * std::max(most, 1.0)) << topology;
    EXPECT_EQ(plant.steps_at_event_limit(), 0) << topology;
  }
}

}  // namespace
}  // namespace zavrek::emt
