#include "zavrek/emt/study.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <functional>
#include <memory>
#include <numbers>

#include "emt/circuits.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

class VariableStep : public testing::TestWithParam<test::Circuit> {};

TEST_P(VariableStep, MeetsTheIndependentAnswer) {
  const test::Circuit& circuit = GetParam();
  Study study{.network = circuit.network, .duration_s = 0.05, .sample_s = 1e-4, .signals = {circuit.signal}};
  const Series series = solve_reference(study);
  const test::Reference answer =
      test::read_reference(std::string(ZAVREK_TEST_DATA) + "/" + circuit.file, circuit.column);
  double squares = 0, peak = 0;
  int count = 0;
  std::size_t k = 0;
  for (std::size_t j = 1; j < series.time_s.size(); ++j) {
    while (k < answer.time_s.size() && answer.time_s[k] < series.time_s[j] - 1e-9) ++k;
    if (k == answer.time_s.size() || answer.time_s[k] > series.time_s[j] + 1e-9) continue;
    const double error = circuit.scale * series.values[0][j] - answer.value[k];
    squares += error * error;
    peak = std::max(peak, std::abs(answer.value[k]));
    ++count;
  }
  ASSERT_GT(count, 100);
  EXPECT_LT(std::sqrt(squares / count), 5e-6 * peak);
}

std::string circuit_name(const testing::TestParamInfo<test::Circuit>& info) {
  return info.param.file.substr(0, info.param.file.find('.')) + std::to_string(info.param.column);
}
INSTANTIATE_TEST_SUITE_P(Circuits, VariableStep, testing::ValuesIn(test::reference_circuits()), circuit_name);

/// rms of the difference over the peak, worst signal.
double difference(const Study& study, double step_s) {
  const Series exact = solve_reference(study), fixed = simulate(study, step_s);
  double worst = 0;
  for (std::size_t s = 0; s < exact.names.size(); ++s) {
    double squares = 0, peak = 0;
    // The fixed step shows its start as it was described, the reference as it holds just behind.
    for (std::size_t k = 1; k < exact.time_s.size(); ++k) {
      squares += std::pow(fixed.values[s][k] - exact.values[s][k], 2);
      peak = std::max(peak, std::abs(exact.values[s][k]));
    }
    if (peak > 0)
      worst = std::max(worst, std::sqrt(squares / static_cast<double>(exact.time_s.size())) / peak);
  }
  return worst;
}

Study faulted_motor() {
  Network n;
  n.buses = {{"bar", 11e3}, {"mid", 11e3}, {"end", 11e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 300e6},
                Breaker{.name = "q", .between = {"bar", "mid"}},
                Branch{.name = "z", .between = {"mid", "end"}, .resistance_ohm = 0.2, .inductance_H = 2e-3},
                InductionMachine{.name = "m",
                                 .bus = "end",
                                 .stator_resistance_ohm = 1.2,
                                 .stator_leakage_ohm = 6,
                                 .magnetizing_ohm = 240,
                                 .rotor_leakage_ohm = 6,
                                 .rotor_resistance_ohm = 1.4,
                                 .inertia_kgm2 = 22,
                                 .load_torque_Nm = 3000},
                Capacitor{.name = "c", .bus = "end", .reactive_var = 0.4e6, .connection = "grounded star"}};
  n.faults = {Fault{.name = "f", .on = "mid", .phases = "ABC", .resistance_ohm = 3}};
  return {.network = n,
          .commands = {{0.0213, "f", true}, {0.05, "f", false}},
          .duration_s = 0.12,
          .sample_s = 1e-4,
          .signals = {"z.ia", "m.torque", "m.speed", "end.vb", "grid.ic"}};
}

TEST(Reference, AgreesWithTheFixedStepThroughAFaultAndItsClearing) {
  const Study study = faulted_motor();
  const double coarse = difference(study, 50e-6), fine = difference(study, 10e-6);
  EXPECT_LT(coarse, 0.02);
  EXPECT_LT(fine, 1e-3);
  EXPECT_GT(coarse / fine, 5);
}

