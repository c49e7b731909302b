#pragma once

#include "zavrek/network/field.hpp"
#include "zavrek/network/line_values.hpp"

namespace zavrek::network {

/// A stretch along which lines run beside each other and couple: the circuits of a tower, tracks, poles of a
/// d.c. link. The conductors are those of the lines, one line after the other. Their values there come from
/// full matrices, from a geometry with the circuits of all, or from each line's own with what couples two
/// circuits in the zero sequence.
struct RightOfWay {
  std::string name;
  std::vector<std::string> lines;
  std::vector<std::string> from;
  double length_m = unset;
  double r0m_ohm_per_m = 0;
  double x0m_ohm_per_m = unset;
  double c0m_F_per_m = 0;
  std::vector<double> r_matrix_ohm_per_m, x_matrix_ohm_per_m, b_matrix_S_per_m;
  std::string geometry;
  std::string parameters = "constant";
  std::string fit_in = "phases";
  double fit_from_Hz = 0.1, fit_to_Hz = 1e6;
  int fit_poles = 14;

  /// Whether the lines' own values do not hold along it.
  [[nodiscard]] bool has_own_values() const { return !geometry.empty() || !x_matrix_ohm_per_m.empty(); }
};

inline const Table& table(const RightOfWay*) {
  static const Table built = [] {
    TableOf<RightOfWay> rows("right_of_way",
                             "lines beside each other along a stretch, coupled there; all run the same way");
    rows.elements("lines", &RightOfWay::lines, "lines that share it, in the order of its conductors")
        .texts("from", &RightOfWay::from,
               "where it begins on each line, from the line's first bus, such as \"12 km\"; at that bus when "
               "left out")
        .quantity("length", &RightOfWay::length_m, "km", above_to(0, limits::line_m),
                  "of the stretch; as far as all the lines go when left out", Need::optional)
        .quantity("r0m", &RightOfWay::r0m_ohm_per_m, "ohm/km", any(),
                  "zero-sequence mutual resistance of two lines that keep their own values")
        .quantity("x0m", &RightOfWay::x0m_ohm_per_m, "ohm/km", any(),
                  "zero-sequence mutual reactance at the frequency of the network", Need::optional)
        .quantity("c0m", &RightOfWay::c0m_F_per_m, "nF/km", at_least(0),
                  "zero-sequence capacitance between the two");
    line_matrix_rows(rows);
    return line_fit_rows(rows).build();
  }();
  return built;
}

}  // namespace zavrek::network
