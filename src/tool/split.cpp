#include <filesystem>

#include <fmt/format.h>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/handover.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::tool {

int split(const SplitOptions& options) {
  if (options.names.size() != 2 || options.names[0] == options.names[1])
    throw Error("--names wants two names that differ: the near half's and the far one's");
  handover::SplitOptions how{.at = options.at,
                             .names = {options.names[0], options.names[1]},
                             .delay = options.delay,
                             .out = options.out.empty() ? "." : options.out};
  const handover::Halves halves = handover::split_case(options.folder, how);
  if (options.json) {
    fmt::print("{}\n", printed("split", {{"near", halves.folders[0].string()},
                                         {"far", halves.folders[1].string()},
                                         {"left_out", halves.left_out},
                                         {"judged", halves.judged}}));
    return done;
  }
  fmt::print(
      "{} leads, {} follows; run both, each with the other as its partner:\n  zavrek run {} &\n  zavrek run "
      "{}\n",
      halves.folders[0].string(), halves.folders[1].string(), halves.folders[0].string(),
      halves.folders[1].string());
  if (!halves.judged.empty()) fmt::print("the cut is {}\n", halves.judged);
  for (const std::string& one : halves.left_out) fmt::print("left out: {}\n", one);
  return done;
}

}  // namespace zavrek::tool
