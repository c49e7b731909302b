#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

// Rows of tables for what lines, cables and rights of way say in the same words. `T` has these members.

/// Full matrices, or the name of a geometry.
template <class T>
TableOf<T>& line_matrix_rows(TableOf<T>& table) {
  return table
      .triangle("r_matrix", &T::r_matrix_ohm_per_m, "ohm/km", "resistance in phases, instead of r1 and r0")
      .triangle("x_matrix", &T::x_matrix_ohm_per_m, "ohm/km",
                "reactance in phases at the frequency of the network, instead of x1 and x0")
      .triangle("b_matrix", &T::b_matrix_S_per_m, "uS/km",
                "susceptance in phases at the frequency of the network, instead of c1 and c0")
      .text("geometry", &T::geometry, "name of a [geometry.NAME] that gives all values", Need::optional);
}

/// Length and sequence values.
template <class T>
TableOf<T>& line_size_rows(TableOf<T>& table) {
  return table.quantity("length", &T::length_m, "km", above_to(0, limits::line_m), "route length")
      .quantity("r1", &T::r1_ohm_per_m, "ohm/km", at_least(0), "positive-sequence resistance", Need::optional)
      .quantity("x1", &T::x1_ohm_per_m, "ohm/km", above(0),
                "positive-sequence reactance at the frequency of the network", Need::optional)
      .quantity("c1", &T::c1_F_per_m, "nF/km", at_least(0), "positive-sequence capacitance", Need::optional)
      .quantity("r0", &T::r0_ohm_per_m, "ohm/km", at_least(0), "zero-sequence resistance", Need::optional)
      .quantity("x0", &T::x0_ohm_per_m, "ohm/km", above(0), "zero-sequence reactance", Need::optional)
      .quantity("c0", &T::c0_F_per_m, "nF/km", at_least(0), "zero-sequence capacitance", Need::optional);
}

/// Ends and values, or what stands for them.
template <class T>
TableOf<T>& line_value_rows(TableOf<T>& table) {
  table.between("between", &T::between, "the buses at its ends");
  return line_matrix_rows(line_size_rows(table));
}

/// Whether parameters follow the frequency, and how they are fitted then.
template <class T>
TableOf<T>& line_fit_rows(TableOf<T>& table) {
  return table
      .choice("parameters", &T::parameters, {"constant", "frequency"},
              "constant, taken at the frequency of the network; or following the frequency, from a geometry")
      .choice("fit_in", &T::fit_in, {"modes", "phases"},
              "where what follows the frequency is fitted: in modes of one real transformation (little work; "
              "lines that are nearly transposed), or in phases (cables, several circuits)")
      .quantity("fit_from", &T::fit_from_Hz, "Hz", above(0), "lowest frequency of the fit")
      .quantity("fit_to", &T::fit_to_Hz, "kHz", above(0), "highest frequency of the fit")
      .count("fit_poles", &T::fit_poles, within(2, 40), "poles of each fitted function");
}

}  // namespace zavrek::network
