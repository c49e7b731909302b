// Line end: one end of a line of constant parameters, as stretch.hpp has it; waves leave for the far end and
// come from there as its partner tells. They travel for some steps, and what is told comes well ahead of
// them.
#include "emt/elements/lines/stretch.hpp"
#include "zavrek/network/phasor.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr double most_V = 1e9;

}  // namespace

template <>
void assemble(const network::LineEnd& line, Assembly& assembly) {
  const std::string owner = "line_end." + line.name;
  const std::string letters = assembly.bus(line.bus).phases;
  const std::vector<NodeId> nodes = assembly.nodes(line.bus);
  FarEnd far{.arriving = {}, .delay_steps = line.delay_steps, .starts_with = {}};
  const PhasorsThere there{network::parse_phasors(owner, "far_voltage", line.far_voltage, "V", nodes.size()),
                           network::parse_phasors(owner, "far_current", line.far_current, "A", nodes.size())};
  for (const char* name : {".arriving_", ".arrived_"}) {
    for (const char letter : letters)
      far.arriving.push_back(assembly.knob(line.name + name + letter, "V", 0, -most_V, most_V, true));
  }
  const CrossSection section(owner, line_matrices(assembly, owner, letters, values_of(line)), line.length_m,
                             line.geometry.empty()
                                 ? nullptr
                                 : &geometry_of(assembly, owner, conductor_names(letters), line.geometry),
                             {});
  const OneEnd made = section.add_end(assembly, nodes, line.length_m, std::move(far), there);
  assembly.phase_signals(line.name + ".i", "A", made.currents, letters);
  assembly.phase_signals(line.name + ".leaving_", "V", made.leaving, letters);
  assembly.phase_signals(line.name + ".left_", "V", made.left, letters);
}

}  // namespace zavrek::emt::internal
