#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A converter bridge: one leg of valves per phase of its a.c. bus, between the poles of its d.c. bus.
struct Bridge {
  std::string name;
  std::string topology = "two-level";
  std::string dc;
  std::string ac;
  std::string ac_delta;
  std::string depth = "switched";
  std::string device = "transistor";
  double on_resistance_ohm = 1e-3;
  double drop_V = 0;
  double diode_resistance_ohm = unset;
  double diode_drop_V = unset;
  double off_resistance_ohm = 1e8;
};

inline const Table& table(const Bridge*) {
  static const Table built =
      TableOf<Bridge>("bridge", "converter bridge: a leg of valves per phase of its a.c. bus")
          .choice(
              "topology", &Bridge::topology, {"two-level", "neutral-point clamped", "t-type", "twelve-pulse"},
              "of a leg; an a.c. bus of one, two or three phases makes a half, an H or a three-phase bridge. "
              "Twelve-pulse: two six-pulse bridges in series")
          .bus("dc", &Bridge::dc, "bus with poles p and n, for three levels also m")
          .bus("ac", &Bridge::ac, "bus with the phases")
          .bus("ac_delta", &Bridge::ac_delta,
               "of a twelve-pulse bridge: bus of its lower half, fed by the winding in delta", Need::optional)
          .choice("depth", &Bridge::depth, {"switched", "averaged"},
                  "averaged: legs that pulse give the mean of each step; blocked or broken ones are "
                  "switched, and so "
                  "are diodes and thyristors, which the network turns off")
          .choice("device", &Bridge::device, {"transistor", "diode", "thyristor"},
                  "valves of a two-level bridge; diodes and thyristors rectify")
          .quantity("on_resistance", &Bridge::on_resistance_ohm, "ohm", above(0), "of a valve that conducts")
          .quantity("drop", &Bridge::drop_V, "V", at_least(0), "forward voltage of a valve at no current")
          .quantity("diode_resistance", &Bridge::diode_resistance_ohm, "ohm", above(0),
                    "of the diodes; on_resistance when left out", Need::optional)
          .quantity("diode_drop", &Bridge::diode_drop_V, "V", at_least(0),
                    "of the diodes; drop when left out", Need::optional)
          .quantity("off_resistance", &Bridge::off_resistance_ohm, "ohm", above(0),
                    "of a valve that does not conduct")
          .gives("i#", "A", "current into it from its a.c. bus")
          .gives("delta.i#", "A", "current into its lower half from that half's a.c. bus")
          .gives("idc", "A", "current out of the positive pole of its d.c. bus into it")
          .gives("*.i", "A", "current through a valve, forwards")
          .gives("*.on", "", "1 while that valve conducts")
          .build();
  return built;
}

}  // namespace zavrek::network
