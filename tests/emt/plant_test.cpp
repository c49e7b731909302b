#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <limits>
#include <numbers>

#include "zavrek/emt.hpp"

namespace zavrek::test {
extern long long allocations;  // counting_allocator.cpp
}

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

/// 11 kV source of 200 MVA, a breaker, a cable and a load; a fault place half-way along the cable.
Network feeder() {
  Network n;
  n.buses = {{"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  n.elements = {Source{.name = "grid", .bus = "quay", .short_circuit_VA = 200e6},
                Breaker{.name = "Q1", .between = {"quay", "feed"}, .opening_time_s = 0.02},
                Cable{.name = "cable",
                      .between = {"feed", "berth"},
                      .length_m = 2000,
                      .r1_ohm_per_m = 2e-4,
                      .x1_ohm_per_m = 1e-4,
                      .c1_F_per_m = 3e-10,
                      .r0_ohm_per_m = 9e-4,
                      .x0_ohm_per_m = 3e-4,
                      .c0_F_per_m = 3e-10},
                Load{.name = "ship", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  n.faults = {{.name = "fault", .on = "cable", .at = 0.5, .phases = "ABC", .resistance_ohm = 0}};
  return n;
}

Network with_transformer(const std::string& group) {
  Network n;
  n.buses = {{"high", 66e3}, {"low", 11e3}};
  n.elements = {Source{.name = "grid", .bus = "high"},
                Transformer{.name = "T",
                            .high = "high",
                            .low = "low",
                            .rating_VA = 20e6,
                            .high_voltage_V = 66e3,
                            .low_voltage_V = 11e3,
                            .vector_group = group,
                            .short_circuit_voltage = 0.1,
                            .copper_loss_W = 90e3,
                            .iron_loss_W = 15e3},
                Branch{.name = "stray", .between = {"low", "ground"}, .resistance_ohm = 1e6}};
  return n;
}

std::string refusal(const Network& network, double step_s = 0) {
  try {
    (void)compile(network, step_s);
  } catch (const Error& error) {
    return error.what();
  }
  return "no error";
}

void run_until(Plant& plant, double time_s) {
  while (plant.time_s() < time_s - 1e-9) ASSERT_EQ(plant.step(), Status::running);
}

TEST(Plant, StartsInTheSteadyStateOfTheDiscreteModel) {
  Network n = feeder();
  n.buses.push_back({"shore", 11e3});
  n.elements.emplace_back(Line{.name = "line",
                               .between = {"shore", "quay"},
                               .length_m = 30e3,
                               .r1_ohm_per_m = 1e-4,
                               .x1_ohm_per_m = 4e-4,
                               .c1_F_per_m = 9.1e-12,
                               .r0_ohm_per_m = 3e-4,
                               .x0_ohm_per_m = 1.2e-3,
                               .c0_F_per_m = 5e-12});
  n.elements.emplace_back(Source{.name = "far", .bus = "shore", .angle_rad = 0.2, .short_circuit_VA = 500e6});
  Plant plant = compile(n);
  const SignalId signals[] = {plant.signal("berth.va"), plant.signal("cable.ib"), plant.signal("line.ic_far"),
                              plant.signal("ship.ia")};
  for (int step = 0; step < 2000; ++step) {
    ASSERT_EQ(plant.step(), Status::running);
    for (const SignalId signal : signals) {
      const std::complex<double> phasor = plant.phasor(signal);
      const double expected = (phasor * std::polar(1.0, 2 * pi * 50 * plant.time_s())).real();
      ASSERT_NEAR(plant.value(signal), expected, 1e-8 * std::abs(phasor)) << plant.time_s();
    }
  }
}

TEST(Plant, StepsWithoutAllocatingThroughFaultAndTrip) {
  Plant plant = compile(feeder());
  const OperableId fault = plant.operable("fault");
  const OperableId breaker = plant.operable("Q1");
  const SignalId current = plant.signal("fault.ia");
  const long long before = test::allocations;
  plant.close(fault, 0.0123);
  plant.open(breaker, 0.05);
  double peak = 0;
  for (int k = 0; k < 4000; ++k) {
    if (plant.step() != Status::running) FAIL();
    peak = std::max(peak, std::abs(plant.value(current)));
  }
  EXPECT_EQ(test::allocations - before, 0);
  EXPECT_GT(peak, 5000);
}

TEST(Plant, CarriesTheShortCircuitCurrentOfTheImpedances) {
  Network n = feeder();
  n.faults[0].on = "quay";
  n.faults[0].at = unset;
  Plant plant = compile(n, 20e-6);
  plant.close(plant.operable("fault"), 0.02);
  run_until(plant, 0.4);  // direct component gone: L/R of the source is 32 ms
  double peak = 0;
  while (plant.time_s() < 0.42) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(plant.value(plant.signal("grid.ia"))));
  }
  const double expected = std::numbers::sqrt2 * 200e6 / (std::numbers::sqrt3 * 11e3);
  EXPECT_NEAR(peak, expected, 2e-3 * expected);
}

TEST(Plant, SpreadsAnEarthFaultOverTheSequenceNetworks) {
  Network n = feeder();
  n.elements.erase(n.elements.begin() + 3);
  auto& grid = std::get<Source>(n.elements[0]);
  grid.z0_over_z1 = 2.5;
  grid.x0_over_r0 = 4;
  n.faults[0] = {.name = "fault", .on = "quay", .phases = "AG", .resistance_ohm = 0.7};
  std::get<Cable>(n.elements[2]).c1_F_per_m = std::get<Cable>(n.elements[2]).c0_F_per_m = 0;
  n.elements.emplace_back(Load{.name = "light", .bus = "berth", .active_W = 1});
  Plant plant = compile(n, 20e-6);
  plant.close(plant.operable("fault"), 0.02);
  run_until(plant, 0.5);
  double peak = 0;
  while (plant.time_s() < 0.52) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(plant.value(plant.signal("fault.ia"))));
  }
  const double z = 11e3 * 11e3 / 200e6;
  const std::complex<double> z1 = z / std::hypot(1.0, 10.0) * std::complex<double>(1, 10);
  const std::complex<double> z0 = 2.5 * z / std::hypot(1.0, 4.0) * std::complex<double>(1, 4);
  const double expected =
      3 * std::numbers::sqrt2 * 11e3 / std::numbers::sqrt3 / std::abs(2.0 * z1 + z0 + 3 * 0.7);
  EXPECT_NEAR(peak, expected, 2e-3 * expected);
}

