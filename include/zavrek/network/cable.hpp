#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A cable as a chain of pi sections, from sequence data.
struct Cable {
  std::string name;
  std::array<std::string, 2> between;
  double length_m = unset;
  double r1_ohm_per_m = unset;
  double x1_ohm_per_m = unset;
  double c1_F_per_m = unset;
  double r0_ohm_per_m = unset;
  double x0_ohm_per_m = unset;
  double c0_F_per_m = unset;
  int sections = 1;
};

inline const Table& table(const Cable*) {
  static const Table built =
      TableOf<Cable>("cable", "cable as a chain of pi sections, coupled phases, from sequence data")
          .between("between", &Cable::between, "the buses at its ends")
          .quantity("length", &Cable::length_m, "km", above(0), "route length")
          .quantity("r1", &Cable::r1_ohm_per_m, "ohm/km", at_least(0), "positive-sequence resistance")
          .quantity("x1", &Cable::x1_ohm_per_m, "ohm/km", above(0),
                    "positive-sequence reactance at the frequency of the network")
          .quantity("c1", &Cable::c1_F_per_m, "uF/km", at_least(0), "positive-sequence capacitance")
          .quantity("r0", &Cable::r0_ohm_per_m, "ohm/km", at_least(0), "zero-sequence resistance")
          .quantity("x0", &Cable::x0_ohm_per_m, "ohm/km", above(0), "zero-sequence reactance")
          .quantity("c0", &Cable::c0_F_per_m, "uF/km", at_least(0), "zero-sequence capacitance")
          .count("sections", &Cable::sections, within(1, 100), "number of pi sections")
          .build();
  return built;
}

}  // namespace zavrek::network
