// Ready controllers in a closed loop with the plant, through the same run that the tool makes.
#include <cmath>

#include <gtest/gtest.h>

#include "zavrek/record/measure.hpp"
#include "zavrek/trial.hpp"

namespace zavrek::trial {
namespace {

using namespace network;

/// A bridge on a stiff d.c. source that feeds a motor.
Case drive(Element machine, const std::string& depth) {
  Case all;
  all.network.step_s = depth == "averaged" ? 25e-6 : 5e-6;
  all.network.start = "zero";
  all.network.buses = {{"dc", 600, "pn"}, {"motor", 400}};
  all.network.elements = {
      DcSource{.name = "e", .bus = "dc", .voltage_V = 600, .resistance_ohm = 0.01},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 2e-3, .voltage_V = 600, .earth_ohm = 1e5},
      Bridge{.name = "b", .dc = "dc", .ac = "motor", .depth = depth, .on_resistance_ohm = 5e-3},
      std::move(machine)};
  all.bench.record = {"m.speed", "m.torque", "m.ia"};
  all.control.period_s = 100e-6;
  return all;
}

template <class Kind>
Kind& ready(Case& all) {
  Kind& control = all.control.ready.emplace_back().template emplace<Kind>();
  control.name = "drive";
  control.bridge = "b";
  control.carrier_Hz = 5e3;
  control.dead_time_s = 1e-6;
  control.current = "m";
  control.dc = "c.v";
  control.current_limit_A = 120;
  control.trip_current_A = 250;
  control.dc_low_V = 300;
  control.dc_high_V = 800;
  return control;
}

double mean(const TrialResult& result, const std::string& signal, double from, double until) {
  return record::measure(result.record, *result.record.find_analog(signal), record::Measure::mean, from,
                         until);
}

PermanentMagnetMachine magnets() {
  return {.name = "m",
          .bus = "motor",
          .stator_resistance_ohm = 0.1,
          .ld_H = 2e-3,
          .lq_H = 2e-3,
          .magnet_flux_Vs = 0.5,
          .pole_pairs = 3,
          .inertia_kgm2 = 0.2,
          .load_torque_Nm = 30};
}

control::FieldOriented& of_magnets(Case& all) {
  auto& control = ready<control::FieldOriented>(all);
  control.machine = "m";
  control.pole_pairs = 3;
  control.inductance_H = 2e-3;
  control.magnet_flux_Vs = 0.5;
  control.inertia_kgm2 = 0.2;
  control.torque_limit_Nm = 150;
  return control;
}

TEST(FieldOriented, TurnsAPermanentMagnetMachineBothWaysAtBothDepths) {
  for (const std::string depth : {"switched", "averaged"}) {
    Case all = drive(magnets(), depth);
    auto& control = of_magnets(all);
    control.acceleration_rad_per_s2 = 400;
    control.speed_bandwidth_Hz = 12;
    control.fluxing_s = 0.01;
    Trial trial{.name = "turn", .prefault_s = 0.2, .postfault_s = 0.6};
    trial.operate = {Operation{.at_s = 0, .set = "drive.speed_wanted", .to = "80 rad/s"},
                     Operation{.at_s = 0.4, .set = "drive.speed_wanted", .to = "-40 rad/s"}};
    const TrialResult result = run_trial(all, trial, {.free = true});
    ASSERT_EQ(result.failure, "");
    EXPECT_NEAR(mean(result, "m.speed", 0.55, 0.6), 80, 1) << depth;
    EXPECT_NEAR(mean(result, "m.torque", 0.55, 0.6), 30, 2) << depth;
    EXPECT_NEAR(mean(result, "m.speed", 1.1, 1.2), -40, 1) << depth;
    // Torque per ampere: 3/2 p psi = 2.25 N m/A.
    const double peak = record::measure(result.record, *result.record.find_analog("m.ia"),
                                        record::Measure::greatest, 1.0, 1.2);
    EXPECT_NEAR(peak, 30 / 2.25, 2.5) << depth;
  }
}

TEST(FieldOriented, GivesTheTorqueThatIsWantedAndNoMoreThanItsLimit) {
  for (const std::string depth : {"switched", "averaged"}) {
    auto machine = magnets();
    machine.inertia_kgm2 = 20;  // it hardly moves
    machine.load_torque_Nm = 0;
    Case all = drive(machine, depth);
    auto& control = of_magnets(all);
    control.regulates = "torque";
    control.inertia_kgm2 = network::unset;
    control.torque_rate_Nm_per_s = 2e3;
    control.fluxing_s = 0.01;
    Trial trial{.name = "pull", .prefault_s = 0.1, .postfault_s = 0.6};
    trial.operate = {Operation{.at_s = 0, .set = "drive.torque_wanted", .to = "80 N m"},
                     Operation{.at_s = 0.2, .set = "drive.torque_wanted", .to = "-100 N m"},
                     Operation{.at_s = 0.4, .set = "drive.torque_wanted", .to = "400 N m"}};
    const TrialResult result = run_trial(all, trial, {.free = true});
    ASSERT_EQ(result.failure, "");
    SCOPED_TRACE(depth);
    EXPECT_NEAR(mean(result, "m.torque", 0.115, 0.125), 40, 4) << "on its ramp of 2 N m/ms";
    EXPECT_NEAR(mean(result, "m.torque", 0.2, 0.3), 80, 1);
    EXPECT_NEAR(mean(result, "m.torque", 0.42, 0.5), -100, 1.5);
    EXPECT_NEAR(mean(result, "m.torque", 0.65, 0.7), 150, 2);
  }
}

/// A clamped inverter that feeds a load while a resistor pulls its neutral point up.
double drift_of_neutral(bool balanced, double active_W) {
  Case all;
  all.network.step_s = 5e-6;
  all.network.start = "zero";
  all.network.buses = {{"dc", 1000, "pnm"}, {"ac", 400}, {"out", 400}};
  all.network.elements = {
      DcSource{.name = "e", .bus = "dc", .voltage_V = 1000, .resistance_ohm = 0.05},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 4e-3, .voltage_V = 1000, .earth_ohm = 1e4},
      Valve{.name = "pull",
            .device = "diode",
            .from = "dc.p",
            .to = "dc.m",
            .on_resistance_ohm = 100,
            .off_resistance_ohm = 101},
      Bridge{.name = "b",
             .topology = "neutral-point clamped",
             .dc = "dc",
             .ac = "ac",
             .on_resistance_ohm = 2e-3},
      Branch{.name = "m", .between = {"ac", "out"}, .resistance_ohm = 5e-3, .inductance_H = 0.5e-3},
      Load{.name = "l", .bus = "out", .active_W = active_W, .connection = "star"}};
  all.bench.record = {"c.v_upper", "c.v"};
  all.control.period_s = 125e-6;
  auto& control = ready<control::VoltsPerHertz>(all);
  control.levels = "three";
  control.carrier_Hz = 4e3;
  control.nominal_voltage_V = 400;
  control.speed_Hz = 50;
  control.ramp_Hz_per_s = 1e3;
  control.current_limit_A = 1e3;
  control.trip_current_A = 2e3;
  control.dc_high_V = 1300;
  if (balanced) control.dc_upper = "c.v_upper";
  const TrialResult result =
      run_trial(all, {.name = "pull", .prefault_s = 0.3, .postfault_s = 0.3}, {.free = true});
  EXPECT_EQ(result.failure, "");
  return 2 * mean(result, "c.v_upper", 0.5, 0.6) - mean(result, "c.v", 0.5, 0.6);
}

