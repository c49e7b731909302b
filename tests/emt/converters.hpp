// Switched circuits with exact answers, shared by the tests and by the table of accuracy.
#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <string>

#include "../reference.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::test {

/// Root mean square of a signal's difference from a reference, over the reference's peak; negative when the
/// plant diverges. `ahead(plant)` is called before each step.
template <class Ahead>
double rms_error(emt::Plant& plant, const std::string& signal, const Reference& reference, Ahead ahead) {
  const emt::SignalId id = plant.signal(signal);
  double sum = 0, peak = 0, before = 0;
  for (std::size_t k = 0; k < reference.time_s.size(); ++k) {
    while (plant.time_s() < reference.time_s[k] - 1e-9) {
      ahead(plant);
      before = plant.value(id);
      if (plant.step() != emt::Status::running) return -1;
    }
    const double late =
        (plant.time_s() - reference.time_s[k]) / plant.step_s();  // the answer lies in the step
    const double value = plant.value(id) + late * (before - plant.value(id));
    const double difference = value - reference.value[k];
    sum += difference * difference;
    peak = std::max(peak, std::abs(reference.value[k]));
  }
  return std::sqrt(sum / static_cast<double>(reference.time_s.size())) / peak;
}

/// tests/data/diode_rl.csv
inline network::Network diode_rl() {
  using namespace network;
  Network n;
  n.start = "zero";
  n.buses = {{"s", 230, "a"}, {"r", 230, "a"}};
  n.elements = {Source{.name = "source",
                       .bus = "s",
                       .voltage_V = 325 / std::numbers::sqrt2,
                       .angle_rad = -std::numbers::pi / 2},
                Valve{.name = "d", .device = "diode", .from = "s.a", .to = "r.a", .on_ohm = 1e-6},
                Branch{.name = "z", .between = {"r", "ground"}, .resistance_ohm = 8, .inductance_H = 30e-3}};
  return n;
}

/// tests/data/bridge_pwm.csv
inline network::Network h_bridge() {
  using namespace network;
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 800, "pn"}, {"ac", 800, "ab"}};
  n.elements = {
      DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 1e-6},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 800, .earth_ohm = 1e5},
      Bridge{.name = "h", .dc = "dc", .ac = "ac", .on_ohm = 1e-6},
      Branch{.name = "z", .between = {"ac.a", "ac.b"}, .resistance_ohm = 1.2, .inductance_H = 4e-3}};
  return n;
}

/// The four gates of an H bridge, fed with the edges of a file as their time comes near.
struct EdgeFeeder {
  Reference edges;
  std::array<emt::GateId, 4> gates;
  std::size_t next = 0;
  EdgeFeeder(emt::Plant& plant, const std::string& folder)
      : edges(read_reference(folder + "/bridge_pwm_edges.csv", 1)),
        gates{plant.gate("h.a_upper"), plant.gate("h.b_lower"), plant.gate("h.a_lower"),
              plant.gate("h.b_upper")} {
    set(plant, true, 0);
  }
  void set(emt::Plant& plant, bool plus, double at) {
    for (std::size_t k = 0; k < 4; ++k) plant.fire(gates[k], (k < 2) == plus, at);
  }
  void operator()(emt::Plant& plant) {
    for (; next < edges.time_s.size() && edges.time_s[next] < plant.time_s() + plant.step_s(); ++next)
      set(plant, edges.value[next] > 0, edges.time_s[next]);
  }
};

}  // namespace zavrek::test
