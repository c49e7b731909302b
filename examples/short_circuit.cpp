// A three-phase fault behind a known impedance, against its closed form.
//
//   i(t) = (E/|Z|) [ cos(wt + a - phi) - cos(wt0 + a - phi) exp(-(t - t0) R/L) ],   Z = R + jwL = |Z| exp(j
//   phi)
//
// The source is stiff, the branch carries nothing before the fault, so the formula holds exactly and
// what is left is the error of the fixed step, which falls with its square.
#include <cmath>
#include <complex>
#include <cstdio>
#include <numbers>

#include <zavrek/emt.hpp>

int main() {
  using namespace zavrek;
  using network::Branch, network::Network, network::Source;
  constexpr double omega = 2 * std::numbers::pi * 50, r = 0.9, l = 14.3e-3, struck_s = 0.02345;

  Network quay;
  quay.title = "Veskar quay behind 0.9 ohm and 14.3 mH";
  quay.buses = {{"moor", 11e3}, {"quay", 11e3}};
  quay.elements = {
      Source{.name = "grid", .bus = "moor"},
      Branch{.name = "infeed", .between = {"moor", "quay"}, .resistance_ohm = r, .inductance_H = l},
      Branch{.name = "stray", .between = {"quay", "ground"}, .resistance_ohm = 1e7}};
  quay.faults = {{.name = "fault", .on = "quay", .phases = "ABCG"}};

  const std::complex<double> z(r + 1e-4, omega * l);  // a solid fault has 0.1 mohm in each pole
  const double peak = 11e3 * std::sqrt(2.0 / 3) / std::abs(z);
  std::printf("step      largest error of phase a, in 0.1 s\n");
  for (const double step_s : {200e-6, 100e-6, 50e-6, 25e-6}) {
    emt::Plant plant = emt::compile(quay, step_s);
    plant.close(plant.operable("fault"), struck_s);
    const emt::SignalId current = plant.signal("infeed.ia");
    double largest = 0;
    while (plant.time_s() < struck_s + 0.1) {
      if (plant.step() != emt::Status::running) return 1;
      const double t = plant.time_s();
      if (t < struck_s + 2 * step_s) continue;
      const auto forced = [&](double at) { return std::cos(omega * at - std::arg(z)); };
      const double exact = peak * (forced(t) - forced(struck_s) * std::exp(-(t - struck_s) * z.real() / l));
      largest = std::max(largest, std::abs(plant.value(current) - exact));
    }
    std::printf("%3.0f us    %.4f %% of the peak\n", 1e6 * step_s, 100 * largest / peak);
  }
}
