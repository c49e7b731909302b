#include <array>
#include <cmath>
#include <complex>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

InductionMachine pump() {
  return {.name = "pump",
          .bus = "quay",
          .stator_resistance_ohm = 1.2,
          .stator_leakage_ohm = 6,
          .magnetizing_ohm = 240,
          .rotor_leakage_ohm = 6,
          .rotor_resistance_ohm = 1.4,
          .inertia_kgm2 = 22,
          .load_torque_Nm = 3000,
          .load_exponent = 2};
}

Network quay(Element element) {
  Network n;
  n.buses = {{"quay", 11e3}};
  n.elements = {Source{.name = "grid", .bus = "quay", .short_circuit_VA = 150e6}, std::move(element)};
  return n;
}

TEST(InductionMachine, StartsInTheSteadyStateThatItsLoadAllows) {
  Plant plant = compile(quay(pump()));
  const double speed = value(plant, "pump.speed"), torque = value(plant, "pump.torque");
  EXPECT_LT(speed, 2 * pi * 25);
  EXPECT_NEAR(torque, 3000 * std::pow(speed / (2 * pi * 25), 2), 3);
  run(plant, 0.5);
  EXPECT_NEAR(value(plant, "pump.speed"), speed, 1e-4 * speed);
  EXPECT_NEAR(value(plant, "pump.torque"), torque, 1e-3 * torque);
}

TEST(InductionMachine, SlowsDownWhenItsLoadIsTurnedUp) {
  Plant plant = compile(quay(pump()));
  const double before = value(plant, "pump.speed");
  plant.turn(plant.knob("pump.load_torque"), 5000);
  run(plant, 1.5);
  const double speed = value(plant, "pump.speed");
  EXPECT_LT(speed, before - 0.5);
  EXPECT_NEAR(value(plant, "pump.torque"), 5000 * std::pow(speed / (2 * pi * 25), 2), 10);
  EXPECT_EQ(value(plant, "pump.load_torque"), 5000);
}

TEST(InductionMachine, PullsHarderAtStandstillWithResistanceInItsRotor) {
  InductionMachine machine = pump();
  machine.start = "standstill";
  machine.inertia_kgm2 = 1e6;  // held
  const auto mean_torque = [&](double external_ohm) {
    machine.external_resistance_ohm = external_ohm;
    Plant plant = compile(quay(machine));
    run(plant, 0.4);
    double sum = 0;
    for (int k = 0; k < 400; ++k) {
      EXPECT_EQ(plant.step(), Status::running);
      sum += value(plant, "pump.torque") / 400;
    }
    return sum;
  };
  const double bare = mean_torque(0), with = mean_torque(8);
  // Locked rotor: T = 3 p/w |I_r|^2 R_r with the exact equivalent circuit.
  const auto locked = [&](double rotor_ohm) {
    using C = std::complex<double>;
    const C zr(rotor_ohm, 6), zm(0, 240), zs(1.2, 6);
    const double z = 11e3 * 11e3 / 150e6;
    const C source(z / std::hypot(1, 10), 10 * z / std::hypot(1, 10));
    const C total = source + zs + zm * zr / (zm + zr);
    const C rotor = 11e3 / std::sqrt(3.0) / total * zm / (zm + zr);
    return 3 * 2 / (2 * pi * 50) * std::norm(rotor) * rotor_ohm;
  };
  EXPECT_NEAR(bare, locked(1.4), 0.002 * locked(1.4));
  EXPECT_NEAR(with, locked(9.4), 0.002 * locked(9.4));
  EXPECT_GT(with, 2 * bare);
}

/// 110 kW, 400 V, 1,486 rpm, 196 A, 0.86, 7.1 times the current when it is locked.
InductionMachine with_nameplate() {
  return {.name = "fan",
          .bus = "board",
          .rated_power_W = 110e3,
          .rated_current_A = 196,
          .rated_speed_rad_per_s = 1486 * pi / 30,
          .power_factor = 0.86,
          .starting_current = 7.1,
          .inertia_kgm2 = 4,
          .load_torque_Nm = 110e3 / (1486 * pi / 30)};
}
Network board(InductionMachine machine) {
  Network n;
  n.buses = {{"board", 400}};
  n.elements = {Source{.name = "grid", .bus = "board"}, std::move(machine)};
  return n;
}

