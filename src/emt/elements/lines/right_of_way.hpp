#pragma once

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// The stretches of lines that run beside each other, split wherever one of them is tapped. They come behind
/// faults, which tap lines, and ahead of the lines, which take their stretches from here.
void assemble_rights_of_way(Assembly& assembly);

/// The place on line `beside`, as a fraction of it, where it runs beside the place `at` of `line`; NaN where
/// they share no right of way.
[[nodiscard]] double place_beside(const Assembly& assembly, const std::string& line, double at,
                                  const std::string& beside);

}  // namespace zavrek::emt::internal
