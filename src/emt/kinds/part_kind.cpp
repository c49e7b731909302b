#include "emt/kinds/part_kind.hpp"

#include <array>

namespace zavrek::emt::internal {

std::span<const PartKind* const> part_kinds() {
  static const std::array kinds{&series_kind(), &capacitance_kind(), &conductance_kind(), &drive_kind(),
                                &pole_kind(),   &segment_kind(),     &valve_kind(),       &leg_kind(),
                                &wave_kind(),   &model_kind()};
  return kinds;
}

}  // namespace zavrek::emt::internal
