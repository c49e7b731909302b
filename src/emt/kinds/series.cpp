// Series block, n coupled branches: v = R i + L i' + u, u' = S i.
//   step        i = G (v + history), G = (R + 2L/h + hS/2)^-1
//   continuous  unknowns i and, with a capacitor, u
#include <algorithm>

#include <fmt/format.h>
#include <Eigen/LU>

#include "emt/kinds/part_kind.hpp"
#include "emt/kinds/three_phase_form.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

Eigen::MatrixXcd series_admittance(const SeriesPart& part, std::complex<double> s) {
  Eigen::MatrixXcd z =
      part.resistance.cast<std::complex<double>>() + s * part.inductance.cast<std::complex<double>>();
  for (Eigen::Index k = 0; k < part.elastance.size(); ++k) z(k, k) += part.elastance[k] / s;
  return inverse(z);
}

class SeriesEquations final : public PartEquations {
 public:
  explicit SeriesEquations(ContinuousFrame& frame) : PartEquations(frame) {
    for (const SeriesPart& part : frame.assembly.series_parts) {
      const int n = static_cast<int>(part.ends.size());
      const int current =
          frame.take(n, part.owner, frame.current_scale, {.differential = part.inductance.norm() > 0});
      const int charge =
          part.capacitive() ? frame.take(n, part.owner, frame.voltage_scale, {.differential = true}) : -1;
      rows_.push_back({&part, current, charge});
    }
  }

  void hold(ContinuousFrame::Held& held) const override {
    for (const Row& row : rows_) {
      auto& list = row.part->inductance.norm() > 0 ? held.inductive : held.tied;
      list.insert(list.end(), row.part->ends.begin(), row.part->ends.end());
    }
  }
  void start(double* y) const override {
    for (const Row& row : rows_) {
      for (std::size_t k = 0; k < row.part->ends.size(); ++k) {
        y[row.current + static_cast<int>(k)] = frame_.value(row.part->first_current, k);
        if (row.charge >= 0)
          y[row.charge + static_cast<int>(k)] = frame_.value(row.part->first_charge_voltage, k);
      }
    }
  }
  void read(double /*t*/, const double* y) override {
    for (const Row& row : rows_) {
      for (std::size_t k = 0; k < row.part->ends.size(); ++k) {
        frame_.value(row.part->first_current, k) = y[row.current + static_cast<int>(k)];
        if (row.charge >= 0)
          frame_.value(row.part->first_charge_voltage, k) = y[row.charge + static_cast<int>(k)];
      }
    }
  }
  void residual(double /*t*/, const double* y, const double* dy, double* f) override {
    for (const auto& [part, current, charge] : rows_) {
      const int n = static_cast<int>(part->ends.size());
      for (int r = 0; r < n; ++r) {
        const Ends& ends = part->ends[static_cast<std::size_t>(r)];
        double sum = -frame_.across(ends);
        for (int c = 0; c < n; ++c)
          sum += part->inductance(r, c) * dy[current + c] + part->resistance(r, c) * y[current + c];
        if (charge >= 0) {
          sum += y[charge + r];
          f[charge + r] = dy[charge + r] - part->elastance[r] * y[current + r];
        }
        f[current + r] = sum;
        frame_.add_current(ends, y[current + r], f);
        frame_.add_slope(ends, dy[current + r]);
      }
    }
  }

 private:
  struct Row {
    const SeriesPart* part;
    int current, charge;  // among the unknowns: the first of n; charge -1 without a capacitor
  };
  std::vector<Row> rows_;
};

