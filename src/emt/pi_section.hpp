// One pi section: series R-L between two sets of nodes, half of the capacitance at either end.
#pragma once

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {

/// Sequence values of a whole section.
struct PiValues {
  double r1_ohm, l1_H, c1_F;
  double r0_ohm, l0_H, c0_F;
};

/// Currents into the section at its two ends, one entry per phase.
struct EndCurrents {
  std::vector<Terms> near;
  std::vector<Terms> far;
};

EndCurrents add_pi_section(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                           const std::vector<NodeId>& far, const PiValues& values);

}  // namespace zavrek::emt::internal
