// What a device saw of a trial, and what it did.
#pragma once

#include <optional>
#include <vector>

#include "trial/judge/judge.hpp"
#include "trial/mistakes/causes.hpp"

namespace zavrek::trial::internal {

/// When what the device sees is no longer what it decided on: its trip has opened a breaker, or blocked a
/// gate, which has no position to wait for.
[[nodiscard]] double undisturbed_until(const Device& device, const Outcome& o, std::optional<double> rise_s);
/// What the device saw, until its trip took effect; from there on the last values hold as long as the fault
/// lasts, so that a relay that trips early does not hide what should have happened.
[[nodiscard]] protection::RecordedInputs seen_by(const Device& device, const Outcome& o, double until_s);

/// A trial and the verdicts on its expectations, in their order.
struct Judged {
  const Outcome* outcome;
  const std::vector<Verdict>* verdicts;
};
/// What would explain what the devices that failed did in all of these trials.
[[nodiscard]] std::vector<Explanation> causes_in(const std::vector<Judged>& trials);

}  // namespace zavrek::trial::internal
