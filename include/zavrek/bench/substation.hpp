// A bench and the configuration of its substation (IEC 61850-6).
#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/description.hpp"
#include "zavrek/scl.hpp"

namespace zavrek::bench {

/// Streams and messages of the bench, of its subscriptions and of its devices take from `substation` what the
/// bench leaves out: those of the bench by their identifiers among what the IED `Bench::ied` publishes, those
/// of others among all. Returns what the bench says otherwise than the file, with the element and its line.
[[nodiscard]] std::vector<Flaw> take(const scl::Substation& substation, Setup& setup);

/// Its streams and messages as one IED, so that others can subscribe to them. Throws Error for what a
/// configuration cannot say.
[[nodiscard]] scl::Substation substation_of(const Setup& setup, const std::string& ied);

}  // namespace zavrek::bench
