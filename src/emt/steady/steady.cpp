#include "emt/steady/steady.hpp"
#include "emt/solve/dense.hpp"

#include "emt/parts/discrete.hpp"
#include "emt/parts/fixed_point.hpp"

#include <cmath>
#include <limits>
#include <numbers>
#include <set>

#include <fmt/format.h>
#include <klu.h>
#include <Eigen/LU>
#include <Eigen/SparseCore>

namespace zavrek::emt::internal {
namespace {

using Complex = std::complex<double>;
using ComplexMatrix = Eigen::MatrixXcd;

/// What the trapezoidal rule makes of d/dt. Direct current is taken as a very slow sinusoid, so that an
/// inductance without resistance keeps a finite admittance.
Complex derivative(double omega, double step_s) {
  if (omega == 0) return {0, 1e-6};
  return discrete_derivative(omega, step_s);
}

ComplexMatrix admittance(const SeriesPart& part, Complex s) {
  ComplexMatrix z = part.resistance.cast<Complex>() + s * part.inductance.cast<Complex>();
  for (Eigen::Index k = 0; k < part.elastance.size(); ++k) z(k, k) += part.elastance[k] / s;
  return inverse(z);
}

/// Two-port admittance of a line, (near; far) by (near; far), in phases.
struct LinePort {
  ComplexMatrix self;
  ComplexMatrix mutual;
};

LinePort admittance(const WavePart& part, double omega, double step_s) {
  const Eigen::Index n = part.surge_ohm.size();
  Eigen::VectorXcd self(n);
  Eigen::VectorXcd mutual(n);
  for (Eigen::Index m = 0; m < n; ++m) {
    const double z = part.surge_ohm[m] + part.resistance_ohm[m] / 4;
    const double c = (part.surge_ohm[m] - part.resistance_ohm[m] / 4) / z;
    const double steps = part.travel_s[m] / step_s;
    const double whole = std::floor(steps + 1e-9 * steps);
    const double fraction = std::max(0.0, steps - whole);
    const Complex delay = (1 - fraction) * std::polar(1.0, -omega * step_s * whole) +
                          fraction * std::polar(1.0, -omega * step_s * (whole + 1));
    const Complex a = delay * (1 + c) / 2.0;
    const Complex b = delay * (1 - c) / 2.0;
    // (1 + bc) I_near + ac I_far = ((1 - b) V_near - a V_far) / z, and mirrored.
    Eigen::Matrix2cd left;
    left << 1.0 + b * c, a * c, a * c, 1.0 + b * c;
    Eigen::Matrix2cd right;
    right << 1.0 - b, -a, -a, 1.0 - b;
    const Eigen::Matrix2cd y = left.inverse() * right / z;
    self[m] = y(0, 0);
    mutual[m] = y(0, 1);
  }
  const ComplexMatrix t = part.currents.cast<Complex>();
  return {t * self.asDiagonal() * t.transpose(), t * mutual.asDiagonal() * t.transpose()};
}

/// Collects Y v = i with the known nodes moved to the right-hand side.
struct Nodal {
  const Layout& layout;
  const std::vector<Complex>& known;  // by position
  std::vector<Eigen::Triplet<Complex>> entries{};
  Eigen::VectorXcd rhs;

  Nodal(const Layout& l, const std::vector<Complex>& k)
      : layout(l), known(k), rhs(Eigen::VectorXcd::Zero(l.unknowns)) {}

