#pragma once

#include <array>

#include "emt/groups/commutations.hpp"
#include "emt/groups/valve_group.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// What is known of the commutations of valves.
struct Commutator {
  Commutations commutations;            // what they came to
  bool may_remember = true;             // and that is asked
  ValveStates begun{};                  // behind the gate edges of the event at hand
  std::array<Pieces, 2> likely{};       // that these may end on
  bool watched_from_half_step = false;  // valves, behind an event of this step

  /// Those of valves that condensed parts hold. (Elsewhere averaged legs hold valves off or let them go, and
  /// conductances of models change: the same states then end otherwise.)
  [[nodiscard]] bool remembers(const ValveGroup& valves) const noexcept {
    return may_remember && valves.all_in_condensed() && valves.can_tell_states();
  }
  void visit_state(StateArchive& archive) {
    commutations.visit_state(archive);
    archive(begun);
    archive(likely);
    archive(watched_from_half_step);
  }
};

}  // namespace zavrek::emt::internal