TEST(ThreeLevels, HoldTheirNeutralPointInTheMiddleWhateverPullsAtIt) {
  EXPECT_LT(drift_of_neutral(false, 100e3), -100);
  EXPECT_NEAR(drift_of_neutral(true, 100e3), 0, 25);
}

TEST(VoltsPerHertz, RunsAnInductionMachineUpWithItsSlip) {
  Case all = drive(InductionMachine{.name = "m",
                                    .bus = "motor",
                                    .stator_resistance_ohm = 0.2,
                                    .stator_leakage_ohm = 0.5,
                                    .magnetizing_ohm = 15,
                                    .rotor_leakage_ohm = 0.5,
                                    .rotor_resistance_ohm = 0.2,
                                    .inertia_kgm2 = 0.3,
                                    .load_torque_Nm = 40,
                                    .load_exponent = 2,
                                    .start = "standstill"},
                   "averaged");
  auto& control = ready<control::VoltsPerHertz>(all);
  control.nominal_voltage_V = 400;
  control.boost_V = 20;
  control.ramp_Hz_per_s = 60;
  Trial trial{.name = "up", .prefault_s = 0.1, .postfault_s = 1.5};
  trial.operate = {Operation{.at_s = 0, .set = "drive.speed", .to = "40 Hz"}};
  const TrialResult result = run_trial(all, trial, {.free = true});
  ASSERT_EQ(result.failure, "");
  const double synchronous = 2 * 3.14159265 * 40 / 2, speed = mean(result, "m.speed", 1.4, 1.6);
  EXPECT_LT(speed, synchronous);
  EXPECT_GT(speed, 0.96 * synchronous);
  EXPECT_NEAR(mean(result, "m.torque", 1.4, 1.6), 40 * std::pow(speed / (100 * 3.14159265 / 2), 2), 1.5);
}

TEST(FieldOriented, TripsOnALinkThatIsTooHighAndComesBackByItsReset) {
  Case all = drive(magnets(), "averaged");
  auto& control = of_magnets(all);
  control.enable = "on";
  control.reset = "reset";
  for (const char* name : {"on", "reset"}) {
    auto& setpoint = all.control.blocks.emplace_back().emplace<control::Setpoint>();
    setpoint.name = name;
    setpoint.value = name[0] == 'o' ? 1 : 0;
  }
  all.bench.record = {"drive.state.tripped", "drive.state.running", "c.v"};
  Trial trial{.name = "trip", .prefault_s = 0.3, .postfault_s = 0.3};
  trial.operate = {Operation{.at_s = 0, .set = "e.voltage", .to = "850 V"},
                   Operation{.at_s = 0.05, .set = "e.voltage", .to = "600 V"},
                   Operation{.at_s = 0.1, .set = "on", .to = "0"},
                   Operation{.at_s = 0.11, .set = "reset", .to = "1"},
                   Operation{.at_s = 0.15, .set = "on", .to = "1"}};
  const TrialResult result = run_trial(all, trial, {.free = true});
  ASSERT_EQ(result.failure, "");
  EXPECT_EQ(mean(result, "drive.state.running", 0.25, 0.29), 1);
  EXPECT_EQ(mean(result, "drive.state.tripped", 0.34, 0.39), 1);
  EXPECT_EQ(mean(result, "drive.state.running", 0.6, 0.64), 1);
}

}  // namespace
}  // namespace zavrek::trial
