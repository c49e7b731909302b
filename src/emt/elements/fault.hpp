#pragma once

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// Poles between the phases at the place of each fault of the network, open at the start, as one operable
/// named after the fault; lines, cables and windings get nodes at their places, so faults come before
/// elements. Throws Error that names a fault without a place.
void assemble_faults(Assembly& assembly);

}  // namespace zavrek::emt::internal
