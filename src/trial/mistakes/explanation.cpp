#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "zavrek/trial.hpp"

namespace zavrek::trial {

std::string Explanation::words() const {
  constexpr double narrow = 1.1;  // told as one number
  const std::size_t place = has_amount() ? text.find('{') : std::string::npos;
  const std::size_t end = text.find('}', place);
  if (place == std::string::npos || end == std::string::npos) return text;
  const std::string unit = text.substr(place + 1, end - place - 1);
  const bool is_factor = unit.empty();
  const double scale = is_factor ? 1 : parse_unit(unit).scale;
  const double from = low / scale, to = high / scale;
  const bool open_below = is_factor && low <= least * 1.001, open_above = is_factor && high >= most / 1.001;
  std::string amount = open_below && !open_above ? fmt::format("at most {:.3g}", to)
                       : open_above              ? fmt::format("at least {:.3g}", from)
                       : to < narrow * from
                           ? fmt::format("about {:.3g}", best > 0 ? best / scale : std::sqrt(from * to))
                           : fmt::format("{:.3g} to {:.3g}", from, to);
  if (best > 0 && !open_below && !open_above && to >= narrow * from)
    amount += fmt::format(", best {:.3g},", best / scale);
  if (!is_factor) amount += " " + unit;
  return text.substr(0, place) + amount + text.substr(end + 1);
}

}  // namespace zavrek::trial
