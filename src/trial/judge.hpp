// Expectations against what happened.
#pragma once

#include <string>
#include <vector>

#include "trial/rig.hpp"

namespace zavrek::trial::internal {

/// What a trial left behind, as the judge sees it. Times of `rig` count from the start of the run.
struct Outcome {
  const Case& all;
  const Rig& rig;
  const record::Record& record;
  double inception_s;
  double ended_s;
  double lasts_until_s;  ///< the fault; the end of the run when there is none
};

/// Throws Error unless the band of a waveform's expectation has the dimension of its measure; `unit` is that
/// of the signal.
void require_band(const Expectation& expectation, const std::string& unit);
[[nodiscard]] Verdict judge(const Expectation& expectation, const Outcome& outcome);
/// What would explain that a trip did not come as its settings say, for the report.
[[nodiscard]] std::vector<Explanation> explain(const Expectation& expectation, const Outcome& outcome);

/// Rms of the largest phase at the fault, over the cycle that starts two cycles after inception.
[[nodiscard]] double fault_current(const record::Record& record, double inception_s);

}  // namespace zavrek::trial::internal
