// The sinusoidal steady state of the discrete model, as phasors of every value of the plant.
#pragma once

#include <vector>

#include "emt/kinds/phasors.hpp"

namespace zavrek::emt::internal {

/// The steady state at each frequency that a source has. Derivatives are replaced by what the trapezoidal
/// rule makes of a sinusoid, (2/h) tan(omega h / 2), and delays by what interpolation makes of them, so that
/// the discrete model starts without a transient. At the frequency of the network the models' injections
/// (constant power, machines that hold a voltage) are found by iteration. Throws Error when there is no such
/// state.
[[nodiscard]] std::vector<SteadyComponent> steady_components(const Assembly& assembly, ModelGroup& models,
                                                             const Layout& layout);

}  // namespace zavrek::emt::internal
