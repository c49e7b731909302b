// The sinusoidal steady state of the discrete model, as phasors of every value of the plant.
#pragma once

#include <complex>
#include <vector>

#include "emt/assembly.hpp"

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

/// Phasors (peak, of cos) of all values for the known nodes of frequency `omega`; the others are zero.
/// Derivatives are replaced by what the trapezoidal rule makes of a sinusoid, (2/h) tan(omega h / 2), and
/// delays by what interpolation makes of them, so that the discrete model starts without a transient.
[[nodiscard]] std::vector<std::complex<double>> steady_state(const Assembly& assembly, const Layout& layout,
                                                             double omega);

}  // namespace zavrek::emt::internal
