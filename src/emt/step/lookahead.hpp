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
  double bent = 0;                 // share (1 - share) of the event gone back to, 0 behind another
  bool bent_by_sloping = false;    // the slopes before it stand in `sloping`
  bool damped = false;             // at the last event states may have jumped
  bool behind_event = false;       // the step at hand met one: `next` stands behind it
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
    archive(bent);
    archive(bent_by_sloping);
    archive(damped);
    archive(behind_event);
    archive(edges_taken);
  }
};

/// What changes over at the event at hand: poles of one command, or two that share a current, are one
/// discontinuity. Room for all poles, segments, valves; their numbers.
struct EventSet {
  std::vector<int> poles, segments, valves;
  bool sources = false;  // a corner of their programmes
  bool legs = false;     // averaged legs take other shares

  void clear() noexcept {
    sources = legs = false;
    poles.clear();
    segments.clear();
    valves.clear();
  }
  /// Whether states may jump: poles move, sources do, or a step begins anew (without any of these: a knob was
  /// turned, a model meets other equations).
  [[nodiscard]] bool makes_jumps() const noexcept {
    return !poles.empty() || sources || (segments.empty() && valves.empty() && !legs);
  }
  void visit_state(StateArchive& archive) {
    archive(poles);
    archive(segments);
    archive(valves);
    archive(sources);
    archive(legs);
  }
};

}  // namespace zavrek::emt::internal
