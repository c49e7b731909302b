#pragma once

#include "zavrek/network/line_values.hpp"

namespace zavrek::network {

/// A line or long cable with travelling waves: constant parameters (transposed, or not when it has matrices
/// or a geometry), or parameters that follow the frequency (a geometry).
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
  std::vector<double> r_matrix_ohm_per_m, x_matrix_ohm_per_m, b_matrix_S_per_m;
  std::string geometry;
  std::string parameters = "constant";
  std::string fit_in = "modes";
  double fit_from_Hz = 0.1, fit_to_Hz = 1e6;
  int fit_poles = 14;
};

inline const Table& table(const Line*) {
  static const Table built = [] {
    TableOf<Line> rows("line", "line or long cable with travelling waves");
    line_value_rows(rows);
    return line_fit_rows(rows)
        .gives("i#", "A", "current into it at its first bus")
        .gives("i#_far", "A", "current into it at its second bus")
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
