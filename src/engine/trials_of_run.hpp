// A run that somebody worked, as a trial; and its faults held against the settings at once.
#pragma once

#include <string>
#include <vector>

#include "engine/house.hpp"

namespace zavrek::engine::internal {

/// What was done as it would stand in trials.toml: the first fault and those that joined it, operations
/// before and behind, and what happened as expectations.
[[nodiscard]] trial::Trial trial_of(const Session& session, const std::vector<Struck>& struck,
                                    const std::string& name);

/// One fault with what its devices did, each against its settings ("from settings"), as far as it has run.
/// Empty when what it would be judged by is no longer kept.
[[nodiscard]] std::vector<trial::Verdict> verdicts_of(const Session& session, const Struck& struck);

}  // namespace zavrek::engine::internal
