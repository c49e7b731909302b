#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Currents that come from outside of the model: of a device at a power amplifier, of another simulator.
struct ImposedCurrent {
  std::string name;
  std::string bus;
  double damping_S = 0;
  int round_trip_steps = 2;
  std::vector<std::string> starts_with;
};

inline const Table& table(const ImposedCurrent*) {
  static const Table built =
      TableOf<ImposedCurrent>("imposed_current",
                              "currents that are told from outside, drawn out of the phases of a bus; knobs "
                              "NAME.a, NAME.b, NAME.c (NAME.p, NAME.n), which may be turned at each step")
          .bus("bus", &ImposedCurrent::bus, "bus that they are drawn from")
          .quantity(
              "damping", &ImposedCurrent::damping_S, "S", at_least(0),
              "conductance to ground that draws on what changes of the voltage within the round trip alone "
              "(damped impedance): of the size of what the device or the partner answers at once")
          .count("round_trip", &ImposedCurrent::round_trip_steps, within(1, 60),
                 "steps from a voltage here to the current that answers it, for the damping")
          .texts("starts_with", &ImposedCurrent::starts_with,
                 "current of each phase in the steady state that a run starts from: [\"120 A at -30 deg\", "
                 "...]; "
                 "none when left out")
          .gives("#", "A", "what it is told")
          .gives("i#", "A", "current into it from its bus")
          .build();
  return built;
}

}  // namespace zavrek::network
