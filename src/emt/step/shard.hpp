#pragma once

#include <memory>
#include <vector>

#include "emt/condensed/condensed.hpp"
#include "emt/groups/conductances.hpp"
#include "emt/groups/part_groups.hpp"

namespace zavrek::emt::internal {

/// Partitions next to each other, with the parts whose history currents act on them. Shards share nothing
/// while they are worked on, so that several cores may take one each; how many do changes no bit.
struct Shard {
  int first_partition, end_partition;
  int first, end;  // positions of its node voltages
  PartGroups parts{};
  std::vector<Coupling> couplings{};
  std::vector<DrivenCoupling> driven{};
  std::unique_ptr<Condensed> condensed{};  // of one partition only

  Shard(int partition, int position)
      : first_partition(partition), end_partition(partition), first(position), end(position) {}
  /// Without what is condensed: that looks at parts of its own plant.
  Shard(const Shard& other)
      : first_partition(other.first_partition),
        end_partition(other.end_partition),
        first(other.first),
        end(other.end),
        parts(other.parts),
        couplings(other.couplings),
        driven(other.driven) {}
  Shard(Shard&&) = default;
  Shard& operator=(const Shard&) = delete;
};

}  // namespace zavrek::emt::internal
