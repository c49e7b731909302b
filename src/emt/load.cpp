// Load: per phase Z = U^2 / (P - jQ) at nominal voltage, as R with L (Q > 0) or C (Q < 0) in series.
#include <numbers>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Load& load, Assembly& assembly) {
  const network::Bus& bus = assembly.bus(load.bus);
  const std::vector<NodeId> nodes = assembly.nodes(load.bus);
  const bool delta = load.connection == "delta" && nodes.size() == 3;
  const double scale = bus.voltage_V * bus.voltage_V * (delta ? 3 : 1) /
                       (load.active_W * load.active_W + load.reactive_var * load.reactive_var);
  const double resistance = scale * load.active_W;
  const double reactance = scale * load.reactive_var;
  const double inductance = reactance > 0 ? reactance / assembly.omega() : 0;
  const double elastance = reactance < 0 ? -reactance * assembly.omega() : 0;

  const bool isolated_star = load.connection == "star" && nodes.size() == 3;
  const NodeId star = isolated_star ? assembly.new_node(load.name + ".star") : ground_node;
  std::vector<Ends> ends;
  for (std::size_t k = 0; k < nodes.size(); ++k)
    ends.push_back({nodes[k], delta ? nodes[(k + 1) % 3] : star});
  const std::vector<Slot> currents =
      uncoupled_series(assembly, "load." + load.name, ends, resistance, inductance, elastance);
  std::vector<Terms> into;
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    into.push_back({value_of(currents[k])});
    if (delta) into.back().push_back(value_of(currents[(k + 2) % 3], -1));
  }
  assembly.phase_signals(load.name + ".i", "A", into, bus.phases);
}

}  // namespace zavrek::emt::internal
