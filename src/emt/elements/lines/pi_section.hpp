// One pi section: series R-L between two sets of nodes, half of the capacitance at either end.
#pragma once

#include "emt/elements/lines/line_values.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// Currents into the section at its two ends, one entry per phase.
struct EndCurrents {
  std::vector<Terms> near;
  std::vector<Terms> far;
};

/// `values` of the whole section.
EndCurrents add_pi_section(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                           const std::vector<NodeId>& far, const LineMatrices& values);

}  // namespace zavrek::emt::internal
