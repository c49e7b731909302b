#include "trial/mistakes/wired.hpp"

#include <array>
#include <numbers>

#include "bench/wiring_fault.hpp"

namespace zavrek::trial::internal {
namespace {

using protection::End;
using protection::Phasor;

/// Phases and neutral through one circuit: what is wired wrongly acts on real and imaginary parts alike.
void pass(std::array<Phasor, 4>& phases, bool voltages, const Device& wrong) {
  std::array<protection::Sample, 2> parts{};
  const auto side = [voltages](protection::Sample& sample) -> std::array<double, 4>& {
    return voltages ? sample.voltage_V : sample.current_A;
  };
  for (std::size_t k = 0; k < phases.size(); ++k) {
    side(parts[0])[k] = phases[k].real();
    side(parts[1])[k] = phases[k].imag();
  }
  for (protection::Sample& part : parts) part = bench::internal::as_wired(wrong, part);
  for (std::size_t k = 0; k < phases.size(); ++k) phases[k] = {side(parts[0])[k], side(parts[1])[k]};
}

void pass(std::array<Phasor, 3>& harmonic, const Device& wrong) {
  std::array<Phasor, 4> phases{harmonic[0], harmonic[1], harmonic[2]};
  pass(phases, false, wrong);
  for (std::size_t k = 0; k < harmonic.size(); ++k) harmonic[k] = phases[k];
}

void miswire(End& end, const Device& wrong) {
  pass(end.current, false, wrong);
  pass(end.voltage, true, wrong);
  pass(end.second, wrong);
  pass(end.fifth, wrong);
  const Phasor turn = std::polar(1.0, 2 * std::numbers::pi / 3);
  std::array<Phasor, 4> remembered{end.v1_memory, end.v1_memory * std::conj(turn), end.v1_memory * turn};
  pass(remembered, true, wrong);
  end.v1_memory = protection::sequences_of(remembered[0], remembered[1], remembered[2]).positive;
}

void scale(End& end, double currents, double voltages) {
  for (Phasor& p : end.current) p *= currents;
  for (Phasor& p : end.second) p *= currents;
  for (Phasor& p : end.fifth) p *= currents;
  for (Phasor& p : end.voltage) p *= voltages;
  end.v1_memory *= voltages;
}

}  // namespace

protection::Measured as_wired(const protection::Measured& measured, const Device& wrong) {
  const double currents = wrong.relay.current_scale() / wrong.approved_relay.current_scale();
  const double voltages = wrong.relay.voltage_scale() / wrong.approved_relay.voltage_scale();
  protection::Measured seen = measured;
  const auto place = static_cast<std::size_t>(wrong.miswired_place - 1);
  if (wrong.miswired() && place < seen.ends.size()) miswire(seen.ends[place], wrong);
  for (End& end : seen.ends) {
    scale(end, currents, voltages);
    protection::Measuring::complete(end, true);
  }
  return seen;
}

}  // namespace zavrek::trial::internal
