// The compiler at work: what it has made so far, stage after stage. compile.cpp tells the order of the
// stages, layout.cpp gives everything its place, lower.cpp fills the arrays of the step, start.cpp makes the
// first instant. What differs from one kind of part to another stands in kinds/.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "emt/compile/compile.hpp"
#include "emt/compile/condense.hpp"
#include "emt/compile/topology.hpp"
#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {

class Compiler {
 public:
  Compiler(const network::Network& network, double step_s, Condensing condensing)
      : network_(network),
        condensing_(condensing),
        assembly_owner_(std::make_unique<Assembly>(network, step_s)),
        assembly_(*assembly_owner_),
        core_(std::make_unique<Core>()),
        lowering_(*core_, assembly_, layout_, topology_) {
    core_->options.step_s = step_s;
  }

  Compiled run();

 private:
  // --- compile.cpp -------------------------------------------------------------------------------
  void assemble_elements();
  /// A bank across a stiff source: each step of the source would be an impulse of current.
  void refuse_capacitor_loops() const;
  void stamp();
  void build_partitions();
  void factor();
  void refuse_singular(int first, int local) const;
  void summarise();

  // --- layout.cpp --------------------------------------------------------------------------------
  void place(const std::vector<NodeId>& nodes, int& position);
  void lay_out();
  /// Partitions of about equal work side by side. A small plant is one shard; a condensed partition is a
  /// shard of its own.
  void bound_voltages();
  void divide_in_shards();
  [[nodiscard]] bool has_parts_between_known_nodes() const;
  /// The numbers of condensed shards come last in the value array.
  void place_condensed();
  /// Currents of blocks between groups of nodes stand in the lanes of their phases; shares of merged
  /// capacitances take no place.
  void place_slots(int& position);

  // --- lower.cpp ---------------------------------------------------------------------------------
  void lower_parts();
  void lower_signals();
  void resolve_interlocking(Operable& operable) const;

  // --- start.cpp ---------------------------------------------------------------------------------
  void start();
  void start_model(std::size_t k, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i);
  void start_steady();
  /// Half of the voltage on either side: what grounds the capacitance decides where it really lies.
  void start_charged();

  [[nodiscard]] const std::vector<NodeId>& group(int number) const {
    return assembly_.groups()[static_cast<std::size_t>(number)];
  }
  [[nodiscard]] int at(Slot slot) const { return lowering_.at(slot); }
  [[nodiscard]] int at(NodeId node) const { return lowering_.at(node); }
  /// Position of a group's first lane.
  [[nodiscard]] int base(int number) const {
    const NodeId node = group(number)[0];
    return at(node) - assembly_.lane_of(node);
  }

  const network::Network& network_;
  Condensing condensing_;
  std::unique_ptr<Assembly> assembly_owner_;
  Assembly& assembly_;
  std::unique_ptr<Core> core_;
  Layout layout_;
  Stamps stamps_;
  Topology topology_;
  Lowering lowering_;
  std::vector<Condensed::Places> condensed_places_;  // per shard
};

}  // namespace zavrek::emt::internal
