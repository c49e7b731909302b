// What the files of a case hold, each read from its text.
#pragma once

#include "casefile/model_contents.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::casefile::internal {

/// Of a relay.
[[nodiscard]] protection::RelaySettings read_settings(Reader& reader);
void read_bench(Reader& reader, bench::Bench& bench);
/// Trials and sweeps.
void read_trials(Reader& reader, trial::Case& all);
/// Of element tests of a relay with such settings.
[[nodiscard]] trial::InjectionPlan read_plan(Reader& reader, const protection::RelaySettings& settings);

}  // namespace zavrek::casefile::internal
