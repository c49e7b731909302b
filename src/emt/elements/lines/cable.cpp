// Cable: a chain of pi sections. Taps (fault places) divide it further; every stretch between two
// taps has `sections` sections. `NAME.i*` flows into the first end, `NAME.i*_far` into the second.
#include "emt/elements/lines/pi_section.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Cable& cable, Assembly& assembly) {
  const std::string owner = "cable." + cable.name;
  const std::vector<Tap> stations = assembly.stations(cable.name, cable.between);
  const std::string letters = assembly.span(owner, cable.between).letters;
  const LineMatrices per_metre = line_matrices(assembly, owner, letters, values_of(cable));
  EndCurrents whole;
  for (std::size_t s = 0; s + 1 < stations.size(); ++s) {
    const double share = stations[s + 1].fraction - stations[s].fraction;
    const LineMatrices values = per_metre * (share * cable.length_m / cable.sections);
    std::vector<NodeId> near = stations[s].nodes;
    for (int k = 0; k < cable.sections; ++k) {
      const bool last = k + 1 == cable.sections;
      const std::string joint = cable.name + ".joint" + std::to_string(s) + "_" + std::to_string(k + 1);
      const std::vector<NodeId> far = last ? stations[s + 1].nodes : assembly.new_nodes(joint, letters);
      EndCurrents currents = add_pi_section(assembly, owner, near, far, values);
      if (whole.near.empty()) whole.near = std::move(currents.near);
      whole.far = std::move(currents.far);
      near = far;
    }
  }
  assembly.end_currents(cable.name, whole.near, whole.far, letters);
}

}  // namespace zavrek::emt::internal
