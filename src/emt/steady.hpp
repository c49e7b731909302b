// The sinusoidal steady state of the discrete model, as phasors of every value of the plant.
#pragma once

#include <complex>
#include <vector>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {

/// Where the compiler put nodes and slots in the plant's value array.
struct Layout {
  std::vector<int> node_position;  // per node
  std::vector<int> slot_position;  // per slot
  int values = 0;                  // length of the array
  int known = 0;                   // known nodes stand at 1 ... known
  int voltages = 0;                // ground, known and unknown nodes
};

/// Phasors (peak, of cos) of all values for the known nodes of frequency `omega`; the others are zero.
/// Derivatives are replaced by what the trapezoidal rule makes of a sinusoid, (2/h) tan(omega h / 2), and
/// delays by what interpolation makes of them, so that the discrete model starts without a transient.
[[nodiscard]] std::vector<std::complex<double>> steady_state(const Assembly& assembly, const Layout& layout,
                                                             double omega);

}  // namespace zavrek::emt::internal
