#include "trial/judge/time_tolerance.hpp"

#include <fmt/format.h>

#include "zavrek/quantity.hpp"

namespace zavrek::trial::internal {

TimeTolerance time_tolerance(const std::vector<std::string>& texts) {
  TimeTolerance tolerance;
  for (const std::string& text : texts) {
    const Quantity q = parse_quantity(text);
    const bool is_share = q.dimension == Dimension{},
               is_time = q.dimension == parse_quantity("1 s").dimension;
    if ((!is_share && !is_time) || !(q.value >= 0))
      throw Error(fmt::format(
          "\"{}\" is no tolerance of times; a share such as \"5 %\" or a time such as \"30 ms\" is wanted",
          text));
    (is_share ? tolerance.share : tolerance.time_s) = q.value;
  }
  return tolerance;
}

}  // namespace zavrek::trial::internal
