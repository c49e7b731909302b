#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A disconnector: moves when its interlocking allows, and interrupts what little current it can.
struct Disconnector {
  std::string name;
  std::array<std::string, 2> between;
  bool closed = true;
  double travel_time_s = 3;
  double breaks_A = 0.5;
  std::vector<std::string> only_when_open;
};

inline const Table& table(const Disconnector*) {
  static const Table built =
      TableOf<Disconnector>("disconnector", "disconnector with interlocking")
          .between("between", &Disconnector::between, "the buses at its sides")
          .flag("closed", &Disconnector::closed, "position at the start")
          .quantity("travel_time", &Disconnector::travel_time_s, "s", at_least(0),
                    "from the command to the end")
          .quantity("breaks", &Disconnector::breaks_A, "A", at_least(0),
                    "current that it interrupts; of more it waits for the zero")
          .texts("only_when_open", &Disconnector::only_when_open,
                 "breakers, disconnectors and earthing switches that must be open before it moves")
          .gives("i#", "A", "current into it at its first bus")
          .gives("i#_far", "A", "current into it at its second bus")
          .gives("closed", "", "share of its poles that are closed")
          .build();
  return built;
}

/// An earthing switch from a bus to ground.
struct EarthingSwitch {
  std::string name;
  std::string bus;
  bool closed = false;
  double travel_time_s = 1;
  double resistance_ohm = 1e-3;
  std::vector<std::string> only_when_open;
};

inline const Table& table(const EarthingSwitch*) {
  static const Table built =
      TableOf<EarthingSwitch>("earthing_switch", "earthing switch with interlocking")
          .bus("bus", &EarthingSwitch::bus, "bus that it earths")
          .flag("closed", &EarthingSwitch::closed, "position at the start")
          .quantity("travel_time", &EarthingSwitch::travel_time_s, "s", at_least(0),
                    "from the command to the end")
          .quantity("resistance", &EarthingSwitch::resistance_ohm, "mohm", above(0), "per pole, closed")
          .texts("only_when_open", &EarthingSwitch::only_when_open,
                 "breakers and disconnectors that must be open before it closes")
          .gives("i#", "A", "current into it from its bus")
          .gives("closed", "", "share of its poles that are closed")
          .build();
  return built;
}

}  // namespace zavrek::network