TEST(InductionMachine, GivesWhatItsNameplateSays) {
  const auto current_A = [](const Plant& plant) {
    return std::abs(plant.phasor(plant.signal("fan.ia"))) / std::numbers::sqrt2;
  };
  Plant loaded = compile(board(with_nameplate()), 20e-6);
  EXPECT_NEAR(value(loaded, "fan.speed"), 1486 * pi / 30, 1e-4 * 155);
  // Half of what neither rotor nor stator loses is not in the circuit: its active current is that much less.
  const auto s = std::sqrt(3.0) * 400 * current_A(loaded);
  const auto v = loaded.phasor(loaded.signal("board.va")), i = loaded.phasor(loaded.signal("fan.ia"));
  const double reactive = 1.5 * (v * std::conj(i)).imag();
  EXPECT_NEAR(reactive, std::sqrt(3.0) * 400 * 196 * std::sqrt(1 - 0.86 * 0.86), 1e-3 * s);
  EXPECT_NEAR(current_A(loaded), 196, 0.03 * 196);
  InductionMachine locked = with_nameplate();
  locked.start = "standstill";
  locked.inertia_kgm2 = 1e6;
  Plant held = compile(board(locked), 20e-6);
  EXPECT_NEAR(current_A(held), 7.1 * 196, 1e-3 * 7.1 * 196);
}

TEST(InductionMachine, StartsWithItsLoadWhereAllVoltagesAreImposed) {
  Network stiff = quay(pump()), strong = quay(pump());
  std::get<Source>(stiff.elements[0]).short_circuit_VA = unset;
  std::get<Source>(strong.elements[0]).short_circuit_VA = 1e14;
  Plant one = compile(stiff), other = compile(strong);
  EXPECT_NEAR(value(one, "pump.speed"), value(other, "pump.speed"), 1e-6 * value(other, "pump.speed"));
  EXPECT_NEAR(value(one, "pump.torque"), value(other, "pump.torque"), 1e-3);
}

TEST(InductionMachine, RefusesANameplateThatNoCircuitHas) {
  const auto refusal = [](InductionMachine machine) -> std::string {
    try {
      (void)compile(board(std::move(machine)), 20e-6);
    } catch (const Error& error) {
      return error.what();
    }
    return "taken";
  };
  InductionMachine fast = with_nameplate();
  fast.rated_speed_rad_per_s = 1520 * pi / 30;
  EXPECT_EQ(
      refusal(fast),
      "induction_machine.fan, rated_speed: 1520 rpm is not a little below the 1500 rpm of 2 pole pairs");
  InductionMachine starved = with_nameplate();
  starved.rated_current_A = 180;
  EXPECT_TRUE(refusal(starved).starts_with("induction_machine.fan, rated_current: with it 107.2 kW go in"))
      << refusal(starved);
  InductionMachine half = with_nameplate();
  half.power_factor = unset;
  EXPECT_EQ(refusal(half), "induction_machine.fan, power_factor: missing beside rated_power");
  InductionMachine both = with_nameplate();
  both.stator_resistance_ohm = 0.01;
  EXPECT_TRUE(refusal(both).starts_with("induction_machine.fan, rated_power: its circuit is given as well"));
}

TEST(InductionMachine, TwistsItsShaftAtTheNaturalFrequencyOfTwoMasses) {
  InductionMachine machine = pump();
  machine.load_torque_Nm = 0;
  machine.shaft = {"30 kg m^2, 200 kN m/rad, 0 N m s/rad"};
  machine.start = "standstill";
  Network n = quay(machine);
  std::get<Source>(n.elements[0]).voltage_V = 10;  // the air gap is no spring worth mentioning then
  Plant plant = compile(n);
  plant.turn(plant.knob("pump.active_torque"), -4500);  // an impact on the outer mass
  run(plant, 0.02);
  plant.turn(plant.knob("pump.active_torque"), 0);
  // f = 1/(2 pi) sqrt(K (1/J1 + 1/J2))
  const double expected = std::sqrt(200e3 * (1 / 22.0 + 1 / 30.0)) / (2 * pi);
  const SignalId speed = plant.signal("pump.speed");
  double before = 0;
  double last = plant.value(speed), first_time = 0, last_time = 0;
  int count = 0;
  for (int k = 0; k < 8000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double slope = plant.value(speed) - last;
    if (before < 0 && slope >= 0) {
      if (count++ == 0) first_time = plant.time_s();
      last_time = plant.time_s();
    }
    if (slope != 0) before = slope;
    last = plant.value(speed);
  }
  ASSERT_GT(count, 3);
  EXPECT_NEAR((count - 1) / (last_time - first_time), expected, 0.005 * expected);
}

SynchronousMachine generator() {
  return {.name = "gen",
          .bus = "quay",
          .rating_VA = 20e6,
          .voltage_V = 11e3,
          .power_W = 12e6,
          .start_voltage = 1.02,
          .saturation_at_1 = 0.08,
          .saturation_at_12 = 0.3};
}

