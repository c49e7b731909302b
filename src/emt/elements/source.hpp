#pragma once

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// The currents of stiff sources, as signals: what all else draws from their nodes, so they come behind it.
void assemble_stiff_currents(Assembly& assembly);

}  // namespace zavrek::emt::internal
