// The series and capacitance blocks of a stretch of the network, by kinds.
#pragma once

#include <tuple>
#include <utility>

#include "emt/groups/capacitance_group.hpp"
#include "emt/groups/series_group.hpp"
#include "emt/groups/three_phase_groups.hpp"

namespace zavrek::emt::internal {

using PartGroups =
    std::tuple<SeriesGroup<1, false>, SeriesGroup<1, true>, SeriesGroup<2, false>, SeriesGroup<3, false>,
               SeriesGroup<4, false>, ThreePhaseSeries<Coupled, false>, ThreePhaseSeries<Coupled, true>,
               ThreePhaseSeries<Balanced, false>, ThreePhaseSeries<Balanced, true>,
               ThreePhaseSeries<Uncoupled, false>, ThreePhaseSeries<Uncoupled, true>, CapacitanceGroup<1>,
               ThreePhaseCapacitance<Coupled>, ThreePhaseCapacitance<Balanced>,
               ThreePhaseCapacitance<Uncoupled>>;

/// Calls `visit` with each group.
template <class Visit>
void for_each_group(PartGroups& parts, Visit&& visit) noexcept {
  std::apply([&](auto&... group) { (visit(group), ...); }, parts);
}

/// Calls `visit` with each number of the history of all blocks.
template <class Visit>
void for_each_history(PartGroups& parts, Visit&& visit) noexcept {
  for_each_group(parts, [&](auto& group) { group.for_each_history(visit); });
}

}  // namespace zavrek::emt::internal
