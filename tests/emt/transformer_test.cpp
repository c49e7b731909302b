#include <cmath>
#include <complex>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

Transformer two_windings(const char* group) {
  return {.name = "T",
          .high = "high",
          .low = "low",
          .rating_VA = 40e6,
          .high_voltage_V = 110e3,
          .low_voltage_V = 20e3,
          .vector_group = group,
          .short_circuit_voltage = 0.12,
          .copper_loss_W = 180e3};
}

/// A stiff source on the high side; a large resistance holds the low side to ground.
Network unloaded(Transformer t) {
  Network n;
  n.buses = {{"high", 110e3}, {"low", t.low_voltage_V}};
  n.elements = {Source{.name = "grid", .bus = "high"},
                Load{.name = "l", .bus = "low", .active_W = 1e3, .connection = "grounded star"},
                std::move(t)};
  return n;
}

/// As a short-circuit test: `shorted` bus behind 1 mohm, current of the first phase on the high side.
double test_voltage(Network n, const std::string& shorted) {
  n.elements.emplace_back(Branch{.name = "short", .between = {shorted, "ground"}, .resistance_ohm = 1e-4});
  const Plant plant = compile(n);
  const double rated = 40e6 / (std::sqrt(3.0) * 110e3) * std::numbers::sqrt2;
  return rated / std::abs(phasor(plant, "T.ia"));
}

class ZigzagGroups : public testing::TestWithParam<const char*> {};

TEST_P(ZigzagGroups, LagsAsItsFigureSaysAndHasItsRatioAndShortCircuitVoltage) {
  const Plant plant = compile(unloaded(two_windings(GetParam())));
  const std::string group = GetParam();
  const int clock = std::stoi(group.substr(group.find_first_of("0123456789")));
  const auto ratio = phasor(plant, "low.va") / phasor(plant, "high.va");
  EXPECT_NEAR(std::abs(ratio), 20.0 / 110, 0.002 * 20 / 110);
  EXPECT_NEAR(std::abs(std::arg(ratio * std::polar(1.0, clock * pi / 6))), 0, 2e-3) << group;
  // The magnetising current takes its share of what the stiff source sees.
  EXPECT_NEAR(test_voltage(unloaded(two_windings(GetParam())), "low"), 0.12, 0.12 * 0.01) << group;
}
INSTANTIATE_TEST_SUITE_P(Transformer, ZigzagGroups,
                         testing::Values("Dzn0", "Dzn6", "YNzn11", "Yzn5", "YNyn0", "Dyn5", "YNd7"));

Transformer three_windings(const char* group) {
  Transformer t = two_windings(group);
  t.tertiary = "third";
  t.tertiary_voltage_V = 10e3;
  t.short_circuit_voltage_ht = 0.20;
  t.short_circuit_voltage_lt = 0.07;
  return t;
}
Network with_third(Transformer t) {
  Network n = unloaded(std::move(t));
  n.buses.push_back({"third", 10e3});
  n.elements.emplace_back(Load{.name = "t", .bus = "third", .active_W = 1e3, .connection = "grounded star"});
  return n;
}

TEST(ThreeWindings, ShowAllThreeShortCircuitVoltagesAndFigures) {
  const Network n = with_third(three_windings("YNyn0d11"));
  EXPECT_NEAR(test_voltage(n, "low"), 0.12, 0.0012);
  EXPECT_NEAR(test_voltage(n, "third"), 0.20, 0.002);
  // Low to third: the source moves to the low side.
  Network turned = n;
  std::get<Source>(turned.elements[0]).bus = "low";
  turned.elements[1] = Load{.name = "l", .bus = "high", .active_W = 1e3, .connection = "grounded star"};
  turned.elements.emplace_back(
      Branch{.name = "short", .between = {"third", "ground"}, .resistance_ohm = 1e-5});
  const double rated = 40e6 / (std::sqrt(3.0) * 20e3) * std::numbers::sqrt2;
  EXPECT_NEAR(rated / std::abs(phasor(compile(turned), "T.ia_far")), 0.07, 0.0007);
  const Plant plant = compile(n);
  const auto ratio = phasor(plant, "third.va") / phasor(plant, "high.va");
  EXPECT_NEAR(std::abs(ratio), 10.0 / 110, 1e-3 * 10 / 110);
  EXPECT_NEAR(std::arg(ratio), pi / 6, 2e-3);
}

