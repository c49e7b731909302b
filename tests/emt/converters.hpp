// Switched circuits with exact answers, shared by the tests and by the table of accuracy.
#pragma once

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <memory>
#include <numbers>
#include <string>
#include <vector>

#include "../reference.hpp"
#include "zavrek/control.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::test {

/// The same network in a partition of too many buses to be condensed: those that are added to the bus
/// `beside` lead nowhere.
inline network::Network among_many(network::Network n, const std::string& beside) {
  constexpr int more = 50;
  const auto bus =
      std::find_if(n.buses.begin(), n.buses.end(), [&](const auto& b) { return b.name == beside; });
  network::Bus spare = *bus;
  std::string before = beside;
  for (int k = 0; k < more; ++k) {
    spare.name = "spare" + std::to_string(k);
    n.buses.push_back(spare);
    n.elements.push_back(
        network::Branch{.name = "to_" + spare.name, .between = {before, spare.name}, .resistance_ohm = 1});
    before = spare.name;
  }
  return n;
}

/// Root mean square of a signal's difference from a reference, over the reference's peak; negative when the
/// plant diverges. `ahead(plant)` is called before each step.
template <class Ahead>
double rms_error(emt::Plant& plant, const std::string& signal, const Reference& reference, Ahead ahead) {
  const emt::SignalId id = plant.signal(signal);
  double sum = 0, peak = 0;
  long long count = 0;
  for (std::size_t k = 0; k < reference.time_s.size(); ++k) {
    while (plant.time_s() < reference.time_s[k] - 1e-9) {
      ahead(plant);
      if (plant.step() != emt::Status::running) return -1;
    }
    peak = std::max(peak, std::abs(reference.value[k]));
    if (std::abs(plant.time_s() - reference.time_s[k]) > 1e-9) continue;  // the answer lies in the step
    const double difference = plant.value(id) - reference.value[k];
    sum += difference * difference;
    ++count;
  }
  return std::sqrt(sum / static_cast<double>(count)) / peak;
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
                Valve{.name = "d", .device = "diode", .from = "s.a", .to = "r.a", .on_resistance_ohm = 1e-6},
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
      Bridge{.name = "h", .dc = "dc", .ac = "ac", .on_resistance_ohm = 1e-6},
      Branch{.name = "z", .between = {"ac.a", "ac.b"}, .resistance_ohm = 1.2, .inductance_H = 4e-3}};
  return n;
}

/// "T" from 11 kV to bus "low"; saturates where there is a knee.
inline network::Transformer station_transformer(const std::string& high, double knee = network::unset) {
  return {.name = "T",
          .high = high,
          .low = "low",
          .rating_VA = 630e3,
          .high_voltage_V = 11e3,
          .low_voltage_V = 400,
          .short_circuit_voltage = 0.06,
          .copper_loss_W = 6e3,
          .magnetizing_current = 0.01,
          .knee = knee};
}

/// A bridge behind an LC filter, a transformer and a grid.
inline network::Network filtered_converter(bool three_levels) {
  using namespace network;
  Network n;
  n.step_s = 1e-6;
  n.buses = {
      {"grid", 11e3}, {"low", 400}, {"filter", 400}, {"ac", 400}, {"dc", 750, three_levels ? "pnm" : "pn"}};
  n.elements = {
      Source{.name = "moor", .bus = "grid", .short_circuit_VA = 100e6},
      station_transformer("grid"),
      Branch{.name = "L2", .between = {"low", "filter"}, .resistance_ohm = 1e-3, .inductance_H = 20e-6},
      Capacitor{.name = "C1", .bus = "filter", .reactive_var = 25e3, .connection = "star"},
      Branch{.name = "L1", .between = {"filter", "ac"}, .resistance_ohm = 2e-3, .inductance_H = 0.1e-3},
      Bridge{.name = "B",
             .topology = three_levels ? "neutral-point clamped" : "two-level",
             .dc = "dc",
             .ac = "ac"},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 10e-3, .voltage_V = 750, .earth_ohm = 1e5},
      DcSource{.name = "battery", .bus = "dc", .voltage_V = 750, .resistance_ohm = 0.02}};
  return n;
}

