// Averaged leg: valves that exist beside it, whose pulses the step averages (groups/leg_group.hpp). The
// valves tie it and start it; the reference follows each pulse of theirs.
#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

std::vector<Ends> leg_ends(const LegPart& part) {
  std::vector<Ends> ends;
  for (const NodeId pole : part.poles) ends.push_back({pole, part.x});
  return ends;
}

class LegKind final : public PartKind {
 public:
  void visit_ends(const Assembly& /*assembly*/,
                  const std::function<void(const Ends&)>& /*visit*/) const override {}
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const LegPart& part : assembly.leg_parts) stamps.reserve(leg_ends(part));
  }
  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (const LegPart& part : lowering.assembly.leg_parts) {
      const auto n = static_cast<Eigen::Index>(part.poles.size());
      lowering.core.legs.add(part, lowering.layout.node_position.data(),
                             lowering.add_adjustable(leg_ends(part), Eigen::MatrixXd::Zero(n, n)));
    }
  }
  void stamp_phasors(Phasors& /*phasors*/) const override {}
};

}  // namespace

const PartKind& leg_kind() { return the_only<LegKind>(); }

}  // namespace zavrek::emt::internal
