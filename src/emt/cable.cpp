// Cable: a chain of pi sections. Taps (fault places) divide it further; every stretch between two
// taps has `sections` sections. `NAME.i*` flows into the first end, `NAME.i*_far` into the second.
#include "emt/pi_section.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Cable& cable, Assembly& assembly) {
  const std::string owner = "cable." + cable.name;
  const std::vector<Tap> stations = assembly.stations(cable.name, cable.between);
  const std::string letters = assembly.span(owner, cable.between).letters;
  EndCurrents whole;
  for (std::size_t s = 0; s + 1 < stations.size(); ++s) {
    const double length = (stations[s + 1].fraction - stations[s].fraction) * cable.length_m / cable.sections;
    const PiValues values{cable.r1_ohm_per_m * length,
                          cable.x1_ohm_per_m / assembly.omega() * length,
                          cable.c1_F_per_m * length,
                          cable.r0_ohm_per_m * length,
                          cable.x0_ohm_per_m / assembly.omega() * length,
                          cable.c0_F_per_m * length};
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
