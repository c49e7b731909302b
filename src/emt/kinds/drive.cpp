// Drive: i = g v of an imposed node, whatever lies between its ends: a current source. To the step it is a
// coupling to that node, and no more.
#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

class DriveEquations final : public PartEquations {
 public:
  using PartEquations::PartEquations;

  void hold(ContinuousFrame::Held& /*held*/) const override {}
  void residual(double t, const double* /*y*/, const double* dy, double* f) override {
    for (const DrivePart& part : frame_.assembly.drive_parts) {
      frame_.add_current(part.ends, part.siemens * frame_.node(part.node), f);
      frame_.add_slope(part.ends, part.siemens * frame_.rate_across({part.node, ground_node}, dy, t));
    }
  }
};

class DriveKind final : public ListedKind<DrivePart, &Assembly::drive_parts, DriveEquations> {
 public:
  /// It holds nothing: a node that only it feeds floats.
  void visit_ends(const Assembly& /*assembly*/,
                  const std::function<void(const Ends&)>& /*visit*/) const override {}
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const DrivePart& part : assembly.drive_parts) {
      stamps.entries.push_back({part.ends.p, part.node, part.siemens});
      stamps.entries.push_back({part.ends.q, part.node, -part.siemens});
    }
  }
  void lower(const Stamps& /*stamps*/, Lowering& /*lowering*/) const override {}
  void stamp_phasors(Phasors& phasors) const override {
    for (const DrivePart& part : phasors.assembly.drive_parts) {
      phasors.add(part.ends.p, part.node, part.siemens);
      phasors.add(part.ends.q, part.node, -part.siemens);
    }
  }
};

}  // namespace

const PartKind& drive_kind() { return the_only<DriveKind>(); }

}  // namespace zavrek::emt::internal
