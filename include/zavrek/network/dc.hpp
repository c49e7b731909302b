#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Capacitors between the poles of a d.c. bus; with a middle pole two of them in series.
struct DcLink {
  std::string name;
  std::string bus;
  double capacitance_F = unset;
  double voltage_V = 0;
  double discharge_ohm = unset;
  double earth_ohm = unset;
};

inline const Table& table(const DcLink*) {
  static const Table built =
      TableOf<DcLink>("dc_link", "capacitors between the poles of a d.c. bus")
          .bus("bus", &DcLink::bus, "bus with poles p and n, and m where they are two in series")
          .quantity("capacitance", &DcLink::capacitance_F, "uF", above(0), "of each capacitor")
          .quantity("voltage", &DcLink::voltage_V, "V", at_least(0), "between p and n at the start")
          .quantity("discharge", &DcLink::discharge_ohm, "kohm", above(0), "resistor beside each capacitor",
                    Need::optional)
          .quantity("earth", &DcLink::earth_ohm, "kohm", above(0),
                    "resistance from the middle (or from either pole) to ground: what holds the potential of "
                    "a bus that nothing else earths",
                    Need::optional)
          .build();
  return built;
}

/// An ideal d.c. voltage behind a resistance, between the poles p and n.
struct DcSource {
  std::string name;
  std::string bus;
  double voltage_V = unset;
  double resistance_ohm = 1e-3;
};

inline const Table& table(const DcSource*) {
  static const Table built =
      TableOf<DcSource>("dc_source", "d.c. voltage behind a resistance, from p to n")
          .bus("bus", &DcSource::bus, "bus with poles p and n")
          .quantity("voltage", &DcSource::voltage_V, "V", any(), "open-circuit voltage")
          .changeable()
          .quantity("resistance", &DcSource::resistance_ohm, "ohm", above(0), "inner")
          .build();
  return built;
}

}  // namespace zavrek::network
