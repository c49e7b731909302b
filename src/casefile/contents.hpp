// What the files of a case hold, each read from its text.
#pragma once

#include "casefile/reader.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::casefile::internal {

[[nodiscard]] network::Network read_network(Reader& reader);
/// Of a file that holds one geometry alone.
[[nodiscard]] network::LineGeometry read_geometry(Reader& reader);
[[nodiscard]] control::Description read_control(Reader& reader);
/// Of a relay.
[[nodiscard]] protection::RelaySettings read_settings(Reader& reader);
void read_bench(Reader& reader, bench::Bench& bench);
/// Trials and sweeps.
void read_trials(Reader& reader, trial::Case& all);
/// Of element tests of a relay with such settings.
[[nodiscard]] trial::InjectionPlan read_plan(Reader& reader, const protection::RelaySettings& settings);

}  // namespace zavrek::casefile::internal