/// One cycle of 50 Hz again and again for bridge "B": carrier of 10 kHz, period of 50 us, dead time of 1 us.
struct CarrierFeeder {
  control::Controller controller;
  std::vector<emt::GateId> gates;
  long long ratio;

  CarrierFeeder(emt::Plant& plant, bool three_levels)
      : controller(description(three_levels), plant.signal_names()),
        ratio(std::llround(50e-6 / plant.step_s())) {
    for (const std::string& name : controller.gates()) gates.push_back(plant.gate(name));
  }
  static control::Description description(bool three_levels) {
    control::Description d;
    d.period_s = 50e-6;
    control::Modulator pwm;
    pwm.name = "pwm";
    pwm.bridge = "B";
    pwm.carrier_Hz = 10e3;
    pwm.dead_time_s = 1e-6;
    pwm.levels = three_levels ? "three" : "two";
    for (int k = 0; k < 3; ++k) {
      control::Clock wave;
      wave.name = std::string("m") + static_cast<char>('a' + k);
      for (int j = 0; j <= 400; ++j)
        wave.values.push_back(
            {j * 50e-6, 0.85 * std::cos(2 * std::numbers::pi * (j / 400.0 - k / 3.0) - 0.05)});
      pwm.references.push_back(wave.name);
      d.blocks.emplace_back(wave);
    }
    d.blocks.emplace_back(pwm);
    return d;
  }
  /// Ahead of step k.
  void operator()(emt::Plant& plant, long long k) {
    if (k % ratio != 0) return;
    controller.run(k / ratio % 400, {});
    const double shift = static_cast<double>(k / (400 * ratio)) * 0.02;
    for (const control::Edge& edge : controller.edges())
      plant.fire(gates[static_cast<std::size_t>(edge.gate)], edge.on, edge.at_s + shift);
  }
};

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

/// A boost from 100 V, pulsed ten thousand times a second; its edges lie inside the steps.
inline emt::Study boost(double inductance_H, double load_ohm, double duty, double start_V) {
  using namespace network;
  Network n;
  n.start = "zero";
  n.buses = {{"lo", 100, "pn"}, {"hi", 200, "pn"}};
  n.elements = {
      DcSource{.name = "e", .bus = "lo", .voltage_V = 100, .resistance_ohm = 0.01},
      DcConverter{.name = "k",
                  .topology = "boost",
                  .high = "hi",
                  .low = "lo",
                  .inductance_H = inductance_H,
                  .on_resistance_ohm = 1e-3},
      DcLink{.name = "c", .bus = "hi", .capacitance_F = 100e-6, .voltage_V = start_V, .earth_ohm = 1e5},
      Branch{.name = "r", .between = {"hi.p", "hi.n"}, .resistance_ohm = load_ohm}};
  const auto named = std::make_shared<const emt::Plant>(emt::compile(n));
  emt::Study study{.network = n, .duration_s = 0.02, .sample_s = 20e-6, .signals = {"c.v"}};
  study.drive = [named, duty]() -> std::function<void(emt::ControlledPlant&)> {
    return [gate = named->gate("k.a_lower"), duty](emt::ControlledPlant& plant) {
      const double begins = std::round(plant.time_s() * 10e3) / 10e3;
      plant.fire(gate, true, begins + 7e-6);
      plant.fire(gate, false, begins + 7e-6 + duty * 1e-4);
    };
  };
  study.drive_period_s = 1e-4;
  return study;
}

/// Largest difference of its first signal from a reference, over where that ends.
inline double worst_apart(const emt::Series& fixed, const emt::Series& exact) {
  double worst = 0;
  for (std::size_t k = 0; k < exact.time_s.size(); ++k)
    worst = std::max(worst, std::abs(fixed.values[0][k] - exact.values[0][k]));
  return worst / std::abs(exact.values[0].back());
}

}  // namespace zavrek::test
