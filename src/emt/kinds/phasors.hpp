// The sinusoidal steady state of the discrete model, as phasors: what the kinds of parts contribute to its
// nodal equations and read from its solution.
#pragma once

#include <complex>
#include <vector>

#include <Eigen/Core>
#include <Eigen/SparseCore>

#include "emt/groups/model_group.hpp"
#include "emt/parts/assembly.hpp"
#include "emt/parts/layout.hpp"

namespace zavrek::emt::internal {

/// Phasors (peak, of cos) at one frequency.
struct SteadyComponent {
  double omega = 0;
  std::vector<std::complex<double>> values;      // of the plant's value array
  std::vector<Eigen::VectorXcd> model_voltages;  // per model, per end
  std::vector<Eigen::VectorXcd> model_currents;
};

/// Y v = i at one frequency, with the known nodes moved to the right-hand side, and the phasors so far.
class Phasors {
 public:
  using Complex = std::complex<double>;
  Phasors(const Assembly& assembly, ModelGroup& models, const Layout& layout, double omega);

  const Assembly& assembly;
  ModelGroup& models;
  const Layout& layout;
  const double omega;
  const Complex s;  ///< in place of d/dt: what the trapezoidal rule makes of it
  SteadyComponent component;
  std::vector<Eigen::MatrixXcd> model_admittance;  ///< per model
  std::vector<Eigen::Triplet<Complex>> entries;    ///< of Y, by unknown node
  Eigen::VectorXcd rhs;                            ///< A, per unknown node

  /// Forgets the equations, not the phasors.
  void clear_equations();

  void add(NodeId row, NodeId column, Complex y);
  void add(const Ends& a, const Ends& b, Complex y);
  void add(const std::vector<Ends>& ends, const Eigen::MatrixXcd& y);

  [[nodiscard]] int position(NodeId node) const {
    return layout.node_position[static_cast<std::size_t>(node)];
  }
  /// Number of a node among the unknown ones, or -1.
  [[nodiscard]] int unknown(NodeId node) const {
    return layout.unknown[static_cast<std::size_t>(position(node))];
  }
  [[nodiscard]] Complex node(NodeId node) const {
    return component.values[static_cast<std::size_t>(position(node))];
  }
  [[nodiscard]] Eigen::VectorXcd across(const std::vector<Ends>& ends) const;
  [[nodiscard]] Eigen::VectorXcd at(const std::vector<NodeId>& nodes) const;
  void put(Slot first, const Eigen::VectorXcd& what);
};

}  // namespace zavrek::emt::internal
