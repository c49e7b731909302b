// The sinusoidal steady state of the discrete model, as phasors of every value of the plant.
#pragma once

#include <complex>
#include <vector>

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

/// The steady state at each frequency that a source has. Derivatives are replaced by what the trapezoidal
/// rule makes of a sinusoid, (2/h) tan(omega h / 2), and delays by what interpolation makes of them, so that
/// the discrete model starts without a transient. At the frequency of the network the models' injections
/// (constant power, machines that hold a voltage) are found by iteration. Throws Error when there is no such
/// state.
[[nodiscard]] std::vector<SteadyComponent> steady_components(const Assembly& assembly, ModelGroup& models,
                                                             const Layout& layout);

}  // namespace zavrek::emt::internal
