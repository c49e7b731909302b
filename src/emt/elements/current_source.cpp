// Current source: i(t) as a source's voltage (waveform.hpp), into a bus or from one terminal to another: the
// voltage of a node of its own, imposed, drives it through 1 S. `NAME.i*` flows out of it into the network.
#include <numbers>

#include "emt/elements/source.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::CurrentSource& source, Assembly& assembly) {
  const std::string owner = "current_source." + source.name;
  const bool between = !source.from.empty() || !source.to.empty();
  if (between == !source.bus.empty() || source.from.empty() != source.to.empty())
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "bus",
                     .text = "a bus is wanted, or the terminals from and to, not both"});
  std::string letters = "a";
  std::vector<Ends> ends;
  if (between) {
    ends = {{assembly.terminal(owner, "from", source.from), assembly.terminal(owner, "to", source.to)}};
  } else {
    letters = assembly.bus(source.bus).phases;
    for (const NodeId node : assembly.nodes(source.bus)) ends.push_back({ground_node, node});
  }
  const double frequency =
      network::is_set(source.frequency_Hz) ? source.frequency_Hz : assembly.network().frequency_Hz;
  const double peak = frequency == 0 ? source.current_A : std::numbers::sqrt2 * source.current_A;
  const std::size_t waveform = assembly.waveform(shape_of(source, peak, 2 * std::numbers::pi * frequency));
  const std::vector<NodeId> imposed = assembly.new_nodes(source.name + ".current", letters);
  std::vector<Terms> currents;
  for (std::size_t k = 0; k < ends.size(); ++k) {
    const double turn = letters.find('p') != std::string::npos ? 0 : phase_index(letters[k]);
    assembly.impose(imposed[k], owner, waveform, -turn * 2 * std::numbers::pi / 3);
    assembly.drive(ends[k], imposed[k], 1);
    currents.push_back({voltage_of(imposed[k])});
  }
  assembly.phase_signals(source.name + ".i", "A", currents, letters);
}

}  // namespace zavrek::emt::internal
