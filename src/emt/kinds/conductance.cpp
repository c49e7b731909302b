// Conductance: i = g v.
#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

class ConductanceEquations final : public PartEquations {
 public:
  using PartEquations::PartEquations;

  void hold(ContinuousFrame::Held& held) const override {
    for (const ConductancePart& part : frame_.assembly.conductance_parts) {
      if (part.siemens >= weak_S) held.tied.push_back(part.ends);
    }
  }
  void residual(double /*t*/, const double* /*y*/, const double* /*dy*/, double* f) override {
    for (const ConductancePart& part : frame_.assembly.conductance_parts)
      frame_.add_current(part.ends, part.siemens * frame_.across(part.ends), f);
  }
};

class ConductanceKind final
    : public ListedKind<ConductancePart, &Assembly::conductance_parts, ConductanceEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const ConductancePart& part : assembly.conductance_parts)
      stamps.add({part.ends}, Eigen::MatrixXd::Constant(1, 1, part.siemens));
  }
  /// It has no more than its stamp.
  void lower(const Stamps& /*stamps*/, Lowering& /*lowering*/) const override {}
  void stamp_phasors(Phasors& phasors) const override {
    for (const ConductancePart& part : phasors.assembly.conductance_parts)
      phasors.add(part.ends, part.ends, part.siemens);
  }
};

}  // namespace

const PartKind& conductance_kind() { return the_only<ConductanceKind>(); }

}  // namespace zavrek::emt::internal
