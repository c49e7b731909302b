// What would explain that a device did not do what its approved settings say.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

/// Wiring faults, ratios and settings under which the approved relay, seeing the same, would have done what
/// was measured: a trip after `measured_s` (none when empty), within `tolerance_s` and a share of it.
[[nodiscard]] std::vector<Explanation> explanations(const Device& device,
                                                    const protection::RecordedInputs& seen,
                                                    std::optional<double> measured_s, double tolerance_s,
                                                    double tolerance_share);

}  // namespace zavrek::trial::internal
