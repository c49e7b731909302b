// An induction machine's equivalent circuit from its nameplate.
#pragma once

#include <string>

#include "zavrek/network/induction_machine.hpp"

namespace zavrek::emt::internal {

/// The machine with its circuit's values, when it has a nameplate instead of them. At the rated voltage the
/// circuit gives, at rated speed, the rated torque and reactive power, and locked the starting current.
/// Throws Error for a nameplate that no such circuit has. `nominal_V`: of its bus, between phases.
[[nodiscard]] network::InductionMachine with_circuit(network::InductionMachine machine,
                                                     const std::string& owner, double frequency_Hz,
                                                     double nominal_V);

}  // namespace zavrek::emt::internal
