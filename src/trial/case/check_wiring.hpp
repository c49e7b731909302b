// Wiring that can be built, but cannot be right.
#pragma once

#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

/// Windings and voltage transformers that are rated for another voltage than their bus has, and relays whose
/// settings reckon with other ratios than the transformers have that they read.
[[nodiscard]] std::vector<std::string> wiring_notes(const Case& all);

}  // namespace zavrek::trial::internal
