#include "emt/kinds/lowering.hpp"

#include <algorithm>

namespace zavrek::emt::internal {

void SlotPlaces::take_block(Slot first, const std::vector<Ends>& ends) {
  if (assembly_.between_groups(ends) != in_lanes_) return;
  if (!in_lanes_) return take(first, ends.size());
  for (std::size_t k = 0; k < ends.size(); ++k)
    put({first.index + static_cast<int>(k)}, position_ + assembly_.lane_of(ends[k]));
  position_ += lanes;
}

void SlotPlaces::take(Slot first, std::size_t count) {
  if (in_lanes_) return;
  for (std::size_t k = 0; k < count; ++k) put({first.index + static_cast<int>(k)}, position_++);
}

int SlotPlaces::take_aligned(int count) {
  const int first = (position_ + lanes - 1) / lanes * lanes;
  position_ = first + count;
  return first;
}

int Lowering::base(Slot first, const std::vector<Ends>& ends) const {
  if (first.index < 0) return -1;
  return at(first) - (assembly.between_groups(ends) ? assembly.lane_of(ends[0]) : 0);
}

std::pair<int, int> Lowering::group_ends(const std::vector<Ends>& ends) const {
  const int lane = assembly.lane_of(ends[0]);
  return {ends[0].p == ground_node ? 0 : at(ends[0].p) - lane,
          ends[0].q == ground_node ? 0 : at(ends[0].q) - lane};
}

Eigen::MatrixXd Lowering::in_lanes(const Eigen::MatrixXd& matrix, const std::vector<Ends>& ends) const {
  Eigen::MatrixXd wide = Eigen::MatrixXd::Zero(3, 3);
  for (Eigen::Index r = 0; r < matrix.rows(); ++r) {
    for (Eigen::Index c = 0; c < matrix.cols(); ++c)
      wide(assembly.lane_of(ends[static_cast<std::size_t>(r)]),
           assembly.lane_of(ends[static_cast<std::size_t>(c)])) = matrix(r, c);
  }
  return wide;
}

Shard& Lowering::shard_of(const std::vector<Ends>& ends) {
  for (const Ends& e : ends) {
    for (const NodeId node : {e.p, e.q}) {
      for (Shard& shard : core.shards) {
        if (at(node) >= shard.first && at(node) < shard.end) return shard;
      }
    }
  }
  return core.shards.back();
}

bool Lowering::is_condensed(const Shard& shard) const {
  const auto partition = static_cast<std::size_t>(shard.first_partition);
  return partition < topology_.condensable.size() && topology_.condensable[partition];
}

void Lowering::enter_charging(int first, int count) {
  auto& all = core.map.capacitor_currents;
  if (!all.empty() && all.back().first + all.back().second == first) {
    all.back().second += count;
  } else {
    all.emplace_back(first, count);
  }
}

int Lowering::add_adjustable(const std::vector<Ends>& ends, const Eigen::MatrixXd& siemens) {
  const int first = static_cast<int>(core.conductances.adjustable.size());
  for (std::size_t k = 0; k < ends.size(); ++k) {
    for (std::size_t m = 0; m < ends.size(); ++m) {
      const int number = first + static_cast<int>(k * ends.size() + m);
      core.conductances.adjustable.push_back(
          siemens(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)));
      core.conductances.columns.emplace_back();
      enter_adjustable(ends[k].p, ends[m].p, number, 1);
      enter_adjustable(ends[k].q, ends[m].q, number, 1);
      enter_adjustable(ends[k].p, ends[m].q, number, -1);
      enter_adjustable(ends[k].q, ends[m].p, number, -1);
    }
  }
  return first;
}

void Lowering::enter_adjustable(NodeId row, NodeId column, int number, double sign) {
  if (topology_.known[static_cast<std::size_t>(row)]) return;
  if (topology_.known[static_cast<std::size_t>(column)]) {
    if (column == ground_node) return;
    auto& couplings = couplings_of(row);
    core.shards[static_cast<std::size_t>(shard_number(row))].driven.push_back(
        {static_cast<int>(couplings.size()), number, -sign});
    couplings.push_back({at(row), at(column), 0});
    return;
  }
  const int partition = topology_.partition_of[static_cast<std::size_t>(row)];
  Partition& where = core.conductances.partitions[static_cast<std::size_t>(partition)];
  const PartitionColumn mark{
      partition, where.add_adjustable(at(row) - where.first(), at(column) - where.first(), number, sign)};
  auto& all = core.conductances.columns[static_cast<std::size_t>(number)];
  if (std::find(all.begin(), all.end(), mark) == all.end()) all.push_back(mark);
}

}  // namespace zavrek::emt::internal