TEST(SynchronousMachine, StartsWithItsPowerAndItsVoltage) {
  for (const char* exciter : {"none", "static", "dc"}) {
    for (const char* governor : {"none", "steam", "hydro"}) {
      SynchronousMachine machine = generator();
      machine.exciter = exciter;
      machine.governor = governor;
      Plant plant = compile(quay(machine));
      const double peak = std::abs(plant.phasor(plant.signal("quay.va")));
      EXPECT_NEAR(peak, 1.02 * 11e3 * std::sqrt(2.0 / 3), 1e-4 * peak);
      const double torque = value(plant, "gen.torque");
      // Air-gap power: what leaves plus what the stator takes.
      const double current = std::abs(plant.phasor(plant.signal("gen.ia"))) / std::sqrt(2.0);
      const double losses = 3 * current * current * 0.003 * 11e3 * 11e3 / 20e6;
      EXPECT_NEAR(-torque * 2 * pi * 50, 12e6 + losses, 1e-4 * 12e6) << exciter << governor;
      run(plant, 1.0);
      EXPECT_NEAR(value(plant, "gen.torque"), torque, 2e-3 * std::abs(torque)) << exciter << governor;
      EXPECT_NEAR(value(plant, "gen.speed"), 2 * pi * 50, 1e-4 * 2 * pi * 50) << exciter << governor;
    }
  }
}

TEST(SynchronousMachine, FeedsAThreePhaseShortCircuitAsItsReactancesSay) {
  // From no load, E = 1, terminals shorted: i_a(t) of the standard envelope (IEC 60034-4).
  SynchronousMachine machine = generator();
  machine.power_W = 0;
  machine.start_voltage = 1;
  machine.start_angle_rad = 0;
  machine.saturation_at_1 = machine.saturation_at_12 = 0;
  machine.stator_resistance = 0.01;
  machine.xq_transient = machine.xq = 1.7;
  machine.inertia_constant_s = 1e6;
  Network n;
  n.buses = {{"quay", 11e3}};
  n.elements = {machine, Load{.name = "l", .bus = "quay", .active_W = 1, .connection = "grounded star"}};
  n.faults = {Fault{.name = "short", .on = "quay", .phases = "ABC"}};
  Plant plant = compile(n, 20e-6);
  run(plant, 0.005);
  plant.close(plant.operable("short"), plant.time_s());
  const double t0 = plant.time_s();
  const double base = 20e6 / 11e3 * std::sqrt(2.0 / 3);
  const double td1 = 6 * 0.28 / 1.8, td2 = 0.035 * 0.22 / 0.28;
  // Envelope of the alternating part of phase a; read from two samples a quarter cycle apart, d.c. removed.
  const auto envelope = [&](double t) {
    return base *
           ((1 / 0.22 - 1 / 0.28) * std::exp(-t / td2) + (1 / 0.28 - 1 / 1.8) * std::exp(-t / td1) + 1 / 1.8);
  };
  const SignalId ia = plant.signal("gen.ia");
  for (const double at : {0.1, 0.3, 1.0, 3.0}) {
    run(plant, t0 + at - plant.time_s());
    double largest = -1e9, least = 1e9;
    for (int k = 0; k < 1000; ++k) {
      ASSERT_EQ(plant.step(), Status::running);
      largest = std::max(largest, plant.value(ia));
      least = std::min(least, plant.value(ia));
    }
    EXPECT_NEAR((largest - least) / 2, envelope(at + 0.01), 0.03 * envelope(at + 0.01)) << at;
  }
}

TEST(SynchronousMachine, RegulatorRestoresTheVoltageAndGovernorSharesTheLoad) {
  SynchronousMachine machine = generator();
  machine.start_angle_rad = 0;
  machine.exciter = "static";
  machine.governor = "steam";
  machine.reheat_share = 1;
  Network n;
  n.buses = {{"quay", 11e3}, {"spare", 11e3}};
  n.elements = {
      machine,
      Load{
          .name = "base", .bus = "quay", .active_W = 8e6, .reactive_var = 3e6, .connection = "grounded star"},
      Load{.name = "step",
           .bus = "spare",
           .active_W = 4e6,
           .reactive_var = 1e6,
           .connection = "grounded star"},
      Breaker{.name = "q", .between = {"quay", "spare"}, .closed = false}};
  Plant plant = compile(n, 100e-6);
  run(plant, 0.2);
  EXPECT_NEAR(value(plant, "gen.speed"), 2 * pi * 50, 2e-4 * 2 * pi * 50);
  const double before = value(plant, "gen.torque");
  plant.close(plant.operable("q"), plant.time_s());
  run(plant, 12);
  // Droop of 5 % of the change in torque.
  const double rise = (before - value(plant, "gen.torque")) * 2 * pi * 50 / 20e6;
  EXPECT_GT(rise, 0.19);
  EXPECT_NEAR(value(plant, "gen.speed") / (2 * pi * 50), 1 - 0.05 * rise, 1e-4);
  double peak = 0;
  for (int k = 0; k < 400; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(value(plant, "quay.va")));
  }
  EXPECT_NEAR(peak, 1.02 * 11e3 * std::sqrt(2.0 / 3), 0.01 * 11e3);
}

