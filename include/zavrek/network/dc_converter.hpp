#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// One leg between the poles of a d.c. bus and, through an inductor, the positive pole of another d.c. bus of
/// lower voltage; the negative poles are joined.
struct DcConverter {
  std::string name;
  std::string topology = "two-quadrant";
  std::string high;
  std::string low;
  double inductance_H = unset;
  double resistance_ohm = 1e-3;
  std::string depth = "switched";
  double on_resistance_ohm = 1e-3;
  double drop_V = 0;
  double diode_resistance_ohm = unset;
  double diode_drop_V = unset;
  double off_resistance_ohm = 1e8;
};

inline const Table& table(const DcConverter*) {
  using C = DcConverter;
  static const Table built =
      TableOf<C>("dc_converter", "leg and inductor between two d.c. buses; gates NAME.upper and NAME.lower")
          .choice(
              "topology", &C::topology, {"buck", "boost", "two-quadrant"},
              "buck: transistor above, diode below, power flows to the lower voltage; boost: the other way "
              "round; two-quadrant: transistors in both places")
          .bus("high", &C::high, "d.c. bus of the higher voltage, with poles p and n")
          .bus("low", &C::low, "d.c. bus of the lower voltage, with poles p and n")
          .quantity("inductance", &C::inductance_H, "mH", above(0), "between the leg and the lower voltage")
          .quantity("resistance", &C::resistance_ohm, "mohm", at_least(0), "of the inductor")
          .choice("depth", &C::depth, {"switched", "averaged"},
                  "averaged: while it pulses, the leg gives the mean of each step")
          .quantity("on_resistance", &C::on_resistance_ohm, "mohm", above(0), "of a valve that conducts")
          .quantity("drop", &C::drop_V, "V", at_least(0), "forward voltage of a valve at no current")
          .quantity("diode_resistance", &C::diode_resistance_ohm, "mohm", above(0),
                    "of the diodes; on_resistance when left out", Need::optional)
          .quantity("diode_drop", &C::diode_drop_V, "V", at_least(0), "of the diodes; drop when left out",
                    Need::optional)
          .quantity("off_resistance", &C::off_resistance_ohm, "Mohm", above(0),
                    "of a valve that does not conduct")
          .gives("i", "A", "current of its inductor, from its leg to the bus `low`")
          .gives("*.i", "A", "current through a valve, forwards")
          .gives("*.on", "", "1 while that valve conducts")
          .build();
  return built;
}

/// A resistor that a transistor puts across a d.c. bus, with a diode for the resistor's inductance.
struct Chopper {
  std::string name;
  std::string bus;
  double resistance_ohm = unset;
  double inductance_H = 0;
  double on_resistance_ohm = 1e-3;
  double drop_V = 0;
  double diode_resistance_ohm = unset;
  double diode_drop_V = unset;
  double off_resistance_ohm = 1e8;
};

inline const Table& table(const Chopper*) {
  static const Table built =
      TableOf<Chopper>("chopper", "braking resistor behind a transistor on a d.c. bus; gate NAME.valve")
          .bus("bus", &Chopper::bus, "d.c. bus with poles p and n")
          .quantity("resistance", &Chopper::resistance_ohm, "ohm", above(0), "of the resistor")
          .quantity("inductance", &Chopper::inductance_H, "uH", at_least(0), "of the resistor")
          .quantity("on_resistance", &Chopper::on_resistance_ohm, "mohm", above(0),
                    "of a valve that conducts")
          .quantity("drop", &Chopper::drop_V, "V", at_least(0), "forward voltage of a valve at no current")
          .quantity("diode_resistance", &Chopper::diode_resistance_ohm, "mohm", above(0),
                    "of the diode beside the resistor; on_resistance when left out", Need::optional)
          .quantity("diode_drop", &Chopper::diode_drop_V, "V", at_least(0),
                    "of that diode; drop when left out", Need::optional)
          .quantity("off_resistance", &Chopper::off_resistance_ohm, "Mohm", above(0),
                    "of a valve that does not conduct")
          .gives("i", "A", "current of its resistor, out of the positive pole")
          .gives("valve.i", "A", "current through its transistor")
          .build();
  return built;
}

}  // namespace zavrek::network
