// A fault: poles that close at its inception and, when it clears, open at their own current zeros.
//   one phase to ground   pole (phase, ground) of R
//   two phases            pole (phase, phase) of R
//   otherwise             one pole per phase to a star point; with ground the poles are solid and R lies
//                         between star and ground, without ground each pole has R.
// With an arc, its conductance (arc.hpp) stands in series with the pole of one or two phases, or with each
// phase's. On d.c. poles it clears when its time is over, whatever flows. A fault that evolves is two or more
// of these at one place, each with its own instants.
#include "emt/elements/fault.hpp"

#include "emt/elements/arc.hpp"

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

/// The places of the fault's phases among `letters`.
std::vector<std::size_t> phases_of(const network::Fault& fault, const std::string& letters) {
  std::vector<std::size_t> phases;
  for (const char letter : fault.phases) {
    if (letter == 'G') continue;
    const std::size_t at = letters.find(static_cast<char>(letter - 'A' + 'a'));
    if (at == std::string::npos) {
      reject(fault, "phases",
             fmt::format("\"{}\" names a phase that {} does not have", fault.phases, fault.on));
    }
    phases.push_back(at);
  }
  return phases;
}

/// The ends of the line or cable that the fault lies on.
std::array<std::string, 2> ends_of_length(const network::Element* element, const network::Fault& fault) {
  if (!network::is_set(fault.at)) {
    reject(fault, "at", fmt::format("\"{}\" is no bus; say where along it, such as at = \"80 %\"", fault.on));
  }
  return std::visit(
      [&](const auto& e) -> std::array<std::string, 2> {
        if constexpr (requires {
                        e.between;
                        e.length_m;
                      }) {
          return e.between;
        } else {
          reject(fault, "on", fmt::format("\"{}\" has no length; name a line, a cable or a bus", fault.on));
        }
      },
      *element);
}

std::vector<NodeId> place_along(const network::Fault& fault, Assembly& assembly, std::string& letters) {
  const auto ends = ends_of_length(assembly.network().find_element(fault.on), fault);
  const Span whole = assembly.span(fault.on, ends);
  letters = whole.letters;
  if (fault.at == 0) return whole.near;
  if (fault.at == 1) return whole.far;
  return assembly.tap(fault.on, fault.at, whole.letters);
}

std::vector<NodeId> place_inside(const network::Fault& fault, Assembly& assembly) {
  if (!(fault.at > 0 && fault.at < 1))
    reject(fault, "at", "say where inside the winding, counted from its neutral, between 0 and 100 %");
  return assembly.tap_winding(fault.on, fault.winding, fault.at);
}

void assemble(const network::Fault& fault, const std::vector<NodeId>& place, const std::string& letters,
              Assembly& assembly) {
  const std::vector<std::size_t> phases = phases_of(fault, letters);
  const bool to_ground = fault.phases.back() == 'G';
  const bool arcs = network::is_set(fault.arc_voltage_V);
  const double resistance = std::max(fault.resistance_ohm, solid_ohm);
  const bool star_to_ground = to_ground && phases.size() > 1;
  Operable operable{.name = fault.name, .poles = {}, .least_ohm = solid_ohm};
  std::vector<Terms> currents(place.size());
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

  if (phases.size() == 1) {
    currents[phases[0]] = {value_of(add_pole(place[phases[0]], ground_node, resistance))};
  } else if (phases.size() == 2 && !to_ground) {
    const Slot current = add_pole(place[phases[0]], place[phases[1]], resistance);
    currents[phases[0]] = {value_of(current)};
    currents[phases[1]] = {value_of(current, -1)};
  } else {
    const NodeId star = assembly.new_node(fault.name + ".star");
    if (to_ground) assembly.conductance({star, ground_node}, 1 / resistance);
    for (const std::size_t phase : phases) {
      currents[phase] = {value_of(add_pole(place[phase], star, to_ground ? solid_ohm : resistance))};
    }
  }

  std::vector<Terms> voltages;
  for (const NodeId node : place) voltages.push_back({voltage_of(node)});
  assembly.phase_signals(fault.name + ".v", "V", voltages, letters);
  assembly.phase_signals(fault.name + ".i", "A", currents, letters);
  assembly.operable(std::move(operable));
}

}  // namespace

void assemble_faults(Assembly& assembly) {
  const network::Network& network = assembly.network();
  for (const network::Fault& fault : network.faults) {
    std::string letters = "abc";
    std::vector<NodeId> place;
    const network::Element* element = network.find_element(fault.on);
    if (const network::Bus* bus = network.find_bus(fault.on)) {
      letters = bus->phases;
      place = assembly.nodes(fault.on);
    } else if (element && std::holds_alternative<network::Transformer>(*element)) {
      place = place_inside(fault, assembly);
    } else {
      place = place_along(fault, assembly, letters);
    }
    assemble(fault, place, letters, assembly);
  }
}

}  // namespace zavrek::emt::internal
