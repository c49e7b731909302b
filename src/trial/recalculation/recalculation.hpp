// What a relay should do, reckoned a second time: nothing but settings and samples is shared with the
// functions of a relay, so that an error of those is seen.
#pragma once

#include <limits>
#include <string>
#include <vector>

#include "zavrek/protection/relay.hpp"

namespace zavrek::trial::internal {

/// Phases between which there is a fault from an instant on, as a trial says: "AG", "BC", "ABC".
struct FaultedPhases {
  double from_s;  ///< from the inception
  std::string phases;
};

struct Recalculation {
  double time_s = std::numeric_limits<double>::infinity();  ///< of the earliest function that was reckoned
  std::string function;
  std::vector<std::string> left_out;  ///< functions that trip and were not reckoned
  [[nodiscard]] bool covers(const std::string& name) const;
};

/// Phasors by least squares over the cycle that begins at an instant, eight times a cycle; zones by the
/// geometry of the faulted loop, which is known (`faulted` empty: they are left out); times by adding up.
/// Left out are functions of frequency, heat and logic, and those that others block.
[[nodiscard]] Recalculation recalculate(const protection::RelaySettings& settings,
                                        const protection::RecordedInputs& seen,
                                        const std::vector<FaultedPhases>& faulted);

}  // namespace zavrek::trial::internal
