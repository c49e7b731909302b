#include "emt/kinds/phasors.hpp"

#include "emt/parts/discrete.hpp"

namespace zavrek::emt::internal {
namespace {

/// What the trapezoidal rule makes of d/dt. Direct current is taken as a very slow sinusoid, so that an
/// inductance without resistance keeps a finite admittance.
Phasors::Complex derivative(double omega, double step_s) {
  if (omega == 0) return {0, 1e-6};
  return discrete_derivative(omega, step_s);
}

}  // namespace

Phasors::Phasors(const Assembly& the_assembly, ModelGroup& the_models, const Layout& the_layout,
                 double the_omega)
    : assembly(the_assembly),
      models(the_models),
      layout(the_layout),
      omega(the_omega),
      s(derivative(the_omega, the_assembly.step_s())) {
  component.omega = omega;
  component.values.assign(static_cast<std::size_t>(layout.values), 0.0);
  component.model_voltages.resize(models.size());
  component.model_currents.resize(models.size());
  clear_equations();
}

void Phasors::clear_equations() {
  model_admittance.clear();
  entries.clear();
  rhs = Eigen::VectorXcd::Zero(layout.unknowns);
}

void Phasors::add(NodeId row, NodeId column, Complex y) {
  const int r = unknown(row), c = unknown(column);
  if (r < 0) return;
  if (c < 0) {
    rhs[r] -= y * node(column);
  } else {
    entries.emplace_back(r, c, y);
  }
}

void Phasors::add(const Ends& a, const Ends& b, Complex y) {
  add(a.p, b.p, y);
  add(a.q, b.q, y);
  add(a.p, b.q, -y);
  add(a.q, b.p, -y);
}

void Phasors::add(const std::vector<Ends>& ends, const Eigen::MatrixXcd& y) {
  for (std::size_t k = 0; k < ends.size(); ++k) {
    for (std::size_t m = 0; m < ends.size(); ++m) {
      add(ends[k], ends[m], y(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)));
    }
  }
}

Eigen::VectorXcd Phasors::across(const std::vector<Ends>& ends) const {
  Eigen::VectorXcd v(static_cast<Eigen::Index>(ends.size()));
  for (std::size_t k = 0; k < ends.size(); ++k)
    v[static_cast<Eigen::Index>(k)] = node(ends[k].p) - node(ends[k].q);
  return v;
}

Eigen::VectorXcd Phasors::at(const std::vector<NodeId>& nodes) const {
  Eigen::VectorXcd v(static_cast<Eigen::Index>(nodes.size()));
  for (std::size_t k = 0; k < nodes.size(); ++k) v[static_cast<Eigen::Index>(k)] = node(nodes[k]);
  return v;
}

void Phasors::put(Slot first, const Eigen::VectorXcd& what) {
  for (Eigen::Index k = 0; k < what.size(); ++k) {
    const auto slot = static_cast<std::size_t>(first.index) + static_cast<std::size_t>(k);
    component.values[static_cast<std::size_t>(layout.slot_position[slot])] = what[k];
  }
}

}  // namespace zavrek::emt::internal
