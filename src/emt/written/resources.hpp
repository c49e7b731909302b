// The written-out step's own text, piece by piece: pieces/*.c. In them NAME stands for the model's name,
// HEADER for the file of its header, @ for the phases of the parts at hand.
#pragma once

#include <string_view>
#include <utility>
#include <vector>

namespace zavrek::emt::internal {

extern const std::string_view declarations_c, types_c, series_c, capacitance_c, matrix_c, sources_c, poles_c,
    segments_c, valves_c, waves_c, lines_c, laws_c, step_c, inputs_c, control_c, interface_c;
/// law_KIND.c, by their names.
extern const std::vector<std::pair<std::string_view, std::string_view>> bundled_files;

}  // namespace zavrek::emt::internal
