// Source: e(t) = E cos(omega t + angle - k 120 deg) behind Z = R + L d/dt (from short-circuit power).
// E, angle and omega may follow programmes, harmonics may add to it, or a record is played instead
// (waveform.hpp). Stiff without a short-circuit power: the nodes of the bus take e(t), and its current is
// what all else draws from them. `NAME.i*` flows out of the source into the network.
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "emt/elements/source.hpp"

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

double peak_voltage(const network::Source& source, const network::Bus& bus, double frequency_Hz) {
  const double rms = network::is_set(source.voltage_V) ? source.voltage_V : bus.voltage_V;
  if (frequency_Hz == 0) return rms;
  return std::numbers::sqrt2 * (bus.phases.size() == 3 ? rms / std::numbers::sqrt3 : rms);
}

void set_playback(const network::Source& source, std::size_t phases, Waveform& shape) {
  const auto reject = [&](const char* field, std::string text) {
    throw Error(Flaw{.file = {}, .place = "source." + source.name, .field = field, .text = std::move(text)});
  };
  if (source.playback_values.size() != phases) {
    reject("playback_channels",
           fmt::format("{} channels are read; its bus has {} phases", source.playback_values.size(), phases));
  }
  if (source.playback_time_s.size() < 2) reject("playback", "holds fewer than two samples");
  shape.set_playback(source.playback_time_s, source.playback_values);
}

}  // namespace

template <>
void assemble(const network::Source& source, Assembly& assembly) {
  const network::Bus& bus = assembly.bus(source.bus);
  const std::vector<NodeId> nodes = assembly.nodes(source.bus);
  const std::size_t phases = nodes.size();
  const double frequency =
      network::is_set(source.frequency_Hz) ? source.frequency_Hz : assembly.network().frequency_Hz;
  const double peak = peak_voltage(source, bus, frequency);
  const bool stiff = !network::is_set(source.short_circuit_VA);

  const std::vector<NodeId> inner = stiff ? nodes : assembly.new_nodes(source.name + ".emf", bus.phases);
  Waveform shape = shape_of(source, peak, 2 * std::numbers::pi * frequency);
  shape.set_phase(0, source.magnitude_a, source.angle_a);
  shape.set_phase(1, source.magnitude_b, source.angle_b);
  shape.set_phase(2, source.magnitude_c, source.angle_c);
  if (!source.playback.empty()) set_playback(source, phases, shape);
  const std::size_t waveform = assembly.waveform(std::move(shape));
  for (std::size_t k = 0; k < phases; ++k) {
    assembly.impose(inner[k], "source." + source.name, waveform,
                    -phase_index(bus.phases[k]) * 2 * std::numbers::pi / 3);
  }
  if (stiff) return;

  const double z1 = bus.voltage_V * bus.voltage_V / source.short_circuit_VA;
  const double z0 = z1 * source.z0_over_z1;
  const auto resistance = [](double z, double ratio) { return z / std::hypot(1.0, ratio); };
  const double r1 = resistance(z1, source.x_over_r);
  const double r0 = resistance(z0, source.x0_over_r0);
  SeriesPart part{
      .owner = "source." + source.name,
      .ends = {},
      .resistance = from_sequence(phases, r1, r0),
      .inductance = from_sequence(phases, r1 * source.x_over_r, r0 * source.x0_over_r0) / assembly.omega(),
      .elastance = {},
      .first_current = {},
      .first_charge_voltage = {}};
  for (std::size_t k = 0; k < phases; ++k) part.ends.push_back({inner[k], nodes[k]});
  const Slot first = assembly.series(std::move(part));
  std::vector<Terms> currents;
  for (std::size_t k = 0; k < phases; ++k)
    currents.push_back({value_of({first.index + static_cast<int>(k)})});
  assembly.phase_signals(source.name + ".i", "A", currents, bus.phases);
}

void assemble_stiff_currents(Assembly& assembly) {
  for (const network::Element& element : assembly.network().elements) {
    const auto* source = std::get_if<network::Source>(&element);
    const auto* imposed = std::get_if<network::ImposedVoltage>(&element);
    if (!imposed && (!source || network::is_set(source->short_circuit_VA))) continue;
    const std::string& bus = imposed ? imposed->bus : source->bus;
    std::vector<Terms> currents;
    for (const NodeId node : assembly.nodes(bus)) currents.push_back(assembly.drawn_from(node));
    assembly.phase_signals(network::name_of(element) + ".i", "A", currents, assembly.bus(bus).phases);
  }
}

}  // namespace zavrek::emt::internal
