#include "tool/json.hpp"

#include <fmt/format.h>

namespace zavrek::tool {

void print_causes(const std::vector<trial::Explanation>& causes, const std::string& of_what) {
  constexpr std::size_t likeliest = 3;
  for (std::size_t k = 0; k < causes.size() && k < likeliest; ++k)
    fmt::print("{}{}: explains {} of {} {}\n", k == 0 ? "\n" : "", causes[k].words(), causes[k].explained,
               causes[k].of, of_what);
}

}  // namespace zavrek::tool
