// Values at which functions are tried, and what they wait.
#pragma once

#include "zavrek/trial/injection.hpp"

namespace zavrek::trial::internal {

/// Whether its time depends on the value.
[[nodiscard]] bool inverse(const protection::FunctionSettings& function);
/// By which a threshold of frequency differs from nominal: what its multiples multiply.
[[nodiscard]] double deviation_Hz(const Probe& probe, double nominal_Hz);
/// Threshold times a multiple; of frequencies, the deviation from nominal is what is multiplied.
[[nodiscard]] double value_at(const protection::FunctionSettings& function, const Probe& probe,
                              double multiple, double nominal_Hz);
/// What a value may be off by; of frequencies, 10 mHz for each 2 %.
[[nodiscard]] double tolerance_of_value(const Probe& probe, double value, double share);
/// The timer of a function that waits a time whatever the value; unset where there is none.
[[nodiscard]] double definite_delay(const protection::FunctionSettings& function);

}  // namespace zavrek::trial::internal