class SeriesKind final : public ListedKind<SeriesPart, &Assembly::series_parts, SeriesEquations> {
 public:
  void stamp(const Assembly& assembly, Stamps& stamps) const override {
    const double h = assembly.step_s();
    for (const SeriesPart& part : assembly.series_parts) {
      Eigen::MatrixXd z = part.resistance + 2 / h * part.inductance;
      z.diagonal() += h / 2 * part.elastance;
      std::optional<Eigen::MatrixXd> conductance = inverse_if_regular(z);
      if (!conductance || z.diagonal().minCoeff() <= 0) {
        throw Error(Flaw{
            .file = {},
            .place = part.owner,
            .field = {},
            .text = "has no impedance; give it a resistance or an inductance, or join its buses into one"});
      }
      stamps.series_conductance.push_back(std::move(*conductance));
      stamps.add(part.ends, stamps.series_conductance.back());
    }
  }

  void place(const Assembly& assembly, SlotPlaces& places) const override {
    for (const SeriesPart& part : assembly.series_parts) {
      places.take_block(part.first_current, part.ends);
      if (part.capacitive()) places.take_block(part.first_charge_voltage, part.ends);
    }
  }

  void lower(const Stamps& stamps, Lowering& lowering) const override {
    for (std::size_t k = 0; k < lowering.assembly.series_parts.size(); ++k)
      lower(lowering.assembly.series_parts[k], stamps.series_conductance[k], lowering);
  }

  void stamp_phasors(Phasors& phasors) const override {
    for (const SeriesPart& part : phasors.assembly.series_parts)
      phasors.add(part.ends, series_admittance(part, phasors.s));
  }
  void put_phasors(Phasors& phasors) const override {
    for (const SeriesPart& part : phasors.assembly.series_parts) {
      const Eigen::VectorXcd current = series_admittance(part, phasors.s) * phasors.across(part.ends);
      phasors.put(part.first_current, current);
      if (part.capacitive())
        phasors.put(part.first_charge_voltage,
                    part.elastance.cast<std::complex<double>>().cwiseProduct(current) / phasors.s);
    }
  }

  void count(const Lowering& lowering, Summary& summary) const override {
    for (const SeriesPart& part : lowering.assembly.series_parts) {
      summary.states += static_cast<int>(part.ends.size()) *
                        ((part.inductance.norm() > 0 ? 1 : 0) + (part.capacitive() ? 1 : 0));
    }
  }

 private:
  static void lower(const SeriesPart& part, const Eigen::MatrixXd& g, Lowering& lowering) {
    const int current = lowering.base(part.first_current, part.ends);
    const int charge = part.capacitive() ? lowering.base(part.first_charge_voltage, part.ends) : -1;
    auto& parts = lowering.shard_of(part.ends).parts;
    if (lowering.assembly.between_groups(part.ends)) {
      const auto ends = lowering.group_ends(part.ends);
      const StepMatrices m = step_matrices(part, g, lowering.step_s());
      const StepMatrices wide{
          lowering.in_lanes(m.kept, part.ends),
          lowering.in_lanes(m.elastic.asDiagonal().toDenseMatrix(), part.ends).diagonal()};
      const Eigen::MatrixXd wide_g = lowering.in_lanes(g, part.ends);
      const auto add = [&](auto& group) {
        group.add(wide, wide_g, ends.first, ends.second, current, charge);
      };
      return in_least_form({wide_g, wide.kept}, [&]<class Matrix>(Matrix) {
        part.capacitive() ? add(std::get<ThreePhaseSeries<Matrix, true>>(parts))
                          : add(std::get<ThreePhaseSeries<Matrix, false>>(parts));
      });
    }
    const auto add = [&](auto& group) {
      group.add(part, g, lowering.step_s(), lowering.layout.node_position.data(), current, charge);
    };
    switch (part.ends.size()) {
      case 1:
        return part.capacitive() ? add(std::get<SeriesGroup<1, true>>(parts))
                                 : add(std::get<SeriesGroup<1, false>>(parts));
      case 2:
        return add(std::get<SeriesGroup<2, false>>(parts));
      case 3:
        return add(std::get<SeriesGroup<3, false>>(parts));
      default:
        return add(std::get<SeriesGroup<4, false>>(parts));
    }
  }
};

}  // namespace

const PartKind& series_kind() { return the_only<SeriesKind>(); }

}  // namespace zavrek::emt::internal
