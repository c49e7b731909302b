// What a trial does to its plant, control and contacts, as commands at instants of the run.
#pragma once

#include <vector>

#include "trial/control_seat.hpp"
#include "trial/rig.hpp"

namespace zavrek::trial::internal {

/// What the engineer does, in the words of the plant and its control; values in the unit of each knob. Throws
/// Error with the trial's name for a knob that is not there or a value of another dimension.
struct Operations {
  std::vector<emt::Command> commands;
  std::vector<ControlTurn> turns;
  std::vector<ContactTurn> contacts;
};
[[nodiscard]] Operations operations(const emt::Plant& plant, const control::Controller* controller,
                                    const Bench& bench, const Trial& trial, double zero_s);

}  // namespace zavrek::trial::internal