TEST(Reference, FollowsSaturationArcsAndNodesThatOnlyInductancesHold) {
  Network n;
  n.buses = {{"bar", 20e3}, {"high", 20e3}, {"low", 0.4e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 300e6},
                Branch{.name = "z", .between = {"bar", "high"}, .resistance_ohm = 0.1, .inductance_H = 1e-3},
                Transformer{.name = "t",
                            .high = "high",
                            .low = "low",
                            .rating_VA = 2e6,
                            .high_voltage_V = 20e3,
                            .low_voltage_V = 400,
                            .short_circuit_voltage = 0.06,
                            .copper_loss_W = 20e3,
                            .knee = 0.9},
                Load{.name = "l",
                     .bus = "low",
                     .active_W = 0.5e6,
                     .reactive_var = 0.2e6,
                     .connection = "grounded star"}};
  n.faults = {Fault{.name = "f", .on = "low", .phases = "AG", .arc_voltage_V = 60}};
  const Study study{.network = n,
                    .commands = {{0.031, "f", true}},
                    .duration_s = 0.08,
                    .sample_s = 1e-4,
                    .signals = {"t.ia", "low.vb", "f.ia"}};
  EXPECT_LT(difference(study, 10e-6), 5e-3);
}

/// A feeder behind a regulator, with a fault to ground of one phase.
Network regulated_feeder(double fault_ohm) {
  Network n;
  n.buses = {{"a", 4e3}, {"b", 4e3}, {"c", 4e3}};
  n.elements = {
      Source{.name = "e", .bus = "a", .short_circuit_VA = 20e6},
      Regulator{.name = "r", .between = {"a", "b"}, .target_V = 120, .delay_s = 0.05, .tap_time_s = 0.03},
      Branch{.name = "z", .between = {"b", "c"}, .resistance_ohm = 2, .inductance_H = 4e-3},
      Load{.name = "l", .bus = "c", .active_W = 8e5, .reactive_var = 4e5, .connection = "grounded star"}};
  n.faults = {Fault{.name = "f", .on = "b", .phases = "BG", .resistance_ohm = fault_ohm}};
  return n;
}

TEST(Reference, FollowsTapChangersUnderControlAndByHand) {
  const Study study{.network = regulated_feeder(3),
                    .commands = {{0.0213, "f", true}, {.at_s = 0.15, .knob = "r.tap_a", .value = 2}},
                    .duration_s = 0.25,
                    .sample_s = 1e-3,
                    .signals = {"r.position_a", "r.position_b", "b.va", "b.vb", "z.ib"}};
  const Series exact = solve_reference(study), fixed = simulate(study, 20e-6);
  const auto moves = [](const std::vector<double>& positions) {
    std::vector<double> seen;
    for (const double p : positions) {
      if (seen.empty() || seen.back() != std::round(p)) seen.push_back(std::round(p));
    }
    return seen;
  };
  EXPECT_EQ(moves(exact.values[0]), moves(fixed.values[0]));
  EXPECT_EQ(moves(exact.values[1]), moves(fixed.values[1]));
  EXPECT_GT(moves(exact.values[1]).size(), 2u);
  Study waves = study;
  waves.signals = {"b.va", "b.vb", "z.ib"};
  EXPECT_LT(difference(waves, 20e-6), 5e-3);
}

/// At some of these resistances the integrator gives up in the middle of its way.
TEST(Reference, GoesOnWhereTheIntegratorGivesUp) {
  for (int k = 30; k < 50; ++k) {
    const Study study{.network = regulated_feeder(3 + 1e-6 * k),
                      .commands = {{0.0213, "f", true}},
                      .duration_s = 0.08,
                      .sample_s = 1e-3,
                      .signals = {"b.va", "b.vb", "z.ib"}};
    EXPECT_LT(difference(study, 20e-6), 5e-3) << k;
  }
}

TEST(Reference, StrikesAgainWhereTheGapIsTooWeak) {
  Network n;
  n.buses = {{"bar", 20e3, "a"}, {"mid", 20e3, "a"}, {"line", 20e3, "a"}};
  n.elements = {
      Source{.name = "grid", .bus = "bar", .short_circuit_VA = 500e6},
      Capacitor{.name = "d", .bus = "bar", .reactive_var = 0.1e6, .connection = "grounded star"},
      Breaker{.name = "q", .between = {"bar", "mid"}, .withstand = {{0, 25e3}, {8e-3, 30e3}, {9e-3, 100e3}}},
      Branch{.name = "z", .between = {"mid", "line"}, .resistance_ohm = 6},
      Capacitor{.name = "c", .bus = "line", .reactive_var = 3e6, .connection = "grounded star"}};
  const Study study{.network = n,
                    .commands = {{0.0, "q", false}},
                    .duration_s = 0.03,
                    .sample_s = 5e-5,
                    .signals = {"line.va", "q.ia", "q.closed"}};
  const Series exact = solve_reference(study);
  int strikes = 0;
  for (std::size_t k = 1; k < exact.time_s.size(); ++k)
    strikes += exact.values[2][k] > exact.values[2][k - 1] ? 1 : 0;
  EXPECT_EQ(strikes, 1);
  Study waves = study;
  waves.signals = {"line.va", "q.ia"};
  EXPECT_LT(difference(waves, 1e-6), 1e-3);
}

