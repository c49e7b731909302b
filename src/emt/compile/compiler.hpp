// The compiler at work: what it has made so far, stage after stage. compile.cpp tells the order of the
// stages, compile_layout.cpp gives everything its place, compile_lower.cpp fills the arrays of the step,
// compile_start.cpp makes the first instant.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "emt/compile/compile.hpp"
#include "emt/compile/condense.hpp"
#include "emt/compile/topology.hpp"
#include "emt/steady/steady.hpp"

namespace zavrek::emt::internal {

class Compiler {
 public:
  Compiler(const network::Network& network, double step_s)
      : network_(network),
        assembly_owner_(std::make_unique<Assembly>(network, step_s)),
        assembly_(*assembly_owner_),
        core_(std::make_unique<Core>()) {
    core_->options.step_s = step_s;
  }

  Compiled run();

 private:
  // --- compile.cpp -------------------------------------------------------------------------------
  void assemble_elements();
  /// A bank across a stiff source: each step of the source would be an impulse of current.
  void refuse_capacitor_loops() const;
  void factor();
  void refuse_singular(int first, int local) const;
  void summarise();

  // --- compile_layout.cpp ------------------------------------------------------------------------
  void place(const std::vector<NodeId>& nodes, int& position);
  void lay_out();
  /// Partitions of about equal work side by side. A small plant is one shard; a condensed partition is a
  /// shard of its own.
  void divide_in_shards();
  [[nodiscard]] bool has_parts_between_known_nodes() const;
  /// The numbers of condensed shards come last in the value array.
  void place_condensed();
  /// The shard of the nodes that a part acts on: all in one partition; the last for a part between known
  /// nodes.
  [[nodiscard]] Shard& shard_of(const std::vector<Ends>& ends);
  /// Currents of blocks between groups of nodes stand in the lanes of their phases; shares of merged
  /// capacitances take no place.
  void place_slots(int& position);
  /// Voltages, currents and conduction of all valves, each in whole lanes.
  void place_valves(int& position);

  // --- compile_lower.cpp -------------------------------------------------------------------------
  /// The vector of lanes holds a block's phases in their places, zeros elsewhere.
  [[nodiscard]] Eigen::MatrixXd in_lanes(const Eigen::MatrixXd& matrix, const std::vector<Ends>& ends) const;
  void lower_series(const SeriesPart& part, const Eigen::MatrixXd& g);
  void enter_charging(int first, int count);
  void lower_parts();
  /// Enters the adjustable conductances of a block of n ends, n * n of them row by row, where they act;
  /// returns the number of the first.
  int add_adjustable(const std::vector<Ends>& ends, const Eigen::MatrixXd& siemens);
  void enter_adjustable(NodeId row, NodeId column, int number, double sign);
  void lower_poles();
  void lower_segments();
  void lower_valves();
  void lower_legs();
  void lower_models();
  void lower_signals();
  void resolve_interlocking(Operable& operable) const;

  // --- compile_start.cpp -------------------------------------------------------------------------
  void start();
  void start_model(std::size_t k, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i);
  void start_steady();
  /// Half of the voltage on either side: what grounds the capacitance decides where it really lies.
  void start_charged();
  /// A bent characteristic starts on the piece that its state lies on; one that nothing drives keeps its
  /// residual flux.
  void start_segments();

  [[nodiscard]] const std::vector<NodeId>& group(int number) const {
    return assembly_.groups()[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] int at(Slot slot) const {
    return slot.index < 0 ? -1 : layout_.slot_position[static_cast<std::size_t>(slot.index)];
  }
  /// Position of a group's first lane.
  [[nodiscard]] int base(int number) const {
    const NodeId node = group(number)[0];
    return at(node) - assembly_.lane_of(node);
  }
  [[nodiscard]] int at(NodeId node) const { return layout_.node_position[static_cast<std::size_t>(node)]; }
  /// Position of a part's first value, or of the group of lanes that holds it.
  [[nodiscard]] int base(Slot first, const std::vector<Ends>& ends) const {
    if (first.index < 0) return -1;
    return at(first) - (assembly_.between_groups(ends) ? assembly_.lane_of(ends[0]) : 0);
  }
  /// Positions of the groups of lanes that a block lies between.
  [[nodiscard]] std::pair<int, int> group_ends(const std::vector<Ends>& ends) const {
    const int lane = assembly_.lane_of(ends[0]);
    return {ends[0].p == ground_node ? 0 : at(ends[0].p) - lane,
            ends[0].q == ground_node ? 0 : at(ends[0].q) - lane};
  }
  /// Or will be: its partition stands alone in it.
  [[nodiscard]] bool is_condensed(const Shard& shard) const {
    const auto partition = static_cast<std::size_t>(shard.first_partition);
    return partition < condensable_.size() && condensable_[partition];
  }
  [[nodiscard]] int shard_number(NodeId node) const {
    const int partition = topology_.partition_of[static_cast<std::size_t>(node)];
    return shard_of_partition_[static_cast<std::size_t>(partition)];
  }
  [[nodiscard]] std::vector<Coupling>& couplings_of(NodeId node) {
    return core_->shards[static_cast<std::size_t>(shard_number(node))].couplings;
  }

  const network::Network& network_;
  std::unique_ptr<Assembly> assembly_owner_;
  Assembly& assembly_;
  std::unique_ptr<Core> core_;
  Layout layout_;
  Stamps stamps_;
  Topology topology_;
  std::vector<bool> condensable_;                    // per partition
  std::vector<int> shard_of_partition_;              // per partition
  int valves_at_ = 0;                                // position of their values
  std::vector<Condensed::Places> condensed_places_;  // per shard
};

}  // namespace zavrek::emt::internal