TEST(Plant, StrikesTheFaultAtItsExactInstantBetweenGridPoints) {
  // From a stiff source through R and L, i = (E/|Z|)(sin(wt + 90 deg - phi) - sin(wt0 + 90 deg - phi)
  // exp(-R(t - t0)/L)): the offset tells the instant.
  const auto offset_error = [](double step_s) {
    Network n;
    n.buses = {{"s", 11e3, "a"}, {"f", 11e3, "a"}};
    n.elements = {Source{.name = "g", .bus = "s", .voltage_V = 1000},
                  Branch{.name = "z", .between = {"s", "f"}, .resistance_ohm = 0.5, .inductance_H = 0.01},
                  Branch{.name = "stray", .between = {"f", "ground"}, .resistance_ohm = 1e6}};
    n.faults = {{.name = "fault", .on = "f", .phases = "AG"}};
    Plant plant = compile(n, step_s);
    constexpr double at = 0.0073217;
    plant.close(plant.operable("fault"), at);
    run_until(plant, 0.02);
    constexpr double resistance = 0.5 + 1e-4;  // and the solid fault's own
    const std::complex<double> z(resistance, 2 * pi * 50 * 0.01);
    const double peak = std::numbers::sqrt2 * 1000 / std::abs(z);
    const auto forced = [&](double t) { return std::cos(2 * pi * 50 * t - std::arg(z)); };
    const double expected =
        forced(plant.time_s()) - forced(at) * std::exp(-(plant.time_s() - at) * resistance / 0.01);
    return std::abs(plant.value(plant.signal("z.ia")) / peak - expected);
  };
  EXPECT_LT(offset_error(50e-6), 2e-4);  // 50 us late would be 1e-2
  EXPECT_LT(offset_error(10e-6), 2e-5);
}

