// Imposed voltage: v(t) of each phase of a bus is what its knob says, at the end of a step as it stands by
// then; a knob that moves at every step is no discontinuity. `NAME.i*` is what all else draws from the bus.
#include <cmath>

#include "emt/parts/assembly.hpp"
#include "zavrek/network/phasor.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double highest_V = 1e9;

}  // namespace

template <>
void assemble(const network::ImposedVoltage& imposed, Assembly& assembly) {
  const std::string owner = "imposed_voltage." + imposed.name;
  const std::string letters = assembly.bus(imposed.bus).phases;
  const std::vector<NodeId> nodes = assembly.nodes(imposed.bus);
  const std::vector<std::complex<double>> start =
      network::parse_phasors(owner, "starts_with", imposed.starts_with, "V", nodes.size());
  assembly.tell_each_step();
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    const Slot knob =
        assembly.knob(imposed.name + "." + letters[k], "V", start[k].real(), -highest_V, highest_V, true);
    // What it starts with is a sinusoid, in the steady state alone.
    const std::size_t waveform =
        assembly.waveform(Waveform(std::abs(start[k]), assembly.omega(), std::arg(start[k])));
    assembly.impose(nodes[k], owner, waveform, 0, knob);
  }
}

}  // namespace zavrek::emt::internal
