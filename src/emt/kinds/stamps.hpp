// The conductances that the parts of an assembly contribute to the nodal matrix.
#pragma once

#include <vector>

#include <Eigen/Core>

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

  /// The n x n conductance of a block of n ends.
  void add(const std::vector<Ends>& ends, const Eigen::MatrixXd& g, bool keep_zeros = false) {
    for (std::size_t k = 0; k < ends.size(); ++k) {
      for (std::size_t m = 0; m < ends.size(); ++m) {
        const double value = g(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m));
        if (value == 0 && !keep_zeros) continue;
        entries.push_back({ends[k].p, ends[m].p, value});
        entries.push_back({ends[k].q, ends[m].q, value});
        entries.push_back({ends[k].p, ends[m].q, -value});
        entries.push_back({ends[k].q, ends[m].p, -value});
      }
    }
  }
  /// Room for conductances that change while the plant runs.
  void reserve(const std::vector<Ends>& ends) {
    const auto n = static_cast<Eigen::Index>(ends.size());
    add(ends, Eigen::MatrixXd::Zero(n, n), true);
  }
};

}  // namespace zavrek::emt::internal