TEST(PermanentMagnetMachine, GeneratesItsFluxTimesTheSpeedAtNoLoad) {
  Network n;
  n.start = "zero";
  n.buses = {{"quay", 400}};
  n.elements = {PermanentMagnetMachine{.name = "pm",
                                       .bus = "quay",
                                       .stator_resistance_ohm = 0.05,
                                       .ld_H = 1e-3,
                                       .lq_H = 2e-3,
                                       .magnet_flux_Vs = 0.8,
                                       .inertia_kgm2 = 1e6,
                                       .start_speed_rad_per_s = 60},
                Load{.name = "l", .bus = "quay", .active_W = 1e3, .connection = "grounded star"}};
  Plant plant = compile(n);
  run(plant, 0.05);
  double peak = 0;
  for (int k = 0; k < 1000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    peak = std::max(peak, std::abs(value(plant, "quay.va")));
  }
  EXPECT_NEAR(peak, 0.8 * 60 * 4, 2e-3 * 0.8 * 60 * 4);  // 1 kW of load takes a little
}

TEST(PermanentMagnetMachine, SalientMachineMeetsItsSteadyStateWithSecondOrder) {
  // In step with a stiff source: id, iq from v = R i + j w L i + j w psi; torque 1.5 p (psi iq + (Ld - Lq) id
  // iq).
  const double w = 2 * pi * 50, r = 0.3, ld = 5e-3, lq = 11e-3, psi = 0.9;
  const auto error = [&](double step) {
    Network n;
    n.buses = {{"quay", 400}};
    n.elements = {Source{.name = "s", .bus = "quay", .angle_rad = 1.2},
                  PermanentMagnetMachine{.name = "pm",
                                         .bus = "quay",
                                         .stator_resistance_ohm = r,
                                         .ld_H = ld,
                                         .lq_H = lq,
                                         .magnet_flux_Vs = psi,
                                         .inertia_kgm2 = 1e9,
                                         .start_speed_rad_per_s = w / 4}};
    Plant plant = compile(n, step);
    run(plant, 0.4);
    const std::complex<double> v = 400 * std::sqrt(2.0 / 3) * std::polar(1.0, 1.2);
    const double vd = v.real(), vq = v.imag() - w * psi, det = r * r + w * w * ld * lq;
    const double id = (r * vd + w * lq * vq) / det, iq = (r * vq - w * ld * vd) / det;
    const double torque = 1.5 * 4 * (psi * iq + (ld - lq) * id * iq);
    return std::abs(value(plant, "pm.torque") / torque - 1);
  };
  EXPECT_LT(error(50e-6), 1e-4);
  EXPECT_NEAR(std::log2(error(200e-6) / error(100e-6)), 2, 0.3);
}

/// A machine that nothing but its shaft moves: its terminals are open.
Network free_shaft(PermanentMagnetMachine machine) {
  machine.name = "pm";
  machine.bus = "quay";
  machine.stator_resistance_ohm = 0.05;
  machine.ld_H = machine.lq_H = 1e-3;
  machine.magnet_flux_Vs = 1e-6;
  Network n;
  n.start = "zero";
  n.buses = {{"quay", 400}};
  n.elements = {machine, Load{.name = "l", .bus = "quay", .active_W = 1, .connection = "grounded star"}};
  return n;
}

