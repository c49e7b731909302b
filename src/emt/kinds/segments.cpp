// Chain of straight segments, odd about zero: i = curve(x) with x the voltage (arrester) or the flux linkage,
// x' = v (saturable inductance).
//   step        the conductance of the piece that x lies on, and its residue as a history current
//   continuous  unknown x of a flux linkage alone
#include <algorithm>
#include <cmath>

#include "emt/kinds/part_kind.hpp"

namespace zavrek::emt::internal {
namespace {

double curve(const SegmentPart& part, double x) {
  const network::Points& c = part.corners;
  const double magnitude = std::abs(x);
  std::size_t k = 0;
  while (k + 1 < c.size() && c[k].x < magnitude) ++k;
  const double x0 = k == 0 ? 0 : c[k - 1].x, y0 = k == 0 ? 0 : c[k - 1].y;
  return std::copysign(y0 + (magnitude - x0) * (c[k].y - y0) / (c[k].x - x0), x);
}

double curve_slope(const SegmentPart& part, double x) {
  const double d = 1e-7 * part.corners.front().x;
  return (curve(part, x + d) - curve(part, x - d)) / (2 * d);
}

double slope_at_zero(const SegmentPart& part) { return part.corners.front().y / part.corners.front().x; }

/// The piece around zero.
std::complex<double> segment_admittance(const SegmentPart& part, std::complex<double> s) {
  return part.inductive ? slope_at_zero(part) / s : std::complex<double>(slope_at_zero(part));
}

class SegmentEquations final : public PartEquations {
 public:
  explicit SegmentEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const SegmentPart& part : frame.assembly.segment_parts) {
      flux_at_.push_back(part.inductive ? frame.take(1, part.owner, part.corners.front().x,
                                                     {.differential = true, .bent = true})
                                        : -1);
      if (!part.inductive) frame.bend_all();
    }
  }

  void hold(ContinuousFrame::Held& held) const override {
    for (const SegmentPart& part : frame_.assembly.segment_parts) {
      if (part.inductive) {
        held.inductive.push_back(part.ends);
      } else if (slope_at_zero(part) >= weak_S) {
        held.tied.push_back(part.ends);
      }
    }
  }
  void start(double* y) const override {
    for (std::size_t k = 0; k < flux_at_.size(); ++k) {
      if (flux_at_[k] >= 0) y[flux_at_[k]] = frame_.value(part(k).state);
    }
  }
  void read(double /*t*/, const double* y) override {
    for (std::size_t k = 0; k < flux_at_.size(); ++k) {
      const double x = flux_at_[k] >= 0 ? y[flux_at_[k]] : frame_.across(part(k).ends);
      frame_.value(part(k).state) = x;
      frame_.value(part(k).current) = curve(part(k), x);
    }
  }
  void residual(double /*t*/, const double* y, const double* dy, double* f) override {
    for (std::size_t k = 0; k < flux_at_.size(); ++k) {
      const int at = flux_at_[k];
      const double v = frame_.across(part(k).ends);
      const double x = at >= 0 ? y[at] : v;
      frame_.add_current(part(k).ends, curve(part(k), x), f);
      if (at < 0) continue;
      f[at] = dy[at] - v;
      frame_.add_slope(part(k).ends, curve_slope(part(k), x) * v);
    }
  }

 private:
  [[nodiscard]] const SegmentPart& part(std::size_t k) const { return frame_.assembly.segment_parts[k]; }
  std::vector<int> flux_at_;  // per part: among the unknowns; -1 of one over voltage
};

class SegmentKind final : public ListedKind<SegmentPart, &Assembly::segment_parts, SegmentEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const SegmentPart& part : assembly.segment_parts) stamps.reserve({part.ends});
  }
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const SegmentPart& part : assembly.segment_parts) {
      places.take(part.current, 1);
      places.take(part.state, 1);
    }
  }

  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    SegmentGroup& segments = lowering.core.segments;
    for (const SegmentPart& part : lowering.assembly.segment_parts) {
      const int number = lowering.add_adjustable({part.ends}, Eigen::MatrixXd::Zero(1, 1));
      segments.add(part, lowering.step_s(), lowering.layout.node_position.data(), lowering.at(part.current),
                   lowering.at(part.state), number);
      lowering.core.conductances.adjustable[static_cast<std::size_t>(number)] =
          segments.siemens(segments.size() - 1);
    }
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const SegmentPart& part : phasors.assembly.segment_parts)
      phasors.add(part.ends, part.ends, segment_admittance(part, phasors.s));
  }
  void put_phasors(Phasors& phasors) const override {
    for (const SegmentPart& part : phasors.assembly.segment_parts) {
      const Eigen::VectorXcd v = phasors.across({part.ends});
      phasors.put(part.state, part.inductive ? Eigen::VectorXcd(v / phasors.s) : v);
      phasors.put(part.current, segment_admittance(part, phasors.s) * v);
    }
  }

  /// It starts on the piece that its state lies on; one that nothing drives keeps its residual flux.
  void start(Lowering& lowering) const override {
    Core& core = lowering.core;
    for (std::size_t k = 0; k < lowering.assembly.segment_parts.size(); ++k) {
      const SegmentPart& part = lowering.assembly.segment_parts[k];
      double& state = lowering.start_value(part.state);
      if (part.inductive && std::abs(state) < 0.05 * part.corners.front().x) state += part.residual;
      // The phasors took it for straight: what it adds beyond its first corner comes as a discontinuity.
      if (core.segments.place(k, core.at.present.data())) core.restart.settle_first = true;
      core.conductances.adjust(core.segments.number(k), core.segments.siemens(k));
    }
    core.refactor();
  }

  void count(const Lowering& lowering, Summary& summary) const override {
    for (const SegmentPart& part : lowering.assembly.segment_parts) summary.states += part.inductive ? 1 : 0;
  }
};

}  // namespace

const PartKind& segment_kind() { return the_only<SegmentKind>(); }

}  // namespace zavrek::emt::internal
