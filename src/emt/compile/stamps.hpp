// The conductances that the parts of an assembly contribute to the nodal matrix, poles excepted.
#pragma once

#include <vector>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// One contribution to the entry (row, column) of the nodal matrix.
struct Entry {
  NodeId row, column;
  double siemens;
};

struct Stamps {
  std::vector<Entry> entries;
  std::vector<Eigen::MatrixXd> series_conductance;  // per series part: G = (R + 2L/h + hS/2)^-1
};

/// Throws Error that names the element of a part without impedance.
[[nodiscard]] Stamps stamp_parts(const Assembly& assembly);

}  // namespace zavrek::emt::internal