TEST(Reference, FollowsCapacitiveLoadsWhosePowerDependsOnTheVoltage) {
  for (const char* connection : {"grounded star", "delta"}) {
    Network n;
    n.buses = {{"bar", 11e3}, {"end", 11e3}};
    n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 60e6},
                  Branch{.name = "z", .between = {"bar", "end"}, .resistance_ohm = 0.5, .inductance_H = 2e-3},
                  Load{.name = "l",
                       .bus = "end",
                       .active_W = 2e6,
                       .reactive_var = -1e6,
                       .connection = connection,
                       .constant_power = 1}};
    n.faults = {Fault{.name = "f", .on = "bar", .phases = "ABC", .resistance_ohm = 5}};
    const Study study{.network = n,
                      .commands = {{0.0213, "f", true}},
                      .duration_s = 0.1,
                      .sample_s = 1e-4,
                      .signals = {"z.ia", "end.vb"}};
    const double coarse = difference(study, 50e-6), fine = difference(study, 10e-6);
    EXPECT_LT(fine, 3e-3) << connection;
    EXPECT_LT(fine, coarse / 3) << connection;
  }
}

TEST(Reference, FollowsACurrentTransformerWithAnInductiveBurdenIntoSaturation) {
  Network n;
  n.buses = {{"bar", 20e3}, {"end", 20e3}};
  n.elements = {Source{.name = "grid", .bus = "bar", .short_circuit_VA = 500e6, .x_over_r = 20},
                Branch{.name = "c", .between = {"bar", "end"}, .resistance_ohm = 0.05, .inductance_H = 1e-3},
                Load{.name = "l", .bus = "end", .active_W = 6e6, .connection = "grounded star"},
                CurrentTransformer{.name = "ct",
                                   .on = "c",
                                   .primary_A = 400,
                                   .knee_V = 250,
                                   .knee_current_A = 0.02,
                                   .winding_resistance_ohm = 2,
                                   .burden_resistance_ohm = 3,
                                   .burden_inductance_H = 8e-3}};
  n.faults = {Fault{.name = "f", .on = "end", .phases = "ABC"}};
  const Study study{.network = n,
                    .commands = {{0.0213, "f", true}},
                    .duration_s = 0.08,
                    .sample_s = 1e-4,
                    .signals = {"ct.ia", "ct.ib", "ct.fluxc"}};
  const double coarse = difference(study, 40e-6), fine = difference(study, 10e-6);
  EXPECT_LT(fine, 2e-3);
  EXPECT_LT(fine, coarse / 3);
}

TEST(Reference, FollowsALinkThatAges) {
  for (const double series_resistance_ohm : {0.0, 0.02}) {
    Network n;
    n.start = "zero";
    n.buses = {{"dc", 700, "pn"}};
    n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 700, .resistance_ohm = 1},
                  DcLink{.name = "c",
                         .bus = "dc",
                         .capacitance_F = 2e-3,
                         .voltage_V = 500,
                         .earth_ohm = 1e5,
                         .remaining = 1,
                         .series_resistance_ohm = series_resistance_ohm}};
    const Study study{.network = n,
                      .commands = {{.at_s = 1e-3, .knob = "c.remaining", .value = 0.4}},
                      .duration_s = 4e-3,
                      .sample_s = 1e-4,
                      .signals = {"c.v"}};
    EXPECT_LT(difference(study, 1e-6), 1e-4) << series_resistance_ohm;
  }
}

Study arm_study(const std::string& depth) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 800, "pn"}, {"ac", 400, "a"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 0.05},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 0.5, .voltage_V = 800, .earth_ohm = 1},
                SubmoduleArm{.name = "up",
                             .between = {"dc.p", "ac.a"},
                             .submodules = 6,
                             .capacitance_F = 20e-3,
                             .voltage_V = 800.0 / 6,
                             .inductance_H = 2e-3,
                             .depth = depth},
                Branch{.name = "z", .between = {"ac", "ground"}, .resistance_ohm = 8, .inductance_H = 6e-3}};
  const auto named = std::make_shared<const Plant>(compile(n));
  const auto drive = [named]() -> std::function<void(ControlledPlant&)> {
    return [named](ControlledPlant& plant) {
      if (plant.time_s() < 1e-9) plant.fire(named->gate("up.enable"), true, 0);
      plant.turn(named->knob("up.inserted"), 0.5 - 0.4 * std::sin(2 * pi * 50 * plant.time_s()));
    };
  };
  Study study{.network = n, .duration_s = 0.02, .sample_s = 1e-4, .signals = {"z.ia"}};
  study.drive = drive;
  study.drive_period_s = 2e-4;
  return study;
}

