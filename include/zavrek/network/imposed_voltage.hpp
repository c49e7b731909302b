#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Voltages that come from outside of the model: of another simulator's bus.
struct ImposedVoltage {
  std::string name;
  std::string bus;
  std::vector<std::string> starts_with;
};

inline const Table& table(const ImposedVoltage*) {
  static const Table built =
      TableOf<ImposedVoltage>("imposed_voltage",
                              "voltages that are told from outside, of the phases of a bus to ground; knobs "
                              "NAME.a, NAME.b, NAME.c (NAME.p, NAME.n), which may be turned at each step; "
                              "NAME.ia ... flows out of it into the network")
          .bus("bus", &ImposedVoltage::bus, "bus whose voltages they are")
          .texts("starts_with", &ImposedVoltage::starts_with,
                 "voltage of each phase in the steady state that a run starts from: [\"5.39 kV at -30 "
                 "deg\", ...]; none when left out")
          .supplies()
          .gives("#", "V", "what it is told")
          .gives("i#", "A", "current out of it, into its bus")
          .build();
  return built;
}

}  // namespace zavrek::network