TEST(Shaft, ItsLoadBrakesByTheSpeedOfTheLastMass) {
  const double inertia[] = {22, 30}, stiffness = 20e3, damping = 40, load = 3000, nominal = 2 * pi * 50 / 4;
  const auto slopes = [&](const std::array<double, 3>& y) {
    const double twist = stiffness * y[2] + damping * (y[1] - y[0]);
    const double brakes = load * std::pow(y[1] / nominal, 2);
    return std::array<double, 3>{twist / inertia[0], (-twist - brakes) / inertia[1], y[1] - y[0]};
  };
  std::array<double, 3> y{60, 60, -load * std::pow(60 / nominal, 2) / stiffness};
  const double h = 1e-5;  // Runge and Kutta
  const auto moved = [](std::array<double, 3> from, const std::array<double, 3>& by, double length) {
    for (std::size_t k = 0; k < 3; ++k) from[k] += length * by[k];
    return from;
  };
  for (int k = 0; k < 40000; ++k) {
    const auto a = slopes(y), b = slopes(moved(y, a, h / 2)), c = slopes(moved(y, b, h / 2)),
               d = slopes(moved(y, c, h));
    for (std::size_t s = 0; s < 3; ++s) y[s] += h / 6 * (a[s] + 2 * b[s] + 2 * c[s] + d[s]);
  }
  Plant plant = compile(free_shaft({.inertia_kgm2 = inertia[0],
                                    .shaft = {"30 kg m^2, 20 kN m/rad, 40 N m s/rad"},
                                    .load_torque_Nm = load,
                                    .load_exponent = 2,
                                    .start_speed_rad_per_s = 60}),
                        50e-6);
  run(plant, 0.4);
  EXPECT_NEAR(value(plant, "pm.speed"), y[0], 2e-6 * 60);
  EXPECT_LT(y[0], 59);
}

TEST(Shaft, ItsLoadHoldsItAtRestUpToItsOwnSize) {
  Plant plant = compile(free_shaft({.inertia_kgm2 = 22, .load_torque_Nm = 3000}), 50e-6);
  run(plant, 0.2);
  EXPECT_EQ(value(plant, "pm.speed"), 0);
  plant.turn(plant.knob("pm.active_torque"), -2999);
  run(plant, 0.2);
  EXPECT_EQ(value(plant, "pm.speed"), 0);
  plant.turn(plant.knob("pm.active_torque"), -3220);
  const double released_s = plant.time_s();
  run(plant, 0.2);
  EXPECT_NEAR(value(plant, "pm.speed"), -220 / 22.0 * (plant.time_s() - released_s), 1e-6);
  plant.turn(plant.knob("pm.active_torque"), 0);
  run(plant, 0.2);
  EXPECT_EQ(value(plant, "pm.speed"), 0);
}

struct Coasting {
  double load_Nm, active_Nm;
};

/// Speed from 8 rad/s on, inertia 2 kg m^2: down to rest, and back where the active torque overcomes the
/// load.
double coasting_speed(const Coasting& c, double time_s) {
  const double rest_s = 8 * 2 / (c.load_Nm - c.active_Nm);
  if (time_s < rest_s) return 8 * (1 - time_s / rest_s);
  const double back = -c.active_Nm > c.load_Nm ? c.active_Nm + c.load_Nm : 0;
  return back / 2 * (time_s - rest_s);
}

TEST(Shaft, ComesToRestAndTurnsBackAsItsTorquesSay) {
  for (const Coasting& c : {Coasting{40, 0}, Coasting{40, -39}, Coasting{40, -61}, Coasting{0, -50}}) {
    Study study{.network = free_shaft({.inertia_kgm2 = 2,
                                       .load_torque_Nm = c.load_Nm,
                                       .active_torque_Nm = c.active_Nm,
                                       .start_speed_rad_per_s = 8}),
                .duration_s = 0.6,
                .sample_s = 0.01,
                .signals = {"pm.speed"}};
    const Series fixed = simulate(study, 100e-6), exact = solve_reference(study);
    for (std::size_t k = 0; k < fixed.time_s.size(); ++k) {
      const double expected = coasting_speed(c, fixed.time_s[k]);
      EXPECT_NEAR(fixed.values[0][k], expected, 1e-6) << c.active_Nm << " at " << fixed.time_s[k];
      EXPECT_NEAR(exact.values[0][k], expected, 1e-4) << c.active_Nm << " at " << exact.time_s[k];
    }
  }
}

TEST(Machine, RefusesWhatCannotBe) {
  SynchronousMachine machine = generator();
  machine.xd_subtransient = 0.4;
  try {
    (void)compile(quay(machine));
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(
        error.what(),
        "synchronous_machine.gen, xd: the d axis needs xd >= xd_transient >= xd_subtransient > leakage");
  }
  InductionMachine motor = pump();
  motor.shaft = {"30 kg m^2, 5 kN"};
  try {
    (void)compile(quay(motor));
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(
        error.what(),
        "induction_machine.pump, shaft: \"30 kg m^2, 5 kN\": three quantities are wanted; write inertia, "
        "stiffness, damping, such as \"40 kg m^2, 800 kN m/rad, 50 N m s/rad\"");
  }
}

}  // namespace
}  // namespace zavrek::emt
