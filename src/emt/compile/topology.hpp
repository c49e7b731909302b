// Which nodes hang together: floating ones, partitions, and the order of elimination.
#pragma once

#include <vector>

#include "emt/kinds/lowering.hpp"
#include "emt/kinds/stamps.hpp"

namespace zavrek::emt::internal {

/// Throws Error with every bus that nothing ties to ground.
void refuse_floating(const Assembly& assembly);

/// Notes on buses that valves alone tie to ground.
void note_held_by_valves(Assembly& assembly);
/// How such a note goes on behind the name of the bus.
inline constexpr const char* held_by_valves = "nothing but valves ties it to ground";

/// Groups of nodes that a conductance or a pole joins make a partition; within each the groups are ordered
/// for little fill (constrained minimum degree), those of varying models late: each step refactors the
/// columns from them on.
[[nodiscard]] Topology find_topology(const Assembly& assembly, const std::vector<Entry>& entries);

}  // namespace zavrek::emt::internal
