// What the kinds of parts ask of the compiler while they take their places in the value array and enter the
// arrays of the step.
#pragma once

#include <utility>
#include <vector>

#include <Eigen/Core>

#include "emt/kinds/stamps.hpp"
#include "emt/parts/layout.hpp"
#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

/// Hands out places behind the node voltages, in two rounds: first those that stand in the lanes of their
/// phases, then all others.
class SlotPlaces {
 public:
  SlotPlaces(const Assembly& assembly, Layout& layout, int first)
      : assembly_(assembly), layout_(layout), position_(first) {}

  void begin_round(bool in_lanes) { in_lanes_ = in_lanes; }
  [[nodiscard]] bool in_lanes() const { return in_lanes_; }
  /// A slot for each of `ends`: a block between groups of nodes in the lanes of its phases.
  void take_block(Slot first, const std::vector<Ends>& ends);
  void take(Slot first, std::size_t count);
  /// `count` places in a row from a whole group of lanes on; returns the first.
  int take_aligned(int count);
  void put(Slot slot, int position) {
    layout_.slot_position[static_cast<std::size_t>(slot.index)] = position;
  }
  [[nodiscard]] int position() const { return position_; }
  [[nodiscard]] Layout& layout() { return layout_; }

 private:
  const Assembly& assembly_;
  Layout& layout_;
  int position_;
  bool in_lanes_ = true;
};

/// Which nodes hang together (compile/topology.hpp finds it).
struct Topology {
  std::vector<bool> known;        // per node: ground or imposed
  std::vector<bool> varies;       // per group: a model whose conductance changes from step to step ends there
  std::vector<int> partition_of;  // per node; -1 when known
  std::vector<std::vector<int>> members;  // per partition: its groups in the order of elimination
  std::vector<bool> condensable;          // per partition
  std::vector<int> shard_of;              // per partition
};

class Lowering {
 public:
  Lowering(Core& the_core, Assembly& the_assembly, const Layout& the_layout, const Topology& topology)
      : core(the_core), assembly(the_assembly), layout(the_layout), topology_(topology) {}

  Core& core;
  Assembly& assembly;
  const Layout& layout;

  [[nodiscard]] double step_s() const { return core.options.step_s; }
  [[nodiscard]] int at(Slot slot) const {
    return slot.index < 0 ? -1 : layout.slot_position[static_cast<std::size_t>(slot.index)];
  }
  [[nodiscard]] int at(NodeId node) const { return layout.node_position[static_cast<std::size_t>(node)]; }
  [[nodiscard]] double& start_value(Slot slot) const {
    return core.at.present[static_cast<std::size_t>(at(slot))];
  }
  /// Position of a part's first value, or of the group of lanes that holds it.
  [[nodiscard]] int base(Slot first, const std::vector<Ends>& ends) const;
  /// Positions of the groups of lanes that a block lies between.
  [[nodiscard]] std::pair<int, int> group_ends(const std::vector<Ends>& ends) const;
  /// Of a block; the vector of lanes holds its phases in their places, zeros elsewhere.
  [[nodiscard]] Eigen::MatrixXd in_lanes(const Eigen::MatrixXd& matrix, const std::vector<Ends>& ends) const;

  /// The shard of the nodes that a part acts on: all in one partition; the last for a part between known
  /// nodes.
  [[nodiscard]] Shard& shard_of(const std::vector<Ends>& ends);
  /// Or will be: its partition stands alone in it.
  [[nodiscard]] bool is_condensed(const Shard& shard) const;
  [[nodiscard]] std::vector<Coupling>& couplings_of(NodeId node) {
    return core.shards[static_cast<std::size_t>(shard_number(node))].couplings;
  }

  /// Currents of capacitances from `first` on; stretches next to each other are one.
  void enter_charging(int first, int count);
  /// Enters the adjustable conductances of a block of n ends, n * n of them row by row, where they act;
  /// returns the number of the first.
  int add_adjustable(const std::vector<Ends>& ends, const Eigen::MatrixXd& siemens);

 private:
  void enter_adjustable(NodeId row, NodeId column, int number, double sign);
  [[nodiscard]] int shard_number(NodeId node) const {
    const int partition = topology_.partition_of[static_cast<std::size_t>(node)];
    return topology_.shard_of[static_cast<std::size_t>(partition)];
  }

  const Topology& topology_;
};

}  // namespace zavrek::emt::internal
