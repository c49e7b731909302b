// How a shunt element (load, capacitor, reactor, filter, arrester) is joined to the phases of its bus.
#pragma once

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

struct Terminals {
  std::vector<Ends> ends;     // one per phase of the element; two phases in delta make one
  std::string letters;        // phases that it touches
  std::vector<NodeId> nodes;  // per letter
  double nominal_V = 0;       // rms across an end
};

/// `phases` empty: all of the bus. `connection`: "star" (isolated where three phases are), "grounded star",
/// "delta".
[[nodiscard]] Terminals connect(Assembly& assembly, const std::string& owner, const std::string& bus,
                                const std::string& phases, const std::string& connection);

/// Signals NAME.ia ..., the currents from the bus into the element.
void terminal_signals(Assembly& assembly, const std::string& name, const Terminals& at,
                      const std::vector<Slot>& currents);

}  // namespace zavrek::emt::internal