  void add(NodeId row, NodeId column, Complex y) {
    const int r =
        layout.unknown[static_cast<std::size_t>(layout.node_position[static_cast<std::size_t>(row)])];
    const int position = layout.node_position[static_cast<std::size_t>(column)];
    const int c = layout.unknown[static_cast<std::size_t>(position)];
    if (r < 0) return;
    if (c < 0) {
      rhs[r] -= y * known[static_cast<std::size_t>(position)];
    } else {
      entries.emplace_back(r, c, y);
    }
  }
  void add(const Ends& a, const Ends& b, Complex y) {
    add(a.p, b.p, y);
    add(a.q, b.q, y);
    add(a.p, b.q, -y);
    add(a.q, b.p, -y);
  }
  void add(const std::vector<Ends>& ends, const ComplexMatrix& y) {
    for (std::size_t k = 0; k < ends.size(); ++k) {
      for (std::size_t m = 0; m < ends.size(); ++m) {
        add(ends[k], ends[m], y(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)));
      }
    }
  }
  void add(const WavePart& part, const LinePort& y) {
    for (std::size_t k = 0; k < part.near.size(); ++k) {
      for (std::size_t m = 0; m < part.near.size(); ++m) {
        const auto row = static_cast<Eigen::Index>(k);
        const auto column = static_cast<Eigen::Index>(m);
        add(part.near[k], part.near[m], y.self(row, column));
        add(part.far[k], part.far[m], y.self(row, column));
        add(part.near[k], part.far[m], y.mutual(row, column));
        add(part.far[k], part.near[m], y.mutual(row, column));
      }
    }
  }
};

/// Sparse factors of Y; a solution holds NaN when Y is singular.
class Factors {
 public:
  Factors(const std::vector<Eigen::Triplet<Complex>>& entries, int n) : n_(n), matrix_(n, n) {
    matrix_.setFromTriplets(entries.begin(), entries.end());
    klu_defaults(&common_);
    int* columns = matrix_.outerIndexPtr();
    int* rows = matrix_.innerIndexPtr();
    // KLU takes real and imaginary parts in turn.
    auto* numbers = reinterpret_cast<double*>(matrix_.valuePtr());
    symbolic_ = klu_analyze(n, columns, rows, &common_);
    if (symbolic_) numeric_ = klu_z_factor(columns, rows, numbers, symbolic_, &common_);
  }
  Factors(const Factors&) = delete;
  Factors& operator=(const Factors&) = delete;
  ~Factors() {
    if (numeric_) klu_z_free_numeric(&numeric_, &common_);
    if (symbolic_) klu_free_symbolic(&symbolic_, &common_);
  }

  [[nodiscard]] Eigen::VectorXcd solve(Eigen::VectorXcd v) {
    const bool solved =
        numeric_ && klu_z_solve(symbolic_, numeric_, n_, 1, reinterpret_cast<double*>(v.data()), &common_);
    if (!solved) v.setConstant(std::numeric_limits<double>::quiet_NaN());
    return v;
  }

 private:
  int n_;
  Eigen::SparseMatrix<Complex> matrix_;
  klu_common common_{};
  klu_symbolic* symbolic_ = nullptr;
  klu_numeric* numeric_ = nullptr;
};

struct Values {
  const Layout& layout;
  std::vector<Complex>& values;

  [[nodiscard]] Complex node(NodeId node) const {
    return values[static_cast<std::size_t>(layout.node_position[static_cast<std::size_t>(node)])];
  }
  [[nodiscard]] Eigen::VectorXcd across(const std::vector<Ends>& ends) const {
    Eigen::VectorXcd v(static_cast<Eigen::Index>(ends.size()));
    for (std::size_t k = 0; k < ends.size(); ++k)
      v[static_cast<Eigen::Index>(k)] = node(ends[k].p) - node(ends[k].q);
    return v;
  }
  [[nodiscard]] Eigen::VectorXcd at(const std::vector<NodeId>& nodes) const {
    Eigen::VectorXcd v(static_cast<Eigen::Index>(nodes.size()));
    for (std::size_t k = 0; k < nodes.size(); ++k) v[static_cast<Eigen::Index>(k)] = node(nodes[k]);
    return v;
  }
  void put(Slot first, const Eigen::VectorXcd& what) {
    for (Eigen::Index k = 0; k < what.size(); ++k) {
      values[static_cast<std::size_t>(
          layout.slot_position[static_cast<std::size_t>(first.index) + static_cast<std::size_t>(k)])] =
          what[k];
    }
  }
};

/// The piece of a bent characteristic around zero.
Complex admittance(const SegmentPart& part, Complex s) {
  const double slope = part.corners.front().y / part.corners.front().x;
  return part.inductive ? slope / s : Complex(slope);
}

class Steady {
 public:
  Steady(const Assembly& assembly, ModelGroup& models, const Layout& layout, double omega)
      : assembly_(assembly),
        models_(models),
        layout_(layout),
        omega_(omega),
        s_(derivative(omega, assembly.step_s())) {
    component_.omega = omega;
    component_.values.assign(static_cast<std::size_t>(layout.values), 0.0);
    component_.model_voltages.resize(models.size());
    component_.model_currents.resize(models.size());
  }

