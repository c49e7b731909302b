#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A place where a fault can be struck: on a bus, part-way along a line or cable, or inside a transformer.
/// One phase to ground, or two phases: `resistance` lies between the two. Otherwise each phase
/// reaches a common star point, solidly with ground (BCG, ABCG: `resistance` lies between star and
/// ground) or through `resistance` each without (ABC).
struct Fault {
  std::string name = "fault";
  std::string on;
  double at = unset;  ///< fraction of the length from the first bus, or of the winding from its neutral
  std::string winding = "high";
  std::string phases = "ABC";
  double resistance_ohm = 0;
  double arc_voltage_V = unset;
  double arc_resistance_ohm = 0.01;
  double arc_time_constant_s = 0.3e-3;
};

inline const Table& table(const Fault*) {
  static const Table built =
      TableOf<Fault>("fault", "a fault on a bus, part-way along a line or cable, or inside a transformer")
          .element("on", &Fault::on, "bus, line, cable or transformer")
          .quantity("at", &Fault::at, "%", within(0, 1),
                    "place along a line or cable, from its first bus; in a winding, from its neutral (the "
                    "coil's far "
                    "end in a delta)",
                    Need::optional)
          .choice("winding", &Fault::winding, {"high", "low", "tertiary"}, "of a transformer")
          .choice("phases", &Fault::phases,
                  {"AG", "BG", "CG", "AB", "BC", "CA", "ABG", "BCG", "CAG", "ABC", "ABCG", "PN", "PG", "NG"},
                  "phases or d.c. poles involved")
          .quantity("resistance", &Fault::resistance_ohm, "ohm", at_least(0), "of the fault")
          .quantity("arc_voltage", &Fault::arc_voltage_V, "V", above(0),
                    "voltage along the arc, nearly independent of its current; no arc when left out",
                    Need::optional)
          .quantity("arc_resistance", &Fault::arc_resistance_ohm, "ohm", above(0),
                    "what grows with the current")
          .quantity("arc_time_constant", &Fault::arc_time_constant_s, "ms", above(0),
                    "with which the arc's conductance follows its current")
          .build();
  return built;
}

}  // namespace zavrek::network
