// Circuits with a known answer, shared by the tests and by the table of accuracy.
#pragma once

#include <cmath>
#include <numbers>
#include <string>
#include <vector>

#include "../reference.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/line_constants.hpp"

namespace zavrek::test {

struct Circuit {
  std::string title;  // what the table of accuracy calls it
  std::string file;   // in tests/data
  std::size_t column;
  std::string signal;
  network::Network network;
  double scale = 1;  // from the signal's unit to the file's
};

inline network::Line surge_line(std::string near, std::string far) {
  constexpr double surge_ohm = 380, travel_s = 1.7e-3, omega = 2 * std::numbers::pi * 50, length_m = 1000;
  return {.name = "line",
          .between = {std::move(near), std::move(far)},
          .length_m = length_m,
          .x1_ohm_per_m = omega * surge_ohm * travel_s / length_m,
          .c1_F_per_m = travel_s / surge_ohm / length_m};
}

/// As the quay's feeders are.
inline network::Cable quay_cable(std::string name, std::string near, std::string far, double length_m = 2400,
                                 int sections = 1) {
  return {.name = std::move(name),
          .between = {std::move(near), std::move(far)},
          .length_m = length_m,
          .r1_ohm_per_m = 0.161e-3,
          .x1_ohm_per_m = 0.102e-3,
          .c1_F_per_m = 0.36e-9,
          .r0_ohm_per_m = 0.92e-3,
          .x0_ohm_per_m = 0.31e-3,
          .c0_F_per_m = 0.36e-9,
          .sections = sections};
}

/// A load behind a source whose voltage, angle and frequency jump and go on ramps, at no grid points.
inline network::Network by_programmes(network::Points harmonics = {}) {
  using namespace network;
  Network n;
  n.buses = {{"bar", 20e3}, {"mid", 20e3}};
  n.elements = {
      Source{.name = "grid",
             .bus = "bar",
             .short_circuit_VA = 200e6,
             .harmonics = std::move(harmonics),
             .magnitude_programme = {{30.0131e-3, 1}, {30.0131e-3, 0.4}, {60e-3, 0.9}},
             .angle_programme = {{20.0077e-3, 0}, {20.0077e-3, 0.5}},
             .frequency_programme = {{10.0019e-3, 50}, {40e-3, 55}, {40e-3, 45}}},
      Branch{.name = "z", .between = {"bar", "mid"}, .resistance_ohm = 0.5, .inductance_H = 3e-3},
      Load{.name = "l", .bus = "mid", .active_W = 8e6, .reactive_var = 3e6, .connection = "grounded star"}};
  return n;
}

inline std::vector<Circuit> reference_circuits() {
  using namespace network;
  Network rl;
  rl.start = "zero";
  rl.buses = {{"s", 11e3, "a"}};
  rl.elements = {
      Source{.name = "source", .bus = "s", .voltage_V = 6350.853, .angle_rad = -std::numbers::pi / 2},
      Branch{.name = "z", .between = {"s", "ground"}, .resistance_ohm = 0.9, .inductance_H = 14.3e-3}};
  Network rlc = rl;
  rlc.elements = {Source{.name = "source", .bus = "s", .voltage_V = 700, .frequency_Hz = 0},
                  Branch{.name = "z",
                         .between = {"s", "ground"},
                         .resistance_ohm = 2,
                         .inductance_H = 5e-3,
                         .capacitance_F = 40e-6}};
  Network open;
  open.start = "zero";
  open.buses = {{"s", 1.0, "a"}, {"f", 1.0, "a"}};
  open.elements = {Source{.name = "source", .bus = "s", .voltage_V = 1 / std::numbers::sqrt2},
                   surge_line("s", "f")};
  Network bounce = open;
  bounce.buses.push_back({"e", 1.0, "a"});
  bounce.elements = {Source{.name = "source", .bus = "e", .voltage_V = 1, .frequency_Hz = 0},
                     Branch{.name = "inner", .between = {"e", "s"}, .resistance_ohm = 95},
                     surge_line("s", "f"),
                     Branch{.name = "load", .between = {"f", "ground"}, .resistance_ohm = 1140}};
  Network motor;
  motor.start = "zero";
  motor.frequency_Hz = 60;
  motor.buses = {{"s", 220}};
  motor.elements = {Source{.name = "source", .bus = "s"}, InductionMachine{.name = "m",
                                                                           .bus = "s",
                                                                           .stator_resistance_ohm = 0.435,
                                                                           .stator_leakage_ohm = 0.754,
                                                                           .magnetizing_ohm = 26.13,
                                                                           .rotor_leakage_ohm = 0.754,
                                                                           .rotor_resistance_ohm = 0.816,
                                                                           .inertia_kgm2 = 0.089,
                                                                           .start = "standstill"}};
  return {{"R-L short circuit, current", "rl_fault.csv", 1, "z.ia", rl},
          {"R-L-C step, current", "rlc_step.csv", 1, "z.ia", rlc},
          {"R-L-C step, capacitor voltage", "rlc_step.csv", 2, "z.vca", rlc},
          {"open line, far voltage", "open_line.csv", 1, "f.va", open},
          {"bouncing wave, far voltage", "line_bounce.csv", 1, "f.va", bounce},
          {"induction machine run up, current", "induction_start.csv", 1, "m.ia", motor},
          {"induction machine run up, torque", "induction_start.csv", 2, "m.torque", motor},
          {"induction machine run up, speed", "induction_start.csv", 3, "m.speed", motor, 2}};
}

struct Deviation {
  double rms = 0;      // of the peak of the reference
  double largest = 0;  // of the peak of the reference
};

/// Steps the circuit and compares at every instant that grid and reference share, the start excepted.
inline Deviation deviation_of(const Circuit& circuit, const std::string& folder, double step_s) {
  const Reference reference = read_reference(folder + "/" + circuit.file, circuit.column);
  emt::Plant plant = emt::compile(circuit.network, step_s);
  const emt::SignalId signal = plant.signal(circuit.signal);
  Deviation deviation;
  double sum = 0, peak = 0;
  int count = 0;
  std::size_t k = 0;
  while (k < reference.time_s.size() && plant.step() == emt::Status::running) {
    while (k < reference.time_s.size() && reference.time_s[k] < plant.time_s() - 1e-9) ++k;
    if (k == reference.time_s.size() || reference.time_s[k] > plant.time_s() + 1e-9) continue;
    const double error = circuit.scale * plant.value(signal) - reference.value[k];
    sum += error * error;
    deviation.largest = std::max(deviation.largest, std::abs(error));
    ++count;
    ++k;
  }
  for (const double value : reference.value) peak = std::max(peak, std::abs(value));
  deviation.rms = std::sqrt(sum / count) / peak;
  deviation.largest /= peak;
  return deviation;
}

/// The four wires of line_constants.csv.
inline emt::LineGeometry four_wires() {
  constexpr double foot = 0.3048, mile = 1609.344, inch = 0.0254;
  emt::LineGeometry g;
  g.frequency_Hz = 60;
  g.earth = "carson two-term";
  const auto phase = [](const char* name, double x, double y) {
    return network::Wire{.name = name,
                         .phase = name,
                         .x_m = x * foot,
                         .height_m = y * foot,
                         .resistance_ohm_per_m = 0.1859 / mile,
                         .diameter_m = 0.927 * inch,
                         .gmr_m = 0.0313 * foot};
  };
  g.wires = {phase("a", 0, 28),
             phase("b", 2.5, 28),
             phase("c", 7, 28),
             {.name = "n",
              .phase = "ground",
              .x_m = 4 * foot,
              .height_m = 24 * foot,
              .resistance_ohm_per_m = 0.592 / mile,
              .diameter_m = 0.563 * inch,
              .gmr_m = 0.00814 * foot}};
  return g;
}

/// Largest deviations from line_constants.csv.
struct LineDeviation {
  double resistance_ohm_per_mile = 0;
  double reactance_ohm_per_mile = 0;
  double susceptance_share = 0;
  int entries = 0;
};

inline LineDeviation line_deviation(const std::string& folder) {
  constexpr double mile = 1609.344;
  const emt::LineConstants constants = emt::line_constants(four_wires());
  const auto column = [&](std::size_t k) { return read_column(folder + "/line_constants.csv", k); };
  const auto r = column(2), x = column(3), b = column(4);
  LineDeviation worst;
  for (std::size_t k = 0; k < r.size(); ++k, ++worst.entries) {
    const auto z = constants.series_ohm_per_m[k] * mile;
    const double susceptance = 2 * std::numbers::pi * 60 * constants.capacitance_F_per_m[k] * mile * 1e6;
    worst.resistance_ohm_per_mile = std::max(worst.resistance_ohm_per_mile, std::abs(z.real() - r[k]));
    worst.reactance_ohm_per_mile = std::max(worst.reactance_ohm_per_mile, std::abs(z.imag() - x[k]));
    worst.susceptance_share = std::max(worst.susceptance_share, std::abs(susceptance / b[k] - 1));
  }
  return worst;
}

}  // namespace zavrek::test
