#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Currents that come from outside of the model: of a device at a power amplifier, of another simulator.
struct ImposedCurrent {
  std::string name;
  std::string bus;
};

inline const Table& table(const ImposedCurrent*) {
  static const Table built =
      TableOf<ImposedCurrent>("imposed_current",
                              "currents that are told from outside, drawn out of the phases of a bus; knobs "
                              "NAME.a, NAME.b, NAME.c (NAME.p, NAME.n), which may be turned at each step")
          .bus("bus", &ImposedCurrent::bus, "bus that they are drawn from")
          .build();
  return built;
}

}  // namespace zavrek::network