/// A fault on a bus with capacitance discharges it at one blow. By the trapezoidal rule nothing damps what is
/// left of that: it went back and forth between capacitor and fault for ever, thousands of amperes at the
/// worst.
TEST(Fault, LeavesNoCurrentGoingBackAndForthInTheCapacitancesThatItShorts) {
  for (const double within : {0.0, 0.3, 0.7, 0.95}) {
    Network n = feeder();
    n.faults = {{.name = "fault", .on = "berth", .phases = "ABCG", .resistance_ohm = 0.5}};
    Plant plant = compile(n, 10e-6);
    const SignalId fault = plant.signal("fault.ia");
    plant.close(plant.operable("fault"), (1234 + within) * plant.step_s());
    for (int k = 0; k < 6000; ++k) ASSERT_EQ(plant.step(), Status::running);  // the cable has rung out
    double before = plant.value(fault), last = before, worst = 0, peak = 0;
    for (int k = 0; k < 4000; ++k) {
      ASSERT_EQ(plant.step(), Status::running);
      const double now = plant.value(fault);
      if (k > 0) worst = std::max(worst, std::abs(now - 2 * last + before));
      peak = std::max(peak, std::abs(now));
      before = last;
      last = now;
    }
    EXPECT_GT(peak, 3e3);
    const double omega_h = 2 * pi * 50 * plant.step_s();
    EXPECT_LT(worst, 3 * omega_h * omega_h * peak) << within;  // the bend of the sinusoid
  }
}

TEST(Breaker, OpensEachPoleAtItsOwnCurrentZero) {
  Network n = feeder();
  n.faults[0].phases = "ABCG";  // with a path to ground no two poles share a current
  Plant plant = compile(n);
  plant.close(plant.operable("fault"), 0.02);
  plant.open(plant.operable("Q1"), 0.10);  // contacts part at 0.12 s
  double opened[3] = {};
  double before[3] = {};
  const SignalId currents[] = {plant.signal("Q1.ia"), plant.signal("Q1.ib"), plant.signal("Q1.ic")};
  while (plant.time_s() < 0.15) {
    for (int k = 0; k < 3; ++k) before[k] = plant.value(currents[k]);
    ASSERT_EQ(plant.step(), Status::running);
    for (int k = 0; k < 3; ++k) {
      if (opened[k] == 0 && std::abs(plant.value(currents[k])) < 1e-3) {
        opened[k] = plant.time_s();
        EXPECT_GE(opened[k], 0.12);
        EXPECT_LT(std::abs(before[k]), 300);  // of 13 kA: less than one step before its zero
      }
    }
  }
  for (int a = 0; a < 3; ++a) {
    EXPECT_GT(opened[a], 0.12);
    EXPECT_LT(opened[a], 0.13);
    for (int b = 0; b < a; ++b) EXPECT_GT(std::abs(opened[a] - opened[b]), 5e-4);
  }
  EXPECT_EQ(plant.value(plant.signal("Q1.closed")), 0);
}

TEST(Breaker, InterruptsAnInductanceWithoutNumericalChatter) {
  Network n;
  n.buses = {{"s", 11e3, "a"}, {"f", 11e3, "a"}};
  n.elements = {Source{.name = "g", .bus = "s", .voltage_V = 1000},
                Breaker{.name = "Q", .between = {"s", "f"}},
                Branch{.name = "z", .between = {"f", "ground"}, .resistance_ohm = 0.1, .inductance_H = 0.01}};
  Plant plant = compile(n);
  plant.open(plant.operable("Q"), 0.03);
  run_until(plant, 0.045);
  for (int k = 0; k < 100; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    EXPECT_LT(std::abs(plant.value(plant.signal("f.va"))),
              1.0);  // the trapezoidal rule alone would ring at 1 kV
  }
}

