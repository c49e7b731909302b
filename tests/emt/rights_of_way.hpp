// Lines beside each other, shared by the tests and by the table of accuracy.
#pragma once

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <string>
#include <vector>

#include <Eigen/Core>

#include "emt/distributed_line.hpp"
#include "emt/solve/dense.hpp"
#include "zavrek/emt/line_constants.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::test {

/// Two circuits on one tower, the second a little higher, with an earth wire.
inline network::LineGeometry double_circuit() {
  network::LineGeometry g;
  g.name = "tower";
  g.earth_resistivity_ohm_m = 300;
  for (int circuit = 1; circuit <= 2; ++circuit) {
    for (int k = 0; k < 3; ++k) {
      const std::string phase(1, static_cast<char>('a' + k));
      const double side = circuit == 1 ? -1 : 1;
      g.wires.push_back({.name = std::to_string(circuit) + phase,
                         .phase = phase,
                         .circuit = circuit,
                         .x_m = side * (k == 1 ? 7.5 : 5.5),
                         .height_m = 28.0 - 5 * k,
                         .sag_m = 4,
                         .resistance_ohm_per_m = 7e-5,
                         .diameter_m = 0.027});
    }
  }
  g.wires.push_back({.name = "e",
                     .phase = "ground",
                     .x_m = 0,
                     .height_m = 34,
                     .resistance_ohm_per_m = 3e-4,
                     .diameter_m = 0.016});
  return g;
}

/// Two lines from one bus, the second's far end with a load of its own.
inline network::Network two_lines(double length_m) {
  network::Network n;
  n.geometries = {double_circuit()};
  n.buses = {{"s", 110e3}, {"r", 110e3}, {"q", 110e3}};
  const auto line = [&](const char* name, const char* to) {
    return network::Line{.name = name, .between = {"s", to}, .length_m = length_m};
  };
  network::RightOfWay way{.name = "w", .lines = {"l", "m"}};
  way.geometry = "tower";
  n.elements = {network::Source{.name = "g", .bus = "s", .short_circuit_VA = 3e9},
                line("l", "r"),
                line("m", "q"),
                way,
                network::Load{.name = "z", .bus = "r", .active_W = 60e6, .connection = "grounded star"},
                network::Load{.name = "y", .bus = "q", .active_W = 5e6, .connection = "grounded star"}};
  return n;
}

inline network::RightOfWay& way_of(network::Network& n) {
  return std::get<network::RightOfWay>(n.elements[3]);
}

/// Two tracks, each with the wire above it, beside each other on all of their way.
inline network::Network two_tracks(double length_m) {
  network::Network n;
  network::LineGeometry g;
  g.name = "tracks";
  g.earth_resistivity_ohm_m = 50;
  for (int track = 1; track <= 2; ++track) {
    g.wires.push_back({.name = std::to_string(track),
                       .phase = "a",
                       .circuit = track,
                       .x_m = 4.5 * track,
                       .height_m = 5.6,
                       .resistance_ohm_per_m = 1.8e-4,
                       .diameter_m = 0.0124});
  }
  n.geometries = {g};
  n.buses = {{"s", 25e3, "a"}, {"r", 25e3, "a"}, {"q", 25e3, "a"}};
  network::RightOfWay way{.name = "w", .lines = {"l", "m"}};
  way.geometry = "tracks";
  way.parameters = "frequency";
  n.elements = {network::Source{.name = "g", .bus = "s", .short_circuit_VA = 300e6},
                network::Line{.name = "l", .between = {"s", "r"}, .length_m = length_m},
                network::Line{.name = "m", .between = {"s", "q"}, .length_m = length_m},
                way,
                network::Load{.name = "z", .bus = "r", .active_W = 4e6},
                network::Load{.name = "y", .bus = "q", .active_W = 1e6}};
  return n;
}

/// The largest deviation of voltages and of currents at the near end of two lines ("l" from s to r, "m" from
/// s to q) from those that the distributed line has there for what they have at the far end, of the largest
/// of them.
inline double deviation_from_distributed(const network::Network& n, const emt::LineConstants& constants,
                                         double length_m, double step_s) {
  const double omega = 2 * std::numbers::pi * n.frequency_Hz;
  const Eigen::MatrixXcd exact = chain_of(constants, omega, length_m);
  const emt::Plant plant = emt::compile(n, step_s);
  Eigen::VectorXcd near(12), far(12);
  for (int c = 0; c < 6; ++c) {
    const std::string letter(1, static_cast<char>('a' + c % 3));
    const std::string line = c < 3 ? "l" : "m", bus = c < 3 ? "r" : "q";
    near[c] = plant.phasor(plant.signal("s.v" + letter));
    near[6 + c] = plant.phasor(plant.signal(line + ".i" + letter));
    far[c] = plant.phasor(plant.signal(bus + ".v" + letter));
    far[6 + c] = -plant.phasor(plant.signal(line + ".i" + letter + "_far"));
  }
  const Eigen::VectorXcd expected = emt::internal::product(exact, Eigen::MatrixXcd(far)).col(0);
  double worst = 0;
  for (int c = 0; c < 12; ++c) {
    const double scale = expected.segment(c < 6 ? 0 : 6, 6).cwiseAbs().maxCoeff();
    worst = std::max(worst, std::abs(near[c] - expected[c]) / scale);
  }
  return worst;
}

/// A fault at the end of one of two tracks.
inline emt::Study track_fault() {
  network::Network n = two_tracks(40e3);
  n.faults = {network::Fault{.name = "f", .on = "r", .phases = "AG", .resistance_ohm = 5}};
  return {.network = n,
          .commands = {{0.00313, "f", true}},
          .duration_s = 0.006,
          .sample_s = 1e-4,
          .signals = {"l.ia", "q.va"}};
}

/// The rms of what a fixed step misses of one signal of the variable-step solution, of its peak. Where a
/// sample meets a front, it stands before it or behind: the three worst samples are left out.
inline double error_beside_fronts(const emt::Study& study, const emt::Series& exact, std::size_t signal,
                                  double step_s) {
  const emt::Series fixed = emt::simulate(study, step_s);
  std::vector<double> off;
  double squares = 0, peak = 0;
  for (std::size_t k = 0; k < exact.time_s.size(); ++k) {
    off.push_back(std::abs(fixed.values[signal][k] - exact.values[signal][k]));
    peak = std::max(peak, std::abs(exact.values[signal][k]));
  }
  std::sort(off.begin(), off.end());
  off.resize(off.size() - 3);
  for (const double one : off) squares += one * one;
  return std::sqrt(squares / static_cast<double>(off.size())) / peak;
}

}  // namespace zavrek::test