TEST(Autotransformer, ShowsItsRatioAndItsShortCircuitVoltages) {
  Transformer t = three_windings("YNa0d11");
  t.low_voltage_V = 60e3;
  const Network n = with_third(t);
  const Plant plant = compile(n);
  const auto ratio = phasor(plant, "low.va") / phasor(plant, "high.va");
  EXPECT_NEAR(std::abs(ratio), 60.0 / 110, 1e-3);
  EXPECT_NEAR(std::arg(ratio), 0, 1e-3);
  EXPECT_NEAR(test_voltage(n, "low"), 0.12, 0.0012);
  EXPECT_NEAR(test_voltage(n, "third"), 0.20, 0.002);
  Transformer plain = two_windings("YNa0");
  plain.low_voltage_V = 60e3;
  EXPECT_NEAR(test_voltage(unloaded(plain), "low"), 0.12, 0.0012);
}

TEST(TapChanger, MovesTheVoltageByItsStepWhileRunning) {
  Transformer t = two_windings("Dyn11");
  t.tap_winding = "low";
  t.tap = -2;
  Plant plant = compile(unloaded(t));
  const double low = std::abs(phasor(plant, "low.va"));
  EXPECT_NEAR(low, 20e3 * std::sqrt(2.0 / 3) * (1 - 2 * 0.0125), 0.003 * low);
  run(plant, 0.1);
  plant.turn(plant.knob("T.tap"), 4);
  run(plant, 0.5);
  EXPECT_EQ(value(plant, "T.position"), 4);
  double peak = 0;
  for (int k = 0; k < 400; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(value(plant, "low.va")));
  }
  EXPECT_NEAR(peak, low * 1.05 / 0.975, 0.002 * low);
}

/// Of what the step makes of the turns: the low voltage at no load, moved while it runs.
TEST(TapChanger, MovesTheVoltageInEveryKindOfTransformer) {
  struct Kind {
    const char* group;
    const char* tapped;
    bool third;
    double low_kV;
  };
  for (const Kind& kind : {Kind{"Yzn11", "low", false, 20}, Kind{"Dyn5", "high", false, 20},
                           Kind{"YNyn0d11", "low", true, 20}, Kind{"YNyn0d11", "high", true, 20},
                           Kind{"YNa0", "low", false, 60}, Kind{"YNa0d11", "high", true, 60}}) {
    Transformer t = kind.third ? three_windings(kind.group) : two_windings(kind.group);
    t.low_voltage_V = kind.low_kV * 1e3;
    t.tap_winding = kind.tapped;
    t.tap = 4;
    const auto network = [&] { return kind.third ? with_third(t) : unloaded(t); };
    const bool automatic = kind.group[2] == 'a', low = kind.tapped[0] == 'l';
    const auto ratio_at = [&](int position) {
      const double turns = 1 + 0.0125 * position, v = kind.low_kV;
      if (!automatic) return v / 110 * (low ? turns : 1 / turns);
      const double series = (110 - v) * (low ? 1 : turns), common = v * (low ? turns : 1);
      return common / (series + common);
    };
    Plant plant = compile(network());
    const auto measured = std::abs(phasor(plant, "low.va") / phasor(plant, "high.va"));
    EXPECT_NEAR(measured, ratio_at(4), 0.004 * measured) << kind.group << " " << kind.tapped;
    run(plant, 0.04);
    plant.turn(plant.knob("T.tap"), -3);
    run(plant, 0.3);
    double peak = 0;
    for (int k = 0; k < 400; ++k) {
      ASSERT_EQ(plant.step(), Status::running);
      peak = std::max(peak, std::abs(value(plant, "low.va")));
    }
    const double high = 110e3 * std::sqrt(2.0 / 3);
    EXPECT_NEAR(peak / high, ratio_at(-3), 0.006 * peak / high) << kind.group << " " << kind.tapped;
  }
}

TEST(TapChanger, HoldsTheTerminalsOfAZigzagAndOfAnAutotransformer) {
  for (const auto& [group, low_V] : {std::pair{"YNzn11", 20e3}, {"YNa0", 60e3}}) {
    Transformer t = two_windings(group);
    t.low_voltage_V = low_V;
    t.tap_winding = "low";
    t.tap_target_V = 1.035 * low_V;
    t.tap_band = 0.015;
    const Plant plant = compile(unloaded(t));
    const double wanted = t.tap_target_V * std::sqrt(2.0 / 3);
    EXPECT_NEAR(std::abs(phasor(plant, "low.va")), wanted, 0.009 * wanted) << group;
    EXPECT_GT(value(plant, "T.position"), 0) << group;
  }
}

