// An element of one's own as a class: a heater behind a thermostat. It heats a tank, cuts out at 70 degC and
// in again at 60 degC; while it is out the tank cools. Prints when it switched, and what it drew.
#include <cmath>
#include <cstdio>

#include "zavrek/emt.hpp"

using namespace zavrek;

namespace {

class Heater final : public network::OwnLaw {
 public:
  enum { tank, on };  // states
  enum { power, hot };
  std::vector<State> states() const override { return {{"temperature", "degC"}, {"on", ""}}; }
  std::vector<Parameter> parameters() const override {
    return {{"power", "W", 4000, 1, 1e6}, {"hot", "degC", 70, 30, 95, true}};
  }
  bool varies() const override { return true; }
  static double siemens(Numbers parameters) { return parameters[power] / (volts * volts); }
  void conductance(Numbers parameters, double, std::span<double> g) const override {
    g[0] = siemens(parameters);
  }
  void admittance(Numbers parameters, std::complex<double>, double,
                  std::span<std::complex<double>> y) const override {
    y[0] = siemens(parameters);
  }
  void start(Numbers, std::complex<double>, double, Phasors, Phasors,
             std::span<double> states) const override {
    states[tank] = 65;
    states[on] = 1;
  }
  bool begin(const Span&, Numbers parameters, Numbers states, Numbers, Numbers, std::span<double> history,
             std::span<double> g) const noexcept override {
    const double before = g[0];
    g[0] = states[on] * siemens(parameters);
    history[0] = 0;
    return g[0] != before;
  }
  void finish(const Span& span, Numbers parameters, Numbers states, Numbers v, Numbers i,
              std::span<double> next) const noexcept override {
    const double length = span.whole ? span.step_s : span.step_s / 2;
    next[tank] = states[tank] + length * (v[0] * i[0] / heat - (states[tank] - 20) / cools_s);
    next[on] = next[tank] > parameters[hot] ? 0 : next[tank] < parameters[hot] - 10 ? 1 : states[on];
  }

 private:
  static constexpr double volts = 230, heat = 400, cools_s = 12;  // W s / K, s
};

}  // namespace

int main() {
  network::Network network;
  network.step_s = 100e-6;
  network.buses = {{"box", 400}};
  network::OwnElement heaters{.name = "heater", .between = {"box", "ground"}};
  heaters.law = network::kept(std::make_shared<Heater>());
  network.elements = {network::Source{.name = "grid", .bus = "box", .short_circuit_VA = 1e6}, heaters};
  emt::Plant plant = emt::compile(network);
  const emt::SignalId temperature = plant.signal("heater.temperature_a"), on = plant.signal("heater.on_a"),
                      current = plant.signal("heater.ia");
  double was = plant.value(on), square = 0;
  const long steps = 100'000;
  for (long k = 0; k < steps; ++k) {
    if (plant.step() != emt::Status::running) return 1;
    square += plant.value(current) * plant.value(current);
    if (plant.value(on) != was)
      std::printf("%5.2f s  %s at %.1f degC\n", plant.time_s(), was > 0.5 ? "out" : "in",
                  plant.value(temperature));
    was = plant.value(on);
  }
  std::printf("rms of its current over %.0f s: %.2f A\n", plant.time_s(), std::sqrt(square / double(steps)));
}
