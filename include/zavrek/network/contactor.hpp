#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A contactor: interrupts whatever current flows, a direct one too.
struct Contactor {
  std::string name;
  std::array<std::string, 2> between;
  bool closed = false;
  double opening_time_s = 10e-3;
  double closing_time_s = 20e-3;
  double closed_resistance_ohm = 1e-4;
  double precharge_resistance_ohm = unset;
};

inline const Table& table(const Contactor*) {
  static const Table built =
      TableOf<Contactor>("contactor", "contactor between a.c. or d.c. buses; interrupts any current at once")
          .between("between", &Contactor::between, "the buses at its sides")
          .flag("closed", &Contactor::closed, "position at the start")
          .quantity("opening_time", &Contactor::opening_time_s, "ms", at_least(0),
                    "from the command to the parting of the contacts")
          .quantity("closing_time", &Contactor::closing_time_s, "ms", at_least(0),
                    "from the command to the touching of the contacts")
          .quantity("closed_resistance", &Contactor::closed_resistance_ohm, "mohm", above(0), "per pole")
          .quantity(
              "precharge_resistance", &Contactor::precharge_resistance_ohm, "ohm", above(0),
              "of a resistor beside each pole, switched by a contactor of its own, NAME.precharge; none "
              "when left out",
              Need::optional)
          .gives("i#", "A", "current into it at its first bus")
          .gives("i#_far", "A", "current into it at its second bus")
          .gives("closed", "", "share of its poles that are closed")
          .gives("precharge.*", "",
                 "the same of what charges ahead of it: precharge.ia (A), precharge.closed")
          .build();
  return built;
}

}  // namespace zavrek::network
