#include "emt/steady.hpp"

#include <cmath>
#include <limits>
#include <numbers>

#include <fmt/format.h>
#include <klu.h>
#include <Eigen/SparseCore>

namespace zavrek::emt::internal {
namespace {

using Complex = std::complex<double>;
using ComplexMatrix = Eigen::MatrixXcd;

/// What the trapezoidal rule makes of d/dt. Direct current is taken as a very slow sinusoid, so that an
/// inductance without resistance keeps a finite admittance.
Complex derivative(double omega, double step_s) {
  if (omega == 0) return {0, 1e-6};
  return {0, 2 / step_s * std::tan(omega * step_s / 2)};
}

ComplexMatrix admittance(const SeriesPart& part, Complex s) {
  ComplexMatrix z = part.resistance.cast<Complex>() + s * part.inductance.cast<Complex>();
  for (Eigen::Index k = 0; k < part.elastance.size(); ++k) z(k, k) += part.elastance[k] / s;
  return z.inverse();
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
  const ComplexMatrix t = part.transform.cast<Complex>();
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

/// Solves Y v = i; the result holds NaN when Y is singular.
Eigen::VectorXcd solve(const std::vector<Eigen::Triplet<Complex>>& entries, const Eigen::VectorXcd& rhs) {
  const int n = static_cast<int>(rhs.size());
  Eigen::SparseMatrix<Complex> matrix(n, n);
  matrix.setFromTriplets(entries.begin(), entries.end());
  klu_common common;
  klu_defaults(&common);
  int* columns = matrix.outerIndexPtr();
  int* rows = matrix.innerIndexPtr();
  auto* numbers = reinterpret_cast<double*>(matrix.valuePtr());  // KLU takes real and imaginary parts in turn
  klu_symbolic* symbolic = klu_analyze(n, columns, rows, &common);
  klu_numeric* numeric = symbolic ? klu_z_factor(columns, rows, numbers, symbolic, &common) : nullptr;
  Eigen::VectorXcd v = rhs;
  const bool solved =
      numeric && klu_z_solve(symbolic, numeric, n, 1, reinterpret_cast<double*>(v.data()), &common);
  if (!solved) v.setConstant(std::numeric_limits<double>::quiet_NaN());
  if (numeric) klu_z_free_numeric(&numeric, &common);
  if (symbolic) klu_free_symbolic(&symbolic, &common);
  return v;
}

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

}  // namespace

std::vector<Complex> steady_state(const Assembly& assembly, const Layout& layout, double omega) {
  const Complex s = derivative(omega, assembly.step_s());
  std::vector<Complex> values(static_cast<std::size_t>(layout.values), 0.0);
  for (const KnownNode& known : assembly.known_nodes) {
    if (known.omega != omega) continue;
    values[static_cast<std::size_t>(layout.node_position[static_cast<std::size_t>(known.node)])] =
        std::polar(known.amplitude_V, known.angle_rad);
  }

  Nodal nodal(layout, values);
  for (const SeriesPart& part : assembly.series_parts) nodal.add(part.ends, admittance(part, s));
  for (const CapacitancePart& part : assembly.capacitance_parts) {
    nodal.add(part.ends, s * part.capacitance.cast<Complex>());
  }
  for (const ConductancePart& part : assembly.conductance_parts)
    nodal.add(part.ends, part.ends, part.siemens);
  for (const PolePart& pole : assembly.pole_parts) {
    nodal.add(pole.ends, pole.ends, pole.closed ? pole.closed_S : pole.open_S);
  }
  for (const WavePart& part : assembly.wave_parts)
    nodal.add(part, admittance(part, omega, assembly.step_s()));

  if (nodal.rhs.size() > 0) {
    const Eigen::VectorXcd v = solve(nodal.entries, nodal.rhs);
    if (!v.allFinite()) {
      throw Error(
          fmt::format("the network has no sinusoidal steady state at {:.6g} Hz (its nodal admittance matrix "
                      "is singular: a lossless resonance); start it with start = \"zero\"",
                      omega / (2 * std::numbers::pi)));
    }
    for (std::size_t k = 0; k < layout.unknown.size(); ++k) {
      if (layout.unknown[k] >= 0) values[k] = v[layout.unknown[k]];
    }
  }

  Values out{layout, values};
  for (const SeriesPart& part : assembly.series_parts) {
    const Eigen::VectorXcd current = admittance(part, s) * out.across(part.ends);
    out.put(part.first_current, current);
    if (part.capacitive())
      out.put(part.first_charge_voltage, part.elastance.cast<Complex>().cwiseProduct(current) / s);
  }
  for (const CapacitancePart& part : assembly.capacitance_parts) {
    out.put(part.first_current, s * (part.capacitance.cast<Complex>() * out.across(part.ends)));
  }
  for (const PolePart& pole : assembly.pole_parts) {
    out.put(pole.current, (pole.closed ? pole.closed_S : pole.open_S) * out.across({pole.ends}));
  }
  for (const WavePart& part : assembly.wave_parts) {
    const LinePort y = admittance(part, omega, assembly.step_s());
    const Eigen::VectorXcd near = out.at(part.near);
    const Eigen::VectorXcd far = out.at(part.far);
    out.put(part.first_near_current, y.self * near + y.mutual * far);
    out.put(part.first_far_current, y.self * far + y.mutual * near);
  }
  return values;
}

}  // namespace zavrek::emt::internal
