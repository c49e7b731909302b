#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// One semiconductor, or an ideal switch with a gate, between two terminals such as "dc.p" and "mid.a".
struct Valve {
  std::string name;
  std::string device = "transistor";
  std::string from, to;
  double on_resistance_ohm = 1e-3;
  double drop_V = 0;
  double diode_resistance_ohm = unset;
  double diode_drop_V = unset;
  double off_resistance_ohm = 1e8;
};

inline const Table& table(const Valve*) {
  static const Table built =
      TableOf<Valve>("valve", "one semiconductor between two terminals; its gate bears its name")
          .choice("device", &Valve::device, {"diode", "thyristor", "transistor", "switch"},
                  "a transistor has a diode beside it, the other way round; a switch carries either way")
          .text("from", &Valve::from, "terminal where its current enters, such as \"dc.p\" or \"ground\"")
          .text("to", &Valve::to, "terminal where it leaves, such as \"mid.a\"")
          .quantity("on_resistance", &Valve::on_resistance_ohm, "ohm", above(0), "while it conducts")
          .quantity("drop", &Valve::drop_V, "V", at_least(0), "forward voltage at no current")
          .quantity("diode_resistance", &Valve::diode_resistance_ohm, "ohm", above(0),
                    "of the diode beside a transistor; on_resistance when left out", Need::optional)
          .quantity("diode_drop", &Valve::diode_drop_V, "V", at_least(0), "of that diode; drop when left out",
                    Need::optional)
          .quantity("off_resistance", &Valve::off_resistance_ohm, "ohm", above(0),
                    "while it does not conduct")
          .gives("i", "A", "current through it, from `from` to `to`")
          .gives("on", "", "1 while it conducts")
          .build();
  return built;
}

}  // namespace zavrek::network
