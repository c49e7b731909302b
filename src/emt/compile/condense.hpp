// Condensing (condensed.hpp) as the compiler does it: which partitions, where their numbers stand, and what
// acts on them from outside.
#pragma once

#include <vector>

#include "emt/compile/topology.hpp"
#include "emt/parts/layout.hpp"
#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

/// Which partitions are worth condensing: small ones with valves, whose conductances are a matter of their
/// switches alone.
[[nodiscard]] std::vector<bool> find_condensable(const Assembly& assembly, const Topology& topology);

/// Makes room at the end of the value array for the numbers of each condensed shard; one entry per shard. The
/// parts of the shards stand already.
[[nodiscard]] std::vector<Condensed::Places> place_condensed_shards(const Assembly& assembly,
                                                                    const std::vector<bool>& condensable,
                                                                    Core& core, Layout& layout);

/// Condenses those shards of a plant whose parts, switches and models stand.
void condense(const Assembly& assembly, const Layout& layout, const std::vector<bool>& condensable,
              const std::vector<Condensed::Places>& places, Core& core);

}  // namespace zavrek::emt::internal
