// Expectations against what happened.
#pragma once

#include <string>
#include <vector>

#include "trial/judge/evidence.hpp"

namespace zavrek::trial::internal {

/// What is judged, and by what: a record and the settings of a case. Times count from the start of the run.
struct Outcome {
  const Case& all;
  const Trial& trial;
  const record::Record& record;
  Evidence evidence;
  double inception_s;
  double ended_s;
  double lasts_until_s;  ///< the fault; the end of the run when there is none
  double late_s = 0;     ///< by which the computer was late at most
};

/// Throws Error unless the band of a waveform's expectation has the dimension of its measure; `unit` is that
/// of the signal.
void require_band(const Expectation& expectation, const std::string& unit, bool plain);
[[nodiscard]] Verdict judge(const Expectation& expectation, const Outcome& outcome);

/// Rms of the largest phase at the fault, over the cycle that starts two cycles after inception.
[[nodiscard]] double fault_current(const record::Record& record, double inception_s);

}  // namespace zavrek::trial::internal