  SteadyComponent run() {
    place_sources();
    bool revised = true;
    for (int round = 0; revised && round < most_revisions; ++round) {
      model_admittance_.clear();
      Nodal nodal(layout_, component_.values);
      stamp(nodal);
      if (layout_.unknowns > 0) {
        Factors factors(nodal.entries, layout_.unknowns);
        solve(nodal, factors);
      }
      put_currents();
      revised = omega_ == assembly_.omega() && revise_models();
    }
    return std::move(component_);
  }

 private:
  static constexpr int most_rounds = 500;
  static constexpr int plain_rounds = 20;
  static constexpr std::size_t most_remembered = 12;
  static constexpr double settled = 1e-10;
  static constexpr int most_revisions = 200;

  bool revise_models() {
    bool revised = false;
    for (std::size_t k = 0; k < models_.size(); ++k) {
      revised |= models_[k].model->revise(component_.model_voltages[k], component_.model_currents[k], omega_);
    }
    return revised;
  }

  void place_sources() {
    for (const KnownNode& known : assembly_.known_nodes) {
      Complex& value =
          component_
              .values[static_cast<std::size_t>(layout_.node_position[static_cast<std::size_t>(known.node)])];
      for (const auto& line : assembly_.waveforms[known.waveform].lines(known.angle_rad)) {
        if (line.omega == omega_) value += line.amplitude * std::polar(1.0, line.angle_rad);
      }
    }
  }

  void stamp(Nodal& nodal) {
    for (const SeriesPart& part : assembly_.series_parts) nodal.add(part.ends, admittance(part, s_));
    for (const CapacitancePart& part : assembly_.capacitance_parts)
      nodal.add(part.ends, s_ * part.capacitance.cast<Complex>());
    for (const ConductancePart& part : assembly_.conductance_parts)
      nodal.add(part.ends, part.ends, part.siemens);
    for (const PolePart& pole : assembly_.pole_parts)
      nodal.add(pole.ends, pole.ends, pole.closed ? pole.closed_S : pole.open_S);
    for (const ValvePart& valve : assembly_.valve_parts) nodal.add(valve.ends, valve.ends, valve.off_S);
    for (const SegmentPart& part : assembly_.segment_parts)
      nodal.add(part.ends, part.ends, admittance(part, s_));
    for (const WavePart& part : assembly_.wave_parts)
      nodal.add(part, admittance(part, omega_, assembly_.step_s()));
    for (std::size_t k = 0; k < models_.size(); ++k) {
      model_admittance_.push_back(models_[k].model->admittance(s_, omega_));
      nodal.add(assembly_.model_parts[k].ends, model_admittance_.back());
    }
  }

  void solve(const Nodal& nodal, Factors& factors) {
    Eigen::VectorXcd v = factors.solve(nodal.rhs);
    take(v);
    if (!v.allFinite()) {
      throw Error(
          fmt::format("the network has no sinusoidal steady state at {:.6g} Hz (its nodal admittance matrix "
                      "is singular: a lossless resonance); start it with start = \"zero\"",
                      omega_ / (2 * std::numbers::pi)));
    }
    if (omega_ != assembly_.omega() || models_.empty()) return;
    if (settled_.size() > 0) take(v = settled_);
    settle(std::move(v), nodal, factors);
  }

