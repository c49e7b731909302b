// The factored nodal matrix, partition by partition, and the conductances in it that may change: of poles,
// segments, valves, legs and models. A change marks the columns that it reaches; they are made anew together
// (Core::refactor).
#pragma once

#include <cassert>
#include <vector>

#include "emt/solve/partition.hpp"

namespace zavrek::emt::internal {

/// A column of a partition's factors.
struct PartitionColumn {
  int partition, column;
  friend bool operator==(const PartitionColumn&, const PartitionColumn&) = default;
};

/// A conductance between an unknown and a known node: rhs[row] += siemens * v[known].
struct Coupling {
  int row, known;
  double siemens;
};

/// A coupling (its number in the shard) whose conductance is `sign` times an adjustable one.
struct DrivenCoupling {
  int coupling, number;
  double sign;
};

struct Conductances {
  std::vector<Partition> partitions;
  std::vector<double> adjustable;                     // S, by number
  std::vector<std::vector<PartitionColumn>> columns;  // per number: where it stands
  bool stale = false;                                 // some partition must be refactored

  void adjust(int number, double siemens) noexcept {
    assert(number >= 0 && static_cast<std::size_t>(number) < adjustable.size());
    adjustable[static_cast<std::size_t>(number)] = siemens;
    mark(columns[static_cast<std::size_t>(number)]);
  }
  void mark(const std::vector<PartitionColumn>& which) noexcept {
    for (const auto& [partition, column] : which)
      partitions[static_cast<std::size_t>(partition)].mark(column);
    stale = true;
  }
  [[nodiscard]] double siemens(int number) const noexcept {
    return adjustable[static_cast<std::size_t>(number)];
  }
};

}  // namespace zavrek::emt::internal