TEST(Breaker, ReclosesAndIgnoresCommandsToWhereItAlreadyIs) {
  Plant plant = compile(feeder());
  const OperableId q = plant.operable("Q1");
  plant.close(q, 0.01);
  run_until(plant, 0.02);
  EXPECT_EQ(plant.value(plant.signal("Q1.closed")), 1);
  plant.open(q, 0.02);
  run_until(plant, 0.07);
  EXPECT_EQ(plant.value(plant.signal("Q1.closed")), 0);
  plant.close(q, 0.07);
  run_until(plant, 0.08);
  EXPECT_EQ(plant.value(plant.signal("Q1.closed")), 1);
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
}

TEST(Transformer, TurnsPhasesAsItsVectorGroupSays) {
  for (const std::string high : {"D", "Y", "YN"}) {
    for (const std::string low : {"d", "y", "yn"}) {
      for (int clock = 0; clock < 12; ++clock) {
        if ((clock % 2 == 1) != ((high == "D") != (low == "d"))) continue;
        const Plant plant = compile(with_transformer(high + low + std::to_string(clock)));
        const auto ratio = plant.phasor(plant.signal("low.va")) / plant.phasor(plant.signal("high.va"));
        EXPECT_NEAR(std::abs(ratio), 11.0 / 66, 2e-4) << high << low << clock;
        const double lag = std::remainder(-std::arg(ratio) - clock * pi / 6, 2 * pi);
        EXPECT_NEAR(lag, 0, 1e-3) << high << low << clock;
      }
    }
  }
}

TEST(Transformer, ShowsItsShortCircuitVoltageAndNoLoadCurrent) {
  Network n = with_transformer("Dyn11");
  const Plant idle = compile(n);
  const double rated = std::numbers::sqrt2 * 20e6 / (std::numbers::sqrt3 * 66e3);
  EXPECT_NEAR(std::abs(idle.phasor(idle.signal("T.ia"))), 0.005 * rated, 0.05 * 0.005 * rated);
  std::get<Branch>(n.elements[2]).resistance_ohm = 1e-6;
  const Plant shorted = compile(n);
  EXPECT_NEAR(std::abs(shorted.phasor(shorted.signal("T.ia"))), 10 * rated, 0.01 * 10 * rated);
}

TEST(Transformer, LimitsAnEarthFaultByItsNeutralImpedance) {
  Network n = with_transformer("Dyn11");
  auto& t = std::get<Transformer>(n.elements[1]);
  t.low_neutral_resistance_ohm = 6.35;
  t.low_neutral_reactance_ohm = 1.5;
  n.faults = {{.name = "fault", .on = "low", .phases = "AG", .resistance_ohm = 0.2}};
  Plant plant = compile(n);
  plant.close(plant.operable("fault"), 0.02);
  run_until(plant, 0.3);
  double peak = 0;
  while (plant.time_s() < 0.32) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(plant.value(plant.signal("fault.ia"))));
  }
  // The delta shorts the zero sequence, so Z0 = Z1 = Z2 = Zk: I = 3 E / (3 Zk + 3 Zn + 3 Rf).
  const double base = 11e3 * 11e3 / 20e6;
  const double r = 90e3 / 20e6 * base;
  const std::complex<double> zk(r, std::sqrt(0.01 * base * base - r * r));
  const double expected =
      std::numbers::sqrt2 * 11e3 / std::numbers::sqrt3 / std::abs(zk + std::complex<double>(6.55, 1.5));
  EXPECT_NEAR(peak, expected, 3e-3 * expected);
}

