#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A busbar: one node per phase or d.c. pole.
struct Bus {
  std::string name;
  double voltage_V =
      unset;  ///< nominal, rms between phases (to ground on a one-phase bus; between the poles on a d.c. bus)
  std::string phases = "abc";
};

inline const Table& table(const Bus*) {
  static const Table built =
      TableOf<Bus>("bus", "busbar, one node per phase; `bus.NAME = \"11 kV\"` for short")
          .quantity("voltage", &Bus::voltage_V, "kV", above(0), "nominal, between phases")
          .choice("phases", &Bus::phases, {"abc", "ab", "bc", "ac", "a", "b", "c", "pn", "pnm", "p"},
                  "its phases, or d.c. poles: positive, negative, middle")
          .gives("v#", "V", "to ground")
          .build();
  return built;
}

}  // namespace zavrek::network