  /// Rounds of what the models draw at the voltages and what voltages that makes. The first are taken as they
  /// come, those after them combined: a machine that holds the voltage of a stiff bus moves it by a fiftieth
  /// of what is missing in each.
  void settle(Eigen::VectorXcd v, const Nodal& nodal, Factors& factors) {
    FixedPoint rounds(most_remembered);
    Eigen::VectorXcd before = v;
    Eigen::VectorXd sizes;
    for (int round = 0;; ++round) {
      const Eigen::VectorXd steady_unknowns = all_sought();
      const Eigen::VectorXcd image = factors.solve(nodal.rhs - injections());
      const double change = (image - v).cwiseAbs().maxCoeff();
      const double moved = change == 0 ? 0 : change / image.cwiseAbs().maxCoeff();
      const double sought_moved =
          steady_unknowns.size() == 0 ? 0 : (all_sought() - steady_unknowns).cwiseAbs().maxCoeff();
      if ((moved <= settled && sought_moved <= 100 * settled) || round == most_rounds || !image.allFinite()) {
        if (!(moved <= 1e-6)) image.allFinite() ? refuse(v, image) : refuse(before, v);
        take(image);
        settled_ = image;
        return;
      }
      before = v;
      if (round < plain_rounds) {
        v = image;
        sizes = v.cwiseAbs().array() + 1e-3 * v.cwiseAbs().maxCoeff();
      } else {
        const Eigen::VectorXd next =
            rounds.next(packed(v, sizes, steady_unknowns), packed(image, sizes, all_sought()));
        const Eigen::Index n = v.size();
        v.real() = next.head(n).cwiseProduct(sizes);
        v.imag() = next.segment(n, n).cwiseProduct(sizes);
        seek(next.tail(steady_unknowns.size()));
      }
      take(v);
    }
  }

  static Eigen::VectorXd packed(const Eigen::VectorXcd& v, const Eigen::VectorXd& sizes,
                                const Eigen::VectorXd& steady_unknowns) {
    Eigen::VectorXd all(2 * v.size() + steady_unknowns.size());
    all << v.real().cwiseQuotient(sizes), v.imag().cwiseQuotient(sizes), steady_unknowns;
    return all;
  }

  template <class Visit>
  void for_each_sought(Visit&& visit) {
    for (const ModelRow& row : models_) {
      for (double& number : row.model->steady_unknowns()) visit(number);
    }
  }
  [[nodiscard]] Eigen::VectorXd all_sought() {
    std::vector<double> all;
    for_each_sought([&](double number) { all.push_back(number); });
    return Eigen::Map<const Eigen::VectorXd>(all.data(), static_cast<Eigen::Index>(all.size()));
  }
  void seek(const Eigen::VectorXd& all) {
    Eigen::Index at = 0;
    for_each_sought([&](double& number) { number = all[at++]; });
  }

  [[noreturn]] void refuse(const Eigen::VectorXcd& v, const Eigen::VectorXcd& image) const {
    Eigen::Index worst = 0;
    const double floor = 1e-3 * v.cwiseAbs().maxCoeff();  // star points stand at none
    (void)((image - v).cwiseAbs().array() / (v.cwiseAbs().array() + floor)).maxCoeff(&worst);
    std::string where;
    for (NodeId node = 1; node < assembly_.node_count(); ++node) {
      const int position = layout_.node_position[static_cast<std::size_t>(node)];
      if (layout_.unknown[static_cast<std::size_t>(position)] == worst) where = assembly_.node_name(node);
    }
    throw Error(
        fmt::format("no steady state found at {:.6g} Hz: the voltages do not settle, least of all that of "
                    "{}; the loads or "
                    "machines ask for more power than the network can carry to them, or for voltages that it "
                    "cannot have: "
                    "ease them or start with start = \"zero\"",
                    omega_ / (2 * std::numbers::pi), where));
  }

  void take(const Eigen::VectorXcd& v) {
    for (std::size_t k = 0; k < layout_.unknown.size(); ++k) {
      if (layout_.unknown[k] >= 0) component_.values[k] = v[layout_.unknown[k]];
    }
  }

