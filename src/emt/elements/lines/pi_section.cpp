#include "emt/elements/lines/pi_section.hpp"

namespace zavrek::emt::internal {
namespace {

void add_half_capacitance(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& nodes,
                          const LineMatrices& values, std::vector<Terms>& currents) {
  if (values.capacitance.cwiseAbs().maxCoeff() == 0) return;
  CapacitancePart part{
      .owner = owner, .ends = {}, .capacitance = values.capacitance / 2, .first_current = {}};
  for (const NodeId node : nodes) part.ends.push_back({node, ground_node});
  const Slot first = assembly.capacitance(std::move(part));
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    currents[k].push_back(value_of({first.index + static_cast<int>(k)}));
  }
}

}  // namespace

EndCurrents add_pi_section(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                           const std::vector<NodeId>& far, const LineMatrices& values) {
  SeriesPart part{.owner = owner,
                  .ends = {},
                  .resistance = values.resistance,
                  .inductance = values.inductance,
                  .elastance = {},
                  .first_current = {},
                  .first_charge_voltage = {}};
  for (std::size_t k = 0; k < near.size(); ++k) part.ends.push_back({near[k], far[k]});
  const Slot first = assembly.series(std::move(part));
  EndCurrents currents{std::vector<Terms>(near.size()), std::vector<Terms>(near.size())};
  for (std::size_t k = 0; k < near.size(); ++k) {
    const Slot current{first.index + static_cast<int>(k)};
    currents.near[k].push_back(value_of(current));
    currents.far[k].push_back(value_of(current, -1));
  }
  add_half_capacitance(assembly, owner, near, values, currents.near);
  add_half_capacitance(assembly, owner, far, values, currents.far);
  return currents;
}

}  // namespace zavrek::emt::internal
