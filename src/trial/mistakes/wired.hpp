// Something steady as a device sees it that is wired, or scaled, as it should not be.
#pragma once

#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

/// `measured` is in the values of the approved settings; what comes back in those that the device runs with.
[[nodiscard]] protection::Measured as_wired(const protection::Measured& measured, const Device& wrong);

}  // namespace zavrek::trial::internal