TEST(InstrumentTransformers, ScaleCurrentsAndVoltagesToTheirSecondary) {
  Network n = feeder();
  n.elements.emplace_back(
      CurrentTransformer{.name = "CT", .on = "cable", .primary_A = 400, .secondary_A = 1});
  n.elements.emplace_back(
      CurrentTransformer{.name = "CTfar", .on = "cable", .end = "far", .primary_A = 400, .secondary_A = 5});
  n.elements.emplace_back(
      VoltageTransformer{.name = "VT", .bus = "quay", .primary_V = 11e3, .secondary_V = 110});
  const Plant plant = compile(n);
  EXPECT_NEAR(plant.value(plant.signal("CT.ib")) * 400, plant.value(plant.signal("cable.ib")), 1e-9);
  EXPECT_NEAR(plant.value(plant.signal("CTfar.ib")) * 80, plant.value(plant.signal("cable.ib_far")), 1e-9);
  EXPECT_NEAR(plant.value(plant.signal("VT.vc")) * 100, plant.value(plant.signal("quay.vc")), 1e-9);
}

TEST(Cable, SplitsAtAFaultPlaceWithoutChangingItsEnds) {
  Network n = feeder();
  const Plant split = compile(n);
  n.faults.clear();
  const Plant whole = compile(n);
  for (const char* name : {"cable.ia", "cable.ia_far", "berth.va"}) {
    const auto expected = whole.phasor(whole.signal(name));
    EXPECT_NEAR(std::abs(split.phasor(split.signal(name)) - expected), 0, 1e-3 * std::abs(expected)) << name;
  }
}

TEST(Compile, FindsThePartitionsThatLinesLeave) {
  Network n = feeder();
  n.faults.clear();
  n.buses.push_back({"shore", 11e3});
  n.elements.emplace_back(Line{.name = "line",
                               .between = {"shore", "quay"},
                               .length_m = 30e3,
                               .x1_ohm_per_m = 4e-4,
                               .c1_F_per_m = 9.1e-12,
                               .x0_ohm_per_m = 1.2e-3,
                               .c0_F_per_m = 5e-12});
  n.elements.emplace_back(
      Load{.name = "village", .bus = "shore", .active_W = 1e5, .connection = "grounded star"});
  const Plant plant = compile(n);
  EXPECT_EQ(plant.summary().partitions, 2);
  EXPECT_NEAR(plant.summary().largest_step_s, 30e3 * std::sqrt(4e-4 / (2 * pi * 50) * 9.1e-12), 1e-9);
}

TEST(Compile, GivesTheSameBitsEveryTime) {
  const auto last = [] {
    Plant plant = compile(feeder());
    plant.close(plant.operable("fault"), 0.0123);
    plant.open(plant.operable("Q1"), 0.05);
    for (int k = 0; k < 3000; ++k) (void)plant.step();
    return plant.value(plant.signal("quay.vb"));
  };
  EXPECT_EQ(last(), last());
}

TEST(Compile, NamesAFloatingBus) {
  Network n = feeder();
  n.faults.clear();
  n.buses.push_back({"island", 11e3});
  EXPECT_EQ(refusal(n),
            "bus.island: floats: nothing ties it to ground; connect a source, a grounded star, a capacitance "
            "or a load "
            "between it and ground");
}

TEST(Compile, SeesThatADeltaWindingAloneTiesNothingToGround) {
  Network n = with_transformer("YNd1");
  n.elements.pop_back();
  EXPECT_TRUE(refusal(n).starts_with("bus.low: floats")) << refusal(n);
}

TEST(Compile, NamesALoopOfStiffSources) {
  Network n;
  n.buses = {{"s", 11e3}};
  n.elements = {Source{.name = "one", .bus = "s"}, Source{.name = "two", .bus = "s"}};
  EXPECT_EQ(refusal(n),
            "source.two, bus: loop of stiff sources: source.one already imposes the voltage of s.a; give one "
            "of them a "
            "short_circuit");
}

