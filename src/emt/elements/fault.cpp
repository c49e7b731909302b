// A fault: poles that close at its inception and, when it clears, open at their own current zeros.
//   one phase to ground   pole (phase, ground) of R
//   two phases            pole (phase, phase) of R
//   one phase each of two circuits    pole (phase, phase) of R
//   otherwise             one pole per phase to a star point; with ground the poles are solid and R lies
//                         between star and ground, without ground each pole has R.
// With an arc, its conductance (arc.hpp) stands in series with the pole of one or two phases, or with each
// phase's. A place of any fault has solid poles from each phase to a star point, and one from there to
// ground. On d.c. poles it clears when its time is over, whatever flows. A fault that evolves is two or more
// of these at one place, each with its own instants.
#include "emt/elements/fault.hpp"

#include "emt/elements/arc.hpp"
#include "emt/elements/lines/right_of_way.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zavrek::emt::internal {
namespace {

// A solid fault is 0.1 mohm: low beside any network impedance, high enough to keep the conductance
// matrix within 1e12 of its other entries.
constexpr double solid_ohm = 1e-4;
constexpr double open_ohm = 1e9;

[[noreturn]] void reject(const network::Fault& fault, std::string field, std::string text) {
  throw Error(Flaw{.file = {}, .place = fault.name, .field = std::move(field), .text = std::move(text)});
}

/// Where phases of a fault lie: on a bus, along a line, inside a winding.
struct Place {
  std::string on;
  std::string letters = "abc";
  std::vector<NodeId> nodes;  // per letter
};

/// The places of the phases that `field` of the fault names among those of `place`.
std::vector<std::size_t> phases_of(const network::Fault& fault, const char* field, const std::string& phases,
                                   const Place& place) {
  std::vector<std::size_t> found;
  for (const char letter : phases) {
    if (letter == 'G') continue;
    const std::size_t at = place.letters.find(static_cast<char>(letter - 'A' + 'a'));
    if (at == std::string::npos || std::find(found.begin(), found.end(), at) != found.end())
      reject(fault, field,
             fmt::format("\"{}\" names a phase that {} does not have, or twice", phases, place.on));
    found.push_back(at);
  }
  return found;
}

/// The ends of the line or cable that the fault lies on.
std::array<std::string, 2> ends_of_length(const network::Element* element, const network::Fault& fault,
                                          const char* field, const std::string& on) {
  return std::visit(
      [&](const auto& e) -> std::array<std::string, 2> {
        if constexpr (requires {
                        e.between;
                        e.length_m;
                      }) {
          return e.between;
        } else {
          reject(fault, field, fmt::format("\"{}\" has no length; name a line, a cable or a bus", on));
        }
      },
      *element);
}

Place place_along(const network::Fault& fault, const char* field, const std::string& on, double at,
                  Assembly& assembly) {
  if (!network::is_set(at)) {
    reject(fault, field[0] == 'w' ? "with_at" : "at",
           fmt::format("\"{}\" is no bus; say where along it, such as {} = \"80 %\"", on,
                       field[0] == 'w' ? "with_at" : "at"));
  }
  const Span whole = assembly.span(on, ends_of_length(assembly.network().find_element(on), fault, field, on));
  return {on, whole.letters,
          at == 0   ? whole.near
          : at == 1 ? whole.far
                    : assembly.tap(on, at, whole.letters)};
}

std::vector<NodeId> place_inside(const network::Fault& fault, Assembly& assembly) {
  if (!(fault.at > 0 && fault.at < 1))
    reject(fault, "at", "say where inside the winding, counted from its neutral, between 0 and 100 %");
  return assembly.tap_winding(fault.on, fault.winding, fault.at);
}

Place place_of(const network::Fault& fault, Assembly& assembly) {
  if (const network::Bus* bus = assembly.network().find_bus(fault.on))
    return {fault.on, bus->phases, assembly.nodes(fault.on)};
  const network::Element* element = assembly.network().find_element(fault.on);
  if (std::holds_alternative<network::Transformer>(*element))
    return {fault.on, "abc", place_inside(fault, assembly)};
  return place_along(fault, "on", fault.on, fault.at, assembly);
}

/// Of the circuit that it meets; without phases when there is none.
Place other_place(const network::Fault& fault, Assembly& assembly) {
  if (fault.with.empty()) {
    if (!fault.with_phases.empty()) reject(fault, "with", "missing; whose phases are with_phases?");
    return {};
  }
  if (fault.with_phases.empty()) reject(fault, "with_phases", "missing; which phases of it take part?");
  if (const network::Bus* bus = assembly.network().find_bus(fault.with))
    return {fault.with, bus->phases, assembly.nodes(fault.with)};
  const double at =
      network::is_set(fault.with_at) ? fault.with_at : place_beside(assembly, fault.on, fault.at, fault.with);
  return place_along(fault, "with", fault.with, at, assembly);
}

void assemble(const network::Fault& fault, Assembly& assembly) {
  const Place here = place_of(fault, assembly), there = other_place(fault, assembly);
  const std::string& letters = here.letters;
  const std::vector<std::size_t> phases = phases_of(fault, "phases", fault.phases, here),
                                 others = phases_of(fault, "with_phases", fault.with_phases, there);
  const std::vector<NodeId>& place = here.nodes;
  const bool to_ground = fault.phases.back() == 'G';
  const std::size_t count = phases.size() + others.size();
  if (count == 1 && !to_ground)
    reject(fault, "phases",
           fmt::format("\"{}\" meets nothing; write \"{}G\", or name a circuit as `with`", fault.phases,
                       fault.phases));
  const bool arcs = network::is_set(fault.arc_voltage_V);
  const double resistance = std::max(fault.resistance_ohm, solid_ohm);
  const bool star_to_ground = to_ground && count > 1;
  Operable operable{.name = fault.name, .poles = {}, .least_ohm = solid_ohm};
  std::vector<Terms> currents(place.size()), other_currents(there.nodes.size());
  const auto add_pole = [&](NodeId p, NodeId q, double ohm) {
    const NodeId root = arcs ? assembly.new_node(fault.name + ".arc") : q;
    const int index = assembly.pole({.owner = fault.name,
                                     .ends = {p, root},
                                     .closed_S = 1 / ohm,
                                     .open_S = 1 / open_ohm,
                                     .closed = false,
                                     .chop_A = letters[0] == 'p' ? 1e30 : 0});
    operable.poles.push_back(index);
    if (ohm == resistance && !star_to_ground) operable.resistive.push_back(index);
    if (arcs) {
      assembly.model({.owner = fault.name,
                      .ends = {{root, q}},
                      .model = std::make_unique<Arc>(fault.arc_voltage_V, fault.arc_resistance_ohm,
                                                     fault.arc_time_constant_s)});
    }
    return assembly.pole_parts[static_cast<std::size_t>(index)].current;
  };

  if (count == 1) {
    currents[phases[0]] = {value_of(add_pole(place[phases[0]], ground_node, resistance))};
  } else if (count == 2 && !to_ground) {
    const NodeId second = others.empty() ? place[phases[1]] : there.nodes[others[0]];
    const Slot current = add_pole(place[phases[0]], second, resistance);
    currents[phases[0]] = {value_of(current)};
    (others.empty() ? currents[phases[1]] : other_currents[others[0]]) = {value_of(current, -1)};
  } else {
    const NodeId star = assembly.new_node(fault.name + ".star");
    if (to_ground) assembly.conductance({star, ground_node}, 1 / resistance);
    const double each = to_ground ? solid_ohm : resistance;
    for (const std::size_t phase : phases) currents[phase] = {value_of(add_pole(place[phase], star, each))};
    for (const std::size_t phase : others)
      other_currents[phase] = {value_of(add_pole(there.nodes[phase], star, each))};
  }

  std::vector<Terms> voltages;
  for (const NodeId node : place) voltages.push_back({voltage_of(node)});
  assembly.phase_signals(fault.name + ".v", "V", voltages, letters);
  assembly.phase_signals(fault.name + ".i", "A", currents, letters);
  if (!others.empty()) assembly.phase_signals(fault.name + ".with_i", "A", other_currents, there.letters);
  assembly.operable(std::move(operable));
}

/// A pole that is operated by itself: its letter behind the name of the place.
Terms assemble_pole(const std::string& name, NodeId p, NodeId q, Assembly& assembly) {
  const int index = assembly.pole(
      {.owner = name, .ends = {p, q}, .closed_S = 1 / solid_ohm, .open_S = 1 / open_ohm, .closed = false});
  assembly.operable({.name = name, .poles = {index}, .resistive = {index}, .least_ohm = solid_ohm});
  return {value_of(assembly.pole_parts[static_cast<std::size_t>(index)].current)};
}

void assemble(const network::FaultPlace& place, Assembly& assembly) {
  network::Fault fault;
  fault.name = place.name;
  fault.on = place.on;
  fault.at = place.at;
  const Place here = place_of(fault, assembly);
  const NodeId star = assembly.new_node(place.name + ".star");
  std::vector<Terms> voltages, currents;
  for (std::size_t k = 0; k < here.nodes.size(); ++k) {
    voltages.push_back({voltage_of(here.nodes[k])});
    currents.push_back(assemble_pole(place.name + "." + here.letters[k], here.nodes[k], star, assembly));
  }
  (void)assemble_pole(place.name + ".g", star, ground_node, assembly);
  assembly.phase_signals(place.name + ".v", "V", voltages, here.letters);
  assembly.phase_signals(place.name + ".i", "A", currents, here.letters);
}

}  // namespace

void assemble_faults(Assembly& assembly) {
  for (const network::Fault& fault : assembly.network().faults) assemble(fault, assembly);
  for (const network::FaultPlace& place : assembly.network().places) assemble(place, assembly);
}

}  // namespace zavrek::emt::internal
