// The values of the plant at the instants that a step works on. All values of one instant stand in one array:
// ground, known node voltages, unknown node voltages in the order of their partitions, then currents and
// other slots, last the numbers of condensed parts. The phases of a bus stand side by side (lanes.hpp).
#pragma once

#include <array>
#include <string>
#include <utility>
#include <vector>

#include "emt/parts/rule.hpp"
#include "emt/solve/lanes.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

/// Each array: as long as ValueMap says, indexed by position.
struct Instants {
  Numbers present;      // at the newest grid point
  Numbers next;         // at the one being solved
  Numbers middle, end;  // half a step and a step behind an event,
  Numbers third;        // and one and a half
  Numbers at_event;     // at the event that was found: what becomes the present there
  Numbers sloping;  // at the present, of what slopes follow from, when it lies behind an event in the step
  bool sloping_stands = false;  // before it (Behind)
  Numbers full_present;         // the present with what condensed parts do not keep up, when `full_stands`
  bool full_stands = false;

  [[nodiscard]] std::array<Numbers*, 7> all() noexcept {
    return {&present, &next, &middle, &end, &third, &at_event, &sloping};
  }
  void make_room(std::size_t values) {
    for (Numbers* array : all()) array->assign(values, 0.0);
  }
  void visit_state(StateArchive& archive) {
    for (Numbers* array : all()) archive(*array);
    archive(full_present);
    archive(full_stands);
    archive(sloping_stands);
  }
};

/// What stands where in these arrays.
struct ValueMap {
  int voltages = 0;         // ground, known and unknown nodes: the first `voltages` positions
  int first_unknown = 0;    // position
  int first_condensed = 0;  // of the numbers of condensed parts, which stand behind all others
  /// Positions [first, second), in whole lanes, that a solution writes, but for what condensed parts hold and
  /// for known voltages: those that another solution starts from, and those that are only read from outside.
  /// The others need not follow an event.
  std::vector<std::pair<int, int>> carried_ranges, output_ranges;
  /// Per position: up to date after every step; of positions that hold no value, none is.
  std::vector<char> evaluated_each_step;
  std::vector<int> shard_of_value;  // per position, of those that are not
  /// Positions (first, count) of the currents of capacitances outside condensed parts. A jump of their
  /// voltage is an impulse of current in the first half step behind it, of which nothing may be carried on.
  std::vector<std::pair<int, int>> capacitor_currents;
  std::vector<std::string> position_names;  // of node voltages
  std::vector<double> voltage_bounds;       // V, likewise: what nothing explains lies beyond

  [[nodiscard]] bool is_evaluated(int position) const noexcept {
    return evaluated_each_step[static_cast<std::size_t>(position)] != 0;
  }
};

/// The right-hand side of the solution to come, A into each node: the passes over the parts leave there what
/// they know already.
struct HistoryRhs {
  Numbers rhs;               // per node voltage's position
  bool ahead_holds = false;  // they did, by `ahead_rule`, and nothing disturbed the values since
  Rule ahead_rule = Rule::trapezoidal;

  [[nodiscard]] bool stands_for(Rule rule) const noexcept { return ahead_holds && ahead_rule == rule; }
  void hold(Rule rule) noexcept {
    ahead_holds = true;
    ahead_rule = rule;
  }
  void visit_state(StateArchive& archive) {
    archive(rhs);
    archive(ahead_holds);
    archive(ahead_rule);
  }
};

}  // namespace zavrek::emt::internal
