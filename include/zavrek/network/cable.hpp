#pragma once

#include "zavrek/network/line_values.hpp"

namespace zavrek::network {

/// A cable (or a short line) as a chain of pi sections with coupled phases.
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
  std::vector<double> r_matrix_ohm_per_m, x_matrix_ohm_per_m, b_matrix_S_per_m;
  std::string geometry;
  int sections = 1;
};

inline const Table& table(const Cable*) {
  static const Table built = [] {
    TableOf<Cable> rows("cable", "cable or short line as a chain of pi sections with coupled phases");
    return line_value_rows(rows)
        .count("sections", &Cable::sections, within(1, 100), "number of pi sections")
        .gives("i#", "A", "current into it at its first bus")
        .gives("i#_far", "A", "current into it at its second bus")
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
