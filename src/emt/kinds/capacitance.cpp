// Capacitance block, n coupled capacitances: i = C v'.
//   step        i = 2C/h v + history
//   continuous  to ground or to a source, C v' enters the node; between unknown nodes w - v = 0 and
//               C w' - i = 0 with unknowns w, i
#include <algorithm>

#include "emt/kinds/part_kind.hpp"
#include "emt/kinds/three_phase_form.hpp"

namespace zavrek::emt::internal {
namespace {

class CapacitanceEquations final : public PartEquations {
 public:
  explicit CapacitanceEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const CapacitancePart& part : frame.assembly.capacitance_parts) {
      const int n = static_cast<int>(part.ends.size());
      const bool floating = frame.floats(part.ends);
      rows_.push_back(
          {&part, floating ? frame.take(n, part.owner, frame.voltage_scale, {.differential = true}) : -1});
      if (floating) {
        frame.take(n, part.owner, frame.current_scale, {});
        continue;
      }
      for (std::size_t k = 0; k < part.ends.size(); ++k) {
        if (part.capacitance.row(static_cast<Eigen::Index>(k)).norm() > 0)
          frame.mark_differential(part.ends[k]);
      }
    }
  }

  void hold(ContinuousFrame::Held& held) const override {
    for (const Row& row : rows_)
      held.tied.insert(held.tied.end(), row.part->ends.begin(), row.part->ends.end());
  }
  void start(double* y) const override {
    for (const auto& [part, at] : rows_) {
      const std::size_t n = part->ends.size();
      for (std::size_t k = 0; at >= 0 && k < n; ++k) {
        y[at + static_cast<int>(k)] = frame_.across(part->ends[k]);
        y[at + static_cast<int>(n + k)] = frame_.value(part->first_current, k);
      }
    }
  }
  void residual(double t, const double* y, const double* dy, double* f) override {
    for (const auto& [part, at] : rows_) {
      const int n = static_cast<int>(part->ends.size());
      for (int r = 0; r < n; ++r) {
        double current = 0;
        for (int c = 0; c < n; ++c) {
          const Ends& other = part->ends[static_cast<std::size_t>(c)];
          const double slope = at >= 0 ? dy[at + c] : frame_.rate_across(other, dy, t);
          current += part->capacitance(r, c) * slope;
        }
        const Ends& ends = part->ends[static_cast<std::size_t>(r)];
        if (at >= 0) {
          f[at + r] = y[at + r] - frame_.across(ends);
          f[at + n + r] = current - y[at + n + r];
          current = y[at + n + r];
        }
        frame_.value(part->first_current, static_cast<std::size_t>(r)) = current;
        frame_.add_current(ends, current, f);
      }
    }
  }

 private:
  struct Row {
    const CapacitancePart* part;
    int at;  // the first of n voltages among the unknowns, n currents behind them; or -1
  };
  std::vector<Row> rows_;
};

class CapacitanceKind final
    : public ListedKind<CapacitancePart, &Assembly::capacitance_parts, CapacitanceEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    for (const CapacitancePart& part : assembly.capacitance_parts)
      stamps.add(part.ends, 2 / assembly.step_s() * part.capacitance);
  }
  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const CapacitancePart& part : assembly.capacitance_parts)
      places.take_block(part.first_current, part.ends);
  }

  void lower(const Stamps& /*stamps*/, Lowering& lowering) const override {
    for (const CapacitancePart& part : lowering.assembly.capacitance_parts) {
      const int current = lowering.base(part.first_current, part.ends);
      const bool in_lanes_of_buses = lowering.assembly.between_groups(part.ends);
      Shard& shard = lowering.shard_of(part.ends);
      if (!lowering.is_condensed(shard))
        lowering.enter_charging(current, in_lanes_of_buses ? lanes : static_cast<int>(part.ends.size()));
      if (!in_lanes_of_buses) {
        std::get<CapacitanceGroup<1>>(shard.parts)
            .add(part, lowering.step_s(), lowering.layout.node_position.data(), current);
        continue;
      }
      const auto [p, q] = lowering.group_ends(part.ends);
      const Eigen::MatrixXd wide = lowering.in_lanes(2 / lowering.step_s() * part.capacitance, part.ends);
      in_least_form({wide}, [&, p = p, q = q]<class Matrix>(Matrix) {
        std::get<ThreePhaseCapacitance<Matrix>>(shard.parts).add(wide, p, q, current);
      });
    }
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const CapacitancePart& part : phasors.assembly.capacitance_parts)
      phasors.add(part.ends, phasors.s * part.capacitance.cast<std::complex<double>>());
  }
  void put_phasors(Phasors& phasors) const override {
    for (const CapacitancePart& part : phasors.assembly.capacitance_parts)
      phasors.put(part.first_current,
                  phasors.s * (part.capacitance.cast<std::complex<double>>() * phasors.across(part.ends)));
  }

  void count(const Lowering& lowering, Summary& summary) const override {
    for (const CapacitancePart& part : lowering.assembly.capacitance_parts)
      summary.states += static_cast<int>(part.ends.size());
  }
};

}  // namespace

const PartKind& capacitance_kind() { return the_only<CapacitanceKind>(); }

}  // namespace zavrek::emt::internal
