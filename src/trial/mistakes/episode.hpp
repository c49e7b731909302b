// What a relay saw, in steady parts: what it would have done with something wrong follows at once.
#pragma once

#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

struct Episode {
  std::vector<protection::Held> before, during;  ///< what follows the inception is timed; the last part stays
  std::vector<protection::RecordedInputs::Change> inputs;
  bool rises = false;  ///< a trip that is there from the beginning counts once it has gone and come again
};

/// Samples as a relay with these settings measures them, parts put together over which nothing that it
/// measures changes by more than a few parts in a thousand.
[[nodiscard]] Episode episode_of(const protection::RelaySettings& settings,
                                 const protection::RecordedInputs& seen);

/// When a device trips that runs with `wrong.relay` and is wired as `wrong`, after the inception; infinite
/// when not within `longest_s`.
[[nodiscard]] double trip_time(const Device& wrong, const Episode& episode, double longest_s);

}  // namespace zavrek::trial::internal
