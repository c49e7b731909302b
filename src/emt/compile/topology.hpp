// Which nodes hang together: floating ones, partitions, and the order of elimination.
#pragma once

#include <vector>

#include "emt/compile/stamps.hpp"

namespace zavrek::emt::internal {

struct Topology {
  std::vector<bool> known;        // per node: ground or imposed
  std::vector<bool> varies;       // per group: a model whose conductance changes from step to step ends there
  std::vector<int> partition_of;  // per node; -1 when known
  std::vector<std::vector<int>> members;  // per partition: its groups in the order of elimination
};

/// Throws Error with every bus that nothing ties to ground.
void refuse_floating(const Assembly& assembly);

/// Groups of nodes that a conductance or a pole joins make a partition; within each the groups are ordered
/// for little fill (constrained minimum degree), those of varying models late: each step refactors the
/// columns from them on.
[[nodiscard]] Topology find_topology(const Assembly& assembly, const std::vector<Entry>& entries);

}  // namespace zavrek::emt::internal
