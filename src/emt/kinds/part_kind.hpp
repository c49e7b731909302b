// The kinds of parts (parts.hpp), and all that is known of one: what it ties together, its stamp, its place
// in the value array, its phasors, its rows in the arrays of the step, its continuous equations. The
// compiler, the steady state and the reference only walk along the kinds; what differs stands in one source
// each.
#pragma once

#include <algorithm>
#include <functional>
#include <memory>
#include <span>
#include <vector>

#include "emt/kinds/equations.hpp"
#include "emt/kinds/lowering.hpp"
#include "emt/kinds/phasors.hpp"
#include "emt/kinds/stamps.hpp"

namespace zavrek::emt::internal {

/// All parts of one kind that an assembly has.
class PartKind {
 public:
  PartKind() = default;
  PartKind(const PartKind&) = delete;
  PartKind& operator=(const PartKind&) = delete;
  virtual ~PartKind() = default;

  /// Each pair of nodes that a part holds together.
  virtual void visit_ends(const Assembly& assembly, const std::function<void(const Ends&)>& visit) const = 0;
  /// Conductances of a step, and room for those that change. Throws Error that names the element of a part
  /// without impedance.
  virtual void stamp(const Assembly& assembly, Stamps& stamps) const = 0;
  /// Places for its slots.
  virtual void place(const Assembly& /*assembly*/, SlotPlaces& /*places*/) const {}
  /// Rows in the arrays of the step.
  virtual void lower(const Stamps& stamps, Lowering& lowering) const = 0;
  /// Admittances at the frequency of `phasors`.
  virtual void stamp_phasors(Phasors& phasors) const = 0;
  /// Its slots, from the phasors of the nodes.
  virtual void put_phasors(Phasors& /*phasors*/) const {}
  /// What else the first instant asks, when the voltages stand.
  virtual void start(Lowering& /*lowering*/) const {}
  /// Into a summary: states, the longest step that holds.
  virtual void count(const Lowering& /*lowering*/, Summary& /*summary*/) const {}
  /// Its equations in the reference; none of a kind that only stands in for others.
  [[nodiscard]] virtual std::unique_ptr<PartEquations> equations(ContinuousFrame& /*frame*/) const {
    return nullptr;
  }
};

/// The usual kind: its parts stand in one list of the assembly and hold all their ends together.
template <class Part, std::vector<Part> Assembly::*parts, class Equations>
class ListedKind : public PartKind {
 public:
  void visit_ends(const Assembly& assembly, const std::function<void(const Ends&)>& visit) const override {
    for (const Part& part : assembly.*parts) {
      if constexpr (requires { part.ends.size(); }) {
        std::for_each(part.ends.begin(), part.ends.end(), visit);
      } else {
        visit(part.ends);
      }
    }
  }
  [[nodiscard]] std::unique_ptr<PartEquations> equations(ContinuousFrame& frame) const override {
    return std::make_unique<Equations>(frame);
  }
};

template <class Kind>
[[nodiscard]] const PartKind& the_only() {
  static const Kind kind;
  return kind;
}

const PartKind& series_kind();
const PartKind& capacitance_kind();
const PartKind& conductance_kind();
const PartKind& drive_kind();
const PartKind& pole_kind();
const PartKind& segment_kind();
const PartKind& valve_kind();
const PartKind& leg_kind();
const PartKind& model_kind();
const PartKind& wave_kind();

/// In the order in which they are worked on.
[[nodiscard]] std::span<const PartKind* const> part_kinds();

}  // namespace zavrek::emt::internal
