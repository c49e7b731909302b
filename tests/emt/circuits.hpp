// Circuits with a known answer, shared by the tests and by the table of accuracy.
#pragma once

#include <cmath>
#include <numbers>
#include <string>
#include <vector>

#include "../reference.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::test {

struct Circuit {
  std::string title;  // what the table of accuracy calls it
  std::string file;   // in tests/data
  std::size_t column;
  std::string signal;
  network::Network network;
};

inline network::Line surge_line(std::string near, std::string far) {
  constexpr double surge_ohm = 380, travel_s = 1.7e-3, omega = 2 * std::numbers::pi * 50, length_m = 1000;
  return {.name = "line",
          .between = {std::move(near), std::move(far)},
          .length_m = length_m,
          .x1_ohm_per_m = omega * surge_ohm * travel_s / length_m,
          .c1_F_per_m = travel_s / surge_ohm / length_m};
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
  return {{"R-L short circuit, current", "rl_fault.csv", 1, "z.ia", rl},
          {"R-L-C step, current", "rlc_step.csv", 1, "z.ia", rlc},
          {"R-L-C step, capacitor voltage", "rlc_step.csv", 2, "z.vca", rlc},
          {"open line, far voltage", "open_line.csv", 1, "f.va", open},
          {"bouncing wave, far voltage", "line_bounce.csv", 1, "f.va", bounce}};
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
    const double error = plant.value(signal) - reference.value[k];
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

}  // namespace zavrek::test