TEST(Compile, MakesAPiSectionOfALineThatWavesCrossWithinAStep) {
  Network n;
  n.buses = {{"s", 11e3, "a"}, {"f", 11e3, "a"}};
  Network as_cable = n;
  n.elements = {Source{.name = "g", .bus = "s", .short_circuit_VA = 1e9}, Line{.name = "line",
                                                                               .between = {"s", "f"},
                                                                               .length_m = 3000,
                                                                               .r1_ohm_per_m = 1e-4,
                                                                               .x1_ohm_per_m = 4e-4,
                                                                               .c1_F_per_m = 9e-12}};
  as_cable.elements = {n.elements.front(), Cable{.name = "line",
                                                 .between = {"s", "f"},
                                                 .length_m = 3000,
                                                 .r1_ohm_per_m = 1e-4,
                                                 .x1_ohm_per_m = 4e-4,
                                                 .c1_F_per_m = 9e-12,
                                                 .sections = 1}};
  Plant line = compile(n, 50e-6), cable = compile(as_cable, 50e-6);
  ASSERT_EQ(line.summary().notes.size(), 1);
  EXPECT_EQ(line.summary().notes.front(),
            "line.line: is a pi section, for waves cross it in 10.16 us, less than the step of 50 us");
  for (Plant* plant : {&line, &cable}) {
    for (int k = 0; k < 100; ++k) ASSERT_EQ(plant->step(), Status::running);
  }
  EXPECT_EQ(line.value(line.signal("f.va")), cable.value(cable.signal("f.va")));
  EXPECT_NE(line.value(line.signal("line.ia")), 0);
}

TEST(Compile, RefusesABranchWithoutImpedance) {
  Network n = feeder();
  n.elements.emplace_back(Branch{.name = "bar", .between = {"quay", "feed"}});
  EXPECT_EQ(
      refusal(n),
      "branch.bar: has no impedance; give it a resistance or an inductance, or join its buses into one");
}

TEST(Compile, SaysWhyAVectorGroupCannotBeWound) {
  EXPECT_EQ(refusal(with_transformer("Dyn10")),
            "transformer.T, vector_group: \"Dyn10\" cannot be wound: these windings give an odd figure");
  EXPECT_EQ(refusal(with_transformer("Zyn11")),
            "transformer.T, vector_group: \"Zyn11\" is no vector group; write D, Y or YN, then d, y, yn, z, "
            "zn or a "
            "with 0 to 11, such as \"Dyn11\"");
}

TEST(Compile, RefusesFaultsWithoutAPlace) {
  Network n = feeder();
  n.faults[0].at = unset;
  EXPECT_EQ(refusal(n), "fault, at: \"cable\" is no bus; say where along it, such as at = \"80 %\"");
  n.faults[0] = {.name = "fault", .on = "ship", .at = 0.5};
  EXPECT_EQ(refusal(n), "fault, on: \"ship\" has no length; name a line, a cable or a bus");
}

TEST(Plant, TellsOfVoltagesThatNoBusExplains) {
  // A current that is cut off by force in a converter's condensed network: the inductance answers.
  Network n;
  n.buses = {{"d", 750, "pn"}, {"x", 750, "p"}};
  n.elements = {DcSource{.name = "u", .bus = "d", .voltage_V = 750, .resistance_ohm = 0.01},
                Branch{.name = "e", .between = {"d.n", "ground"}, .resistance_ohm = 1},
                Valve{.name = "t", .device = "switch", .from = "d.p", .to = "x.p", .off_resistance_ohm = 1e6},
                Branch{.name = "l", .between = {"x.p", "d.n"}, .resistance_ohm = 1, .inductance_H = 0.1}};
  Plant plant = compile(n, 10e-6), unseen = compile(n, 10e-6);
  for (Plant* one : {&plant, &unseen}) {
    ASSERT_TRUE(one->fire(one->gate("t"), true, 0));
    ASSERT_TRUE(one->fire(one->gate("t"), false, 0.05));
  }
  const SignalId current = plant.signal("l.ia");
  while (plant.time_s() < 0.06) {
    ASSERT_EQ(plant.step(), Status::running);
    ASSERT_EQ(unseen.step(), Status::running);
    plant.look_over();
    ASSERT_EQ(plant.value(current), unseen.value(current));
    if (plant.time_s() < 0.0499) {
      ASSERT_TRUE(plant.excesses().empty());
    }
  }
  const std::vector<Excess> found = plant.excesses();
  ASSERT_EQ(found.size(), 1U);
  EXPECT_EQ(found[0].node, "x.p");
  EXPECT_NEAR(found[0].bound_V, 20 * std::numbers::sqrt2 * 750, 1e-6);
  EXPECT_GT(std::abs(found[0].volts), found[0].bound_V);
  EXPECT_NEAR(found[0].at_s, 0.05, 20e-6);
  EXPECT_TRUE(unseen.excesses().empty());
}

