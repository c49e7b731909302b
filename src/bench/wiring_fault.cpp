#include "bench/wiring_fault.hpp"

#include <utility>

namespace zavrek::bench::internal {
namespace {

constexpr std::size_t neutral = 3;

/// Three phases, and the neutral that is their sum where nothing is wrong.
void change(std::array<double, 4>& phases, const std::string& wiring, double factor) noexcept {
  if (wiring == "a and b swapped") std::swap(phases[0], phases[1]);
  if (wiring == "b and c swapped") std::swap(phases[1], phases[2]);
  if (wiring == "c and a swapped") std::swap(phases[2], phases[0]);
  const bool all = wiring == "reversed";
  for (std::size_t k = 0; k < 3 && !all; ++k) {
    const bool its = wiring.size() > 2 && wiring[0] == static_cast<char>('a' + k) && wiring[1] == ' ';
    if (!its || wiring.find("swapped") != std::string::npos) continue;
    const double before = phases[k];
    phases[k] = wiring.ends_with("dead") ? 0 : -before;
    phases[neutral] += phases[k] - before;
  }
  for (double& value : phases) value *= all ? -factor : factor;
}

}  // namespace

void miswire_currents(protection::Sample& sample, const std::string& wiring, double factor) noexcept {
  change(sample.current_A, wiring, factor);
}
void miswire_voltages(protection::Sample& sample, const std::string& wiring, double factor) noexcept {
  change(sample.voltage_V, wiring, factor);
}

protection::Sample as_wired(const Device& device, const protection::Sample& sample) noexcept {
  protection::Sample seen = sample;
  miswire_currents(seen, device.current_wiring, device.current_factor);
  miswire_voltages(seen, device.voltage_wiring, device.voltage_factor);
  return seen;
}

}  // namespace zavrek::bench::internal