  /// Currents that the models draw beyond their admittances, by unknown node.
  Eigen::VectorXcd injections() {
    Eigen::VectorXcd sum = Eigen::VectorXcd::Zero(layout_.unknowns);
    const Values values{layout_, component_.values};
    for (std::size_t k = 0; k < models_.size(); ++k) {
      const auto& ends = assembly_.model_parts[k].ends;
      const Eigen::VectorXcd j = models_[k].model->injection(values.across(ends), s_);
      component_.model_currents[k] = j;
      for (std::size_t e = 0; e < ends.size(); ++e) {
        for (const auto& [node, sign] : {std::pair{ends[e].p, 1.0}, std::pair{ends[e].q, -1.0}}) {
          const int unknown =
              layout_
                  .unknown[static_cast<std::size_t>(layout_.node_position[static_cast<std::size_t>(node)])];
          if (unknown >= 0) sum[unknown] += sign * j[static_cast<Eigen::Index>(e)];
        }
      }
    }
    return sum;
  }

  void put_currents() {
    Values out{layout_, component_.values};
    for (const SeriesPart& part : assembly_.series_parts) {
      const Eigen::VectorXcd current = admittance(part, s_) * out.across(part.ends);
      out.put(part.first_current, current);
      if (part.capacitive())
        out.put(part.first_charge_voltage, part.elastance.cast<Complex>().cwiseProduct(current) / s_);
    }
    for (const CapacitancePart& part : assembly_.capacitance_parts)
      out.put(part.first_current, s_ * (part.capacitance.cast<Complex>() * out.across(part.ends)));
    for (const PolePart& pole : assembly_.pole_parts)
      out.put(pole.current, (pole.closed ? pole.closed_S : pole.open_S) * out.across({pole.ends}));
    for (const SegmentPart& part : assembly_.segment_parts) {
      const Eigen::VectorXcd v = out.across({part.ends});
      out.put(part.state, part.inductive ? Eigen::VectorXcd(v / s_) : v);
      out.put(part.current, admittance(part, s_) * v);
    }
    for (const WavePart& part : assembly_.wave_parts) {
      const LinePort y = admittance(part, omega_, assembly_.step_s());
      const Eigen::VectorXcd near = out.at(part.near);
      const Eigen::VectorXcd far = out.at(part.far);
      out.put(part.first_near_current, y.self * near + y.mutual * far);
      out.put(part.first_far_current, y.self * far + y.mutual * near);
    }
    for (std::size_t k = 0; k < models_.size(); ++k) {
      const ModelPart& part = assembly_.model_parts[k];
      component_.model_voltages[k] = out.across(part.ends);
      Eigen::VectorXcd current = model_admittance_[k] * component_.model_voltages[k];
      if (component_.model_currents[k].size() == current.size()) current += component_.model_currents[k];
      component_.model_currents[k] = current;
      out.put(part.first, current);
    }
  }

  const Assembly& assembly_;
  ModelGroup& models_;
  const Layout& layout_;
  double omega_;
  Complex s_;
  SteadyComponent component_;
  std::vector<ComplexMatrix> model_admittance_;
  Eigen::VectorXcd settled_;  // before the last revision
};

}  // namespace

std::vector<SteadyComponent> steady_components(const Assembly& assembly, ModelGroup& models,
                                               const Layout& layout) {
  std::set<double> frequencies;
  for (const KnownNode& known : assembly.known_nodes) {
    for (const auto& line : assembly.waveforms[known.waveform].lines(known.angle_rad))
      frequencies.insert(line.omega);
  }
  // Models such as generators drive the network by themselves.
  if (!models.empty()) frequencies.insert(assembly.omega());
  std::vector<SteadyComponent> components;
  for (const double omega : frequencies) components.push_back(Steady(assembly, models, layout, omega).run());
  return components;
}

}  // namespace zavrek::emt::internal