TEST(Plant, NamesTheNodeThatDiverges) {
  Network n;
  n.buses = {{"s", 11e3, "a"}, {"f", 11e3, "a"}};
  n.start = "zero";
  n.elements = {Source{.name = "g", .bus = "s", .voltage_V = std::numeric_limits<double>::max() / 4},
                Branch{.name = "z", .between = {"s", "f"}, .resistance_ohm = 1e-3},
                Branch{.name = "y", .between = {"f", "ground"}, .resistance_ohm = 1}};
  Plant plant = compile(n);
  Status status = Status::running;
  for (int k = 0; k < 10 && status == Status::running; ++k) status = plant.step();
  EXPECT_EQ(status, Status::diverged);
  EXPECT_EQ(plant.culprit(), "f.a");
}

TEST(Plant, NamesTheNearestSignal) {
  const Plant plant = compile(feeder());
  try {
    (void)plant.signal("cable.iaa");
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "no signal \"cable.iaa\", did you mean \"cable.ia\"?");
  }
}

TEST(Rule, EulerThroughoutIsFirstOrderAndTrapezoidalSecond) {
  const auto error_of = [](const char* rule, double step_s) {
    Network n;
    n.buses = {{"s", 11e3, "a"}};
    n.start = "zero";
    n.rule = rule;
    n.elements = {Source{.name = "g", .bus = "s", .voltage_V = 100, .frequency_Hz = 0},
                  Branch{.name = "z", .between = {"s", "ground"}, .resistance_ohm = 2, .inductance_H = 0.01}};
    Plant plant = compile(n, step_s);
    run_until(plant, 0.005);
    return std::abs(plant.value(plant.signal("z.ia")) - 50 * (1 - std::exp(-200 * plant.time_s())));
  };
  EXPECT_NEAR(std::log2(error_of("euler", 100e-6) / error_of("euler", 50e-6)), 1, 0.1);
  EXPECT_NEAR(std::log2(error_of("trapezoidal", 100e-6) / error_of("trapezoidal", 50e-6)), 2, 0.2);
}

TEST(Plant, MayStartAnewWithoutChangingItsWay) {
  Plant calm = compile(feeder()), disturbed = compile(feeder());
  const SignalId current = calm.signal("Q1.ia");
  double largest = 0, apart = 0;
  for (int k = 0; k < 2000; ++k) {
    if (k % 100 == 50) disturbed.start_anew();
    ASSERT_EQ(calm.step(), Status::running);
    ASSERT_EQ(disturbed.step(), Status::running);
    largest = std::max(largest, std::abs(calm.value(current)));
    apart = std::max(apart, std::abs(calm.value(current) - disturbed.value(current)));
  }
  EXPECT_EQ(calm.discontinuities(), 0);
  EXPECT_EQ(disturbed.discontinuities(), 20);
  EXPECT_GT(apart, 0) << "it takes half steps";
  EXPECT_LT(apart, 1e-3 * largest);
}

}  // namespace
}  // namespace zavrek::emt