TEST(TapChanger, RegulatesAtTheStartAndAfterALoadStep) {
  Transformer t = two_windings("Dyn11");
  t.tap_winding = "high";
  t.tap_target_V = 20.5e3;
  t.tap_time_s = 0.3;
  t.tap_delay_s = 0.5;
  Network n = unloaded(t);
  n.buses.push_back({"spare", 20e3});
  n.elements.emplace_back(Breaker{.name = "q", .between = {"low", "spare"}, .closed = false});
  n.elements.emplace_back(Load{.name = "step", .bus = "spare", .active_W = 25e6, .reactive_var = 20e6});
  Plant plant = compile(n);
  const double wanted = 20.5e3 * std::sqrt(2.0 / 3);
  EXPECT_NEAR(std::abs(phasor(plant, "low.va")), wanted, 0.011 * wanted);
  EXPECT_LT(value(plant, "T.position"), 0);  // fewer turns on the high side
  const double before = value(plant, "T.position");
  plant.close(plant.operable("q"), 0);
  run(plant, 7);
  double peak = 0;
  for (int k = 0; k < 400; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(value(plant, "low.va")));
  }
  EXPECT_NEAR(peak, wanted, 0.011 * wanted);
  EXPECT_LT(value(plant, "T.position"), before - 2);
}

TEST(Saturation, LetsInrushFlowWithTheSecondHarmonicOfAResidualFlux) {
  Transformer t = two_windings("YNd11");
  t.knee = 1.15;
  t.air_core = 0.25;
  t.residual_flux = {"0.3", "-0.2", "-0.1"};
  Network n = unloaded(t);
  n.buses.push_back({"bar", 110e3});
  std::get<Source>(n.elements[0]) = {
      .name = "grid", .bus = "bar", .angle_rad = -pi / 2, .short_circuit_VA = 3e9};
  n.elements.emplace_back(Breaker{.name = "q", .between = {"bar", "high"}, .closed = false});
  Plant plant = compile(n, 20e-6);
  EXPECT_NEAR(value(plant, "T.fluxa"), 0.3 * std::sqrt(2.0 / 3) * 110e3 / (2 * pi * 50), 2);
  plant.close(plant.operable("q"), 0);  // phase a at its rising zero: the flux runs to 0.3 + 2
  double peak = 0;
  std::complex<double> first = 0, second = 0;
  const int steps = static_cast<int>(0.02 / 20e-6);
  for (int k = 0; k < steps; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double i = value(plant, "T.ia");
    peak = std::max(peak, i);
    first += i * std::polar(1.0, -2 * pi * 50 * plant.time_s());
    second += i * std::polar(1.0, -4 * pi * 50 * plant.time_s());
  }
  // Flux above the knee over the inductance beyond it, the grid's impedance included.
  const double rated = std::sqrt(2.0 / 3) * 110e3, base = 110e3 * 110e3 / 40e6;
  const double ceiling = rated * (2.3 - 1.15) / (0.25 * base);
  EXPECT_LT(peak, ceiling);
  EXPECT_GT(peak, 0.6 * ceiling);
  EXPECT_GT(std::abs(second) / std::abs(first), 0.2);
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
}

TEST(Saturation, SteadyExcitationMeetsTheClosedFormOfABentInductance) {
  // A stiff sinusoid across the winding: flux is known, the current is the characteristic of it.
  Transformer t = two_windings("YNyn0");
  t.knee = 0.8;
  t.copper_loss_W = 0;
  Plant plant = compile(unloaded(t), 10e-6);
  run(plant, 0.02);
  const double w = 2 * pi * 50, rated = std::sqrt(2.0 / 3) * 110e3 / w, base = 110e3 * 110e3 / 40e6;
  const double beyond = w / (0.3 * base) - 0.005 * w / base;
  double worst = 0;
  for (int k = 0; k < 2000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double flux = rated * std::sin(w * plant.time_s());
    const double over = std::max(0.0, std::abs(flux) - 0.8 * rated);
    const double expected = flux / rated * 0.005 * w * rated / base + std::copysign(over * beyond, flux);
    worst = std::max(worst, std::abs(value(plant, "T.ia") - expected));
  }
  EXPECT_LT(worst, 0.01 * 0.2 * rated * beyond);
}

