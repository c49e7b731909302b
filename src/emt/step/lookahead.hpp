#pragma once

#include <vector>

#include "emt/groups/pole_group.hpp"

namespace zavrek::emt::internal {

/// What is made already for the step to come: a ladder, each rung with all below it.
struct Lookahead {
  enum class Rung : char {
    nothing,
    solved,            // the solution at its end stands in `next`
    event_found,       // and the first event within it is `event_s`, never_s when there is none;
    prepared,          // what does not change over at that event stands: values, histories, sources,
    half_step_solved,  // and how the valves fit just behind it: they stand so
  };
  Rung rung = Rung::nothing;
  double event_s = never_s;
  std::vector<int> poles_changed;  // room for all poles: factors are made as these will stand
  bool edges_taken = false;        // the step at hand took edges that changed nothing: it has done enough

  [[nodiscard]] bool reaches(Rung wanted) const noexcept { return rung >= wanted; }
  [[nodiscard]] bool half_step_solved() const noexcept { return rung == Rung::half_step_solved; }
  /// The event was used, or does not hold any more.
  void drop_event() noexcept {
    if (rung > Rung::solved) rung = Rung::solved;
    event_s = never_s;
  }
  void visit_state(StateArchive& archive) {
    archive(rung);
    archive(event_s);
    archive(poles_changed);
    archive(edges_taken);
  }
};

/// What changes over at the event at hand: poles of one command, or two that share a current, are one
/// discontinuity. Room for all poles, segments, valves; their numbers.
struct EventSet {
  std::vector<int> poles, segments, valves;
  bool sources = false;  // a corner of their programmes

  void clear() noexcept {
    sources = false;
    poles.clear();
    segments.clear();
    valves.clear();
  }
  void visit_state(StateArchive& archive) {
    archive(poles);
    archive(segments);
    archive(valves);
    archive(sources);
  }
};

}  // namespace zavrek::emt::internal
