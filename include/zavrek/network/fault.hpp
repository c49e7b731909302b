#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A place where a fault can be struck: on a bus, part-way along a line or cable, or inside a transformer.
/// One phase to ground, or two phases: `resistance` lies between the two. Otherwise each phase
/// reaches a common star point, solidly with ground (BCG, ABCG: `resistance` lies between star and
/// ground) or through `resistance` each without (ABC). Phases of another bus or line may take part: with one
/// phase here and one there `resistance` lies between the two, with more they reach the same star point.
struct Fault {
  std::string name = "fault";
  std::string on;
  double at = unset;  ///< fraction of the length from the first bus, or of the winding from its neutral
  std::string winding = "high";
  std::string phases = "ABC";
  double resistance_ohm = 0;
  std::string with;  ///< empty: what is faulted is the phases above alone
  double with_at = unset;
  std::string with_phases;  ///< as `phases`, without ground
  double arc_voltage_V = unset;
  double arc_resistance_ohm = 0.01;
  double arc_time_constant_s = 0.3e-3;
};

/// A place where any fault may be struck while a run goes: poles from each phase to a star point, and one
/// from there to ground, that close and open one by one ("NAME.a", "NAME.g"), each with a resistance that can
/// be set
/// ("NAME.a.resistance"). Of programs, not of files.
struct FaultPlace {
  std::string name;
  std::string on;
  double at = unset;  ///< as of a Fault
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
                  {"AG", "BG", "CG", "AB", "BC", "CA", "ABG", "BCG", "CAG", "ABC", "ABCG", "PN", "PG", "NG",
                   "A", "B", "C", "P", "N"},
                  "phases or d.c. poles involved; one alone when it meets another circuit's")
          .quantity("resistance", &Fault::resistance_ohm, "ohm", at_least(0),
                    "between two phases, or between phase and ground; of several phases: between their star "
                    "point and ground, in each phase without ground; at least 0.1 mohm")
          .element("with", &Fault::with, "bus or line of another circuit that takes part", Need::optional)
          .quantity("with_at", &Fault::with_at, "%", within(0, 1),
                    "place along that line; in a right of way the same place when left out", Need::optional)
          .text("with_phases", &Fault::with_phases, "phases of that circuit, such as \"B\" or \"BC\"",
                Need::optional)
          .quantity("arc_voltage", &Fault::arc_voltage_V, "V", above(0),
                    "voltage along the arc, nearly independent of its current; no arc when left out",
                    Need::optional)
          .quantity("arc_resistance", &Fault::arc_resistance_ohm, "ohm", above(0),
                    "what grows with the current")
          .quantity("arc_time_constant", &Fault::arc_time_constant_s, "ms", above(0),
                    "with which the arc's conductance follows its current")
          .gives("v#", "V", "at its place, to ground")
          .gives("i#", "A", "current into the fault")
          .gives("with_i#", "A", "current into the fault from the other circuit")
          .build();
  return built;
}

}  // namespace zavrek::network