TEST(Reference, FollowsArmsOfSubmodules) {
  for (const char* depth : {"switched", "averaged"}) {
    const Study study = arm_study(depth);
    // They may choose other submodules.
    EXPECT_LT(difference(study, 5e-6), 1.5e-3) << depth;
    EXPECT_LT(difference(study, 50e-6), 1.5e-3) << depth;
  }
}

TEST(Modes, AreThoseOfTheClosedForm) {
  Network n;
  n.buses = {{"s", 1e3, "a"}, {"m", 1e3, "a"}};
  n.elements = {Source{.name = "e", .bus = "s"},
                Branch{.name = "z", .between = {"s", "m"}, .resistance_ohm = 2, .inductance_H = 1e-3},
                Capacitor{.name = "c", .bus = "m", .reactive_var = 2 * pi * 50 * 1e6 * 1e-6}};  // 1 uF
  const std::vector<Mode> found = modes(n);
  ASSERT_FALSE(found.empty());
  EXPECT_NEAR(found[0].s.real(), -1000, 1);
  EXPECT_NEAR(std::abs(found[0].s.imag()), std::sqrt(1e9 - 1e6), 30);
}

TEST(Reference, SaysWhatIsStiffInsteadOfGoingOnForEver) {
  // A boost whose valves have a hundredth of a milliohm: its current ends at next to no voltage.
  Network n;
  n.start = "zero";
  n.buses = {{"lo", 100, "pn"}, {"hi", 200, "pn"}};
  n.elements = {DcSource{.name = "e", .bus = "lo", .voltage_V = 100, .resistance_ohm = 0.01},
                DcConverter{.name = "k",
                            .topology = "boost",
                            .high = "hi",
                            .low = "lo",
                            .inductance_H = 50e-6,
                            .on_resistance_ohm = 1e-5},
                DcLink{.name = "c", .bus = "hi", .capacitance_F = 100e-6, .voltage_V = 200, .earth_ohm = 1e5},
                Branch{.name = "r", .between = {"hi.p", "hi.n"}, .resistance_ohm = 200}};
  const auto named = std::make_shared<const Plant>(compile(n));
  Study study{.network = n, .duration_s = 0.005, .sample_s = 1e-4, .signals = {"c.v"}};
  study.drive = [named]() -> std::function<void(ControlledPlant&)> {
    return [gate = named->gate("k.a_lower")](ControlledPlant& plant) {
      const double begins = std::round(plant.time_s() * 10e3) / 10e3;
      plant.fire(gate, true, begins);
      plant.fire(gate, false, begins + 8e-5);
    };
  };
  study.drive_period_s = 1e-4;
  try {
    (void)solve_reference(study, ReferenceOptions{.most_steps_per_us = 20'000});
    FAIL();
  } catch (const Error& error) {
    const std::string text = error.what();
    EXPECT_NE(text.find("steps for less than 1 us at t = 0.000999"), std::string::npos) << text;
    EXPECT_NE(text.find("the valve that changed over last is in dc_converter.k; more on_resistance"),
              std::string::npos)
        << text;
  }
  EXPECT_THROW((void)solve_reference(study, ReferenceOptions{.most_steps = 5000}), Error);
  int asked = 0;
  const Series part =
      solve_reference(study, ReferenceOptions{.goes_on = [&](double, long long) { return ++asked < 3; }});
  EXPECT_TRUE(part.interrupted);
  EXPECT_EQ(asked, 3);
  EXPECT_LT(part.time_s.size(), 51u);
}

TEST(Reference, NamesWhatIsNotThere) {
  Study study = faulted_motor();
  study.signals = {"z.iaa"};
  EXPECT_THROW((void)solve_reference(study), Error);
  study.signals.clear();
  study.commands = {{0.01, "g", true}};
  EXPECT_THROW((void)solve_reference(study), Error);
  EXPECT_THROW((void)simulate(study), Error);
}

}  // namespace
}  // namespace zavrek::emt
