#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Resistance, inductance and capacitance in series, per phase; between two buses or to "ground".
struct Branch {
  std::string name;
  std::array<std::string, 2> between;
  double resistance_ohm = 0;
  double inductance_H = 0;
  double capacitance_F = unset;
  double zero_resistance_ohm = unset;
  double zero_inductance_H = unset;
};

inline const Table& table(const Branch*) {
  static const Table built =
      TableOf<Branch>("branch", "series R-L-C per phase, between two buses or from a bus to \"ground\"")
          .between("between", &Branch::between, "its two buses; the second may be \"ground\"")
          .quantity("resistance", &Branch::resistance_ohm, "ohm", at_least(0), "positive sequence")
          .quantity("inductance", &Branch::inductance_H, "mH", at_least(0), "positive sequence")
          .quantity("capacitance", &Branch::capacitance_F, "uF", above(0), "none in series when left out",
                    Need::optional)
          .quantity("zero_resistance", &Branch::zero_resistance_ohm, "ohm", at_least(0),
                    "zero sequence; equal to the positive when left out", Need::optional)
          .quantity("zero_inductance", &Branch::zero_inductance_H, "mH", at_least(0),
                    "zero sequence; equal to the positive when left out", Need::optional)
          .gives("i#", "A", "current into it at its first bus")
          .gives("i#_far", "A", "current into it at its second bus")
          .gives("vc#", "V", "across its capacitor, from its first bus to its second")
          .build();
  return built;
}

}  // namespace zavrek::network
