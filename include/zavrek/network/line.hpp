#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A transposed line with travelling waves and constant parameters, from sequence data.
struct Line {
  std::string name;
  std::array<std::string, 2> between;
  double length_m = unset;
  double r1_ohm_per_m = 0;
  double x1_ohm_per_m = unset;
  double c1_F_per_m = unset;
  double r0_ohm_per_m = 0;
  double x0_ohm_per_m = unset;
  double c0_F_per_m = unset;
};

inline const Table& table(const Line*) {
  static const Table built =
      TableOf<Line>("line", "line with travelling waves, constant parameters, transposed, from sequence data")
          .between("between", &Line::between, "the buses at its ends")
          .quantity("length", &Line::length_m, "km", above(0), "length")
          .quantity("r1", &Line::r1_ohm_per_m, "ohm/km", at_least(0), "positive-sequence resistance")
          .quantity("x1", &Line::x1_ohm_per_m, "ohm/km", above(0),
                    "positive-sequence reactance at the frequency of the network")
          .quantity("c1", &Line::c1_F_per_m, "nF/km", above(0), "positive-sequence capacitance")
          .quantity("r0", &Line::r0_ohm_per_m, "ohm/km", at_least(0), "zero-sequence resistance")
          .quantity("x0", &Line::x0_ohm_per_m, "ohm/km", above(0),
                    "zero-sequence reactance; needed on three-phase buses", Need::optional)
          .quantity("c0", &Line::c0_F_per_m, "nF/km", above(0),
                    "zero-sequence capacitance; needed on three-phase buses", Need::optional)
          .build();
  return built;
}

}  // namespace zavrek::network