TEST(InternalFault, DrawsThroughTheNeutralsResistanceWhatItsShareOfTheWindingDrives) {
  for (const double at : {0.1, 0.5, 0.95}) {
    Transformer t = two_windings("YNd11");
    t.high_neutral_resistance_ohm = 800;
    Network n = unloaded(t);  // fed from the delta: nothing but the neutral closes the circuit
    std::get<Source>(n.elements[0]).bus = "low";
    std::get<Load>(n.elements[1]).bus = "high";
    n.faults = {Fault{.name = "inside", .on = "T", .at = at, .winding = "high", .phases = "AG"}};
    Plant plant = compile(n);
    plant.close(plant.operable("inside"), 0.005);
    run(plant, 0.3);
    double peak = 0;
    for (int k = 0; k < 400; ++k) {
      ASSERT_EQ(plant.step(), Status::running);
      peak = std::max(peak, std::abs(value(plant, "inside.ia")));
    }
    const double expected = at * std::sqrt(2.0 / 3) * 110e3 / 800;
    EXPECT_NEAR(peak, expected, 0.02 * expected) << at;
  }
}

TEST(TransformerErrors, NameTheFieldAndTheCure) {
  const auto refusal = [](const Network& n) {
    try {
      (void)compile(n);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  EXPECT_EQ(refusal(unloaded(two_windings("YNyn0d11"))),
            "transformer.T, vector_group: \"YNyn0d11\" has 3 windings; 2 are connected to buses");
  Transformer t = three_windings("YNyn0d11");
  t.tertiary_voltage_V = unset;
  EXPECT_EQ(refusal(with_third(t)), "transformer.T, tertiary_voltage: missing; a third winding needs it");
  t = two_windings("Dyn11");
  t.residual_flux = {"0.5", "0", "-0.5"};
  EXPECT_EQ(refusal(unloaded(t)),
            "transformer.T, residual_flux: needs a knee: without saturation it has no meaning");
  t = two_windings("Dyn11");
  t.tap_winding = "low";
  t.tap = 12;
  EXPECT_EQ(refusal(unloaded(t)), "transformer.T, tap: is none of the positions from -8 to 8");
}

TEST(Regulator, InOpenDeltaRaisesTwoLineVoltagesAndLetsTheMiddlePhasePass) {
  Network n;
  n.buses = {{"a", 4.8e3}, {"b", 4.8e3}};
  n.elements = {
      Source{.name = "grid", .bus = "a", .voltage_V = 4.8e3},
      Regulator{.name = "r", .between = {"a", "b"}, .connection = "open delta", .tap_a = 7, .tap_c = 4},
      Load{.name = "l", .bus = "b", .active_W = 300e3, .reactive_var = 100e3, .connection = "delta"}};
  Plant plant = compile(n, 50e-6);
  const auto phasor = [&](const std::string& name) { return plant.phasor(plant.signal(name)); };
  const auto ratio = [&](const char* one) {
    const std::string p = one;
    return std::abs((phasor("b.v" + p) - phasor("b.vb")) / (phasor("a.v" + p) - phasor("a.vb")));
  };
  EXPECT_NEAR(ratio("a"), 1 + 7 * 0.00625, 2e-4);
  EXPECT_NEAR(ratio("c"), 1 + 4 * 0.00625, 2e-4);
  EXPECT_LT(std::abs(phasor("b.vb") - phasor("a.vb")), 1);
  // Nothing is lost on the way: the currents of either side add up to zero.
  EXPECT_LT(std::abs(phasor("r.ia") + phasor("r.ib") + phasor("r.ic")), 1e-6);
  EXPECT_LT(std::abs(phasor("r.ia_far") + phasor("r.ib_far") + phasor("r.ic_far")), 1e-6);
  EXPECT_LT(std::abs(phasor("r.ib_far") + phasor("l.ib")), 1e-3);
  for (int k = 0; k < 2000; ++k) ASSERT_EQ(plant.step(), Status::running);
  const double expected = (phasor("b.va") * std::polar(1.0, 2 * pi * 50 * plant.time_s())).real();
  EXPECT_NEAR(plant.value(plant.signal("b.va")), expected, 1e-3 * 4.8e3);
}

}  // namespace
}  // namespace zavrek::emt
