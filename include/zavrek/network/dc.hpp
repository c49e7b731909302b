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
  double remaining = unset;
  double series_resistance_ohm = 0;
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
          .quantity("remaining", &DcLink::remaining, "%", within(0.01, 1),
                    "share of the capacitance that age has left; write it to be able to change it",
                    Need::optional)
          .changeable()
          .quantity("series_resistance", &DcLink::series_resistance_ohm, "mohm", at_least(0),
                    "of each capacitor")
          .gives("v", "V", "between p and n")
          .gives("v_upper", "V", "between p and m")
          .build();
  return built;
}

/// An ideal d.c. voltage behind a resistance, between the poles p and n of a bus or any two terminals.
struct DcSource {
  std::string name;
  std::string bus;
  std::string plus, minus;
  double voltage_V = unset;
  double resistance_ohm = 1e-3;
};

inline const Table& table(const DcSource*) {
  static const Table built =
      TableOf<DcSource>("dc_source", "d.c. voltage behind a resistance, from p to n")
          .bus("bus", &DcSource::bus, "bus with poles p and n", Need::optional)
          .text("plus", &DcSource::plus, "terminal of its positive side, such as \"dc.m\", instead of a bus",
                Need::optional)
          .text("minus", &DcSource::minus, "terminal of its negative side, such as \"ground\"",
                Need::optional)
          .quantity("voltage", &DcSource::voltage_V, "V", any(), "open-circuit voltage")
          .changeable()
          .quantity("resistance", &DcSource::resistance_ohm, "ohm", above(0), "inner")
          .supplies()
          .gives("i", "A", "current out of it, into its bus")
          .build();
  return built;
}

/// A battery between the poles p and n: open-circuit voltage over state of charge, behind a resistance and
/// two R-C pairs.
struct Battery {
  std::string name;
  std::string bus;
  double capacity_C = unset;
  double charge = 0.5;
  Points open_circuit;
  double resistance_ohm = unset;
  double fast_resistance_ohm = 0, fast_time_s = 1;
  double slow_resistance_ohm = 0, slow_time_s = 60;
  int cells = 0;
  double shorted_cells = 0, added_resistance_ohm = 0;
};

inline const Table& table(const Battery*) {
  static const Table built =
      TableOf<Battery>("battery", "battery between the poles p and n of a d.c. bus")
          .bus("bus", &Battery::bus, "bus with poles p and n")
          .quantity("capacity", &Battery::capacity_C, "A h", above(0), "from full to empty")
          .quantity("charge", &Battery::charge, "%", within(0, 1), "state of charge at the start")
          .points("open_circuit", &Battery::open_circuit, "%", "V",
                  "open-circuit voltage over state of charge, such as [\"0 %: 640 V\", \"100 %: 820 V\"]",
                  Need::required)
          .quantity("resistance", &Battery::resistance_ohm, "ohm", above(0), "felt at once")
          .quantity("fast_resistance", &Battery::fast_resistance_ohm, "ohm", at_least(0),
                    "of the fast R-C pair")
          .quantity("fast_time", &Battery::fast_time_s, "s", above(0), "its time constant")
          .quantity("slow_resistance", &Battery::slow_resistance_ohm, "ohm", at_least(0),
                    "of the slow R-C pair")
          .quantity("slow_time", &Battery::slow_time_s, "s", above(0), "its time constant")
          .count("cells", &Battery::cells, within(0, 100000),
                 "in series; write it to be able to let some of them fail")
          .quantity("shorted_cells", &Battery::shorted_cells, "", at_least(0),
                    "so many of them give nothing and resist nothing; all but one at most")
          .changeable()
          .quantity("added_resistance", &Battery::added_resistance_ohm, "mohm", at_least(0),
                    "of cells, or of what connects them, that fail")
          .changeable()
          .supplies()
          .gives("i", "A", "current out of it, into its bus: discharging")
          .gives("charge", "", "state of charge, 0 to 1")
          .build();
  return built;
}

}  // namespace zavrek::network
