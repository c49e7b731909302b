// What a trial does to its plant, control and contacts, as deeds at instants of the run.
#pragma once

#include <string>
#include <vector>

#include "zavrek/trial.hpp"

namespace zavrek::trial::internal {

/// What the engineer does; values in the unit of each knob. Throws Error in the name of `place` for something
/// that `exchange` does not know, or a value of another dimension.
[[nodiscard]] std::vector<bench::Deed> operations(bench::Exchange& exchange,
                                                  const std::vector<Operation>& operate, double zero_s,
                                                  const std::string& place);
[[nodiscard]] inline std::vector<bench::Deed> operations(bench::Exchange& exchange, const Trial& trial,
                                                         double zero_s) {
  return operations(exchange, trial.operate, zero_s, "trial \"" + trial.name + "\"");
}
/// Faults that strike and end.
[[nodiscard]] std::vector<bench::Deed> fault_deeds(const Trial& trial, double inception_s);

}  // namespace zavrek::trial::internal
