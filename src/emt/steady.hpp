// The sinusoidal steady state of the discrete model, as phasors of every value of the plant.
#pragma once

#include <complex>
#include <vector>

#include "emt/assembly.hpp"
#include "emt/core.hpp"

namespace zavrek::emt::internal {

/// Where the compiler put nodes and slots in the plant's value array. Ground, then the known nodes, then
/// the unknown ones, each group of nodes in lanes of its own; lanes without a node stay zero.
struct Layout {
  std::vector<int> node_position;  // per node
  std::vector<int> slot_position;  // per slot; -1 for one that is a share of others
  std::vector<int> unknown;        // per position up to `voltages`: number among the unknown nodes, or -1
  int unknowns = 0;
  int voltages = 0;  // positions of ground, known and unknown nodes
  int values = 0;    // length of the array
};

/// Phasors (peak, of cos) at one frequency.
struct SteadyComponent {
  double omega = 0;
  std::vector<std::complex<double>> values;      // of the plant's value array
  std::vector<Eigen::VectorXcd> model_voltages;  // per model, per end
  std::vector<Eigen::VectorXcd> model_currents;
};

/// The steady state at each frequency that a source has. Derivatives are replaced by what the trapezoidal
/// rule makes of a sinusoid, (2/h) tan(omega h / 2), and delays by what interpolation makes of them, so that
/// the discrete model starts without a transient. At the frequency of the network the models' injections
/// (constant power, machines that hold a voltage) are found by iteration. Throws Error when there is no such
/// state.
[[nodiscard]] std::vector<SteadyComponent> steady_components(const Assembly& assembly,
                                                             std::vector<ModelRow>& models,
                                                             const Layout& layout);

}  // namespace zavrek::emt::internal
