#include "emt/elements/terminals.hpp"

#include <numbers>

#include <fmt/format.h>

namespace zavrek::emt::internal {

Terminals connect(Assembly& assembly, const std::string& owner, const std::string& bus_name,
                  const std::string& phases, const std::string& connection) {
  const network::Bus& bus = assembly.bus(bus_name);
  const std::vector<NodeId> nodes = assembly.nodes(bus_name);
  Terminals at;
  at.letters = phases.empty() ? bus.phases : phases;
  for (const char letter : at.letters) {
    const std::size_t k = bus.phases.find(letter);
    if (k == std::string::npos) {
      throw Error(Flaw{
          .file = {},
          .place = owner,
          .field = "phases",
          .text = fmt::format("bus \"{}\" has the phases \"{}\", not \"{}\"", bus_name, bus.phases, letter)});
    }
    at.nodes.push_back(nodes[k]);
  }
  const std::size_t n = at.nodes.size();
  const bool delta = connection == "delta" && n > 1;
  // The voltage of a one-phase bus is given to ground, that of others between phases.
  at.nominal_V = bus.phases.size() == 1 || delta ? bus.voltage_V : bus.voltage_V / std::numbers::sqrt3;
  if (delta) {
    for (std::size_t k = 0; k < (n == 2 ? 1 : n); ++k)
      at.ends.push_back({at.nodes[k], at.nodes[(k + 1) % n]});
    return at;
  }
  const bool isolated = connection == "star" && n == 3;
  const NodeId star = isolated ? assembly.new_node(owner.substr(owner.find('.') + 1) + ".star") : ground_node;
  for (const NodeId node : at.nodes) at.ends.push_back({node, star});
  return at;
}

void terminal_signals(Assembly& assembly, const std::string& name, const Terminals& at,
                      const std::vector<Slot>& currents) {
  for (std::size_t k = 0; k < at.nodes.size(); ++k) {
    Terms into;
    for (std::size_t e = 0; e < at.ends.size(); ++e) {
      if (at.ends[e].p == at.nodes[k]) into.push_back(value_of(currents[e]));
      if (at.ends[e].q == at.nodes[k]) into.push_back(value_of(currents[e], -1));
    }
    assembly.signal(name + ".i" + at.letters[k], "A", into);
  }
}

}  // namespace zavrek::emt::internal
