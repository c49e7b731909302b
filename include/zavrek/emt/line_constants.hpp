#pragma once

#include <complex>
#include <string>
#include <vector>

#include "zavrek/network/geometry.hpp"

namespace zavrek::emt {

using network::LineGeometry;

/// Square matrices, row-major, one row per conductor as `network::conductors_of` orders and names them.
struct LineConstants {
  std::vector<std::string> phases;
  std::vector<std::complex<double>> series_ohm_per_m;  ///< Z
  std::vector<double> capacitance_F_per_m;             ///< C
  double frequency_Hz = 0;
  /// Zero- and positive-sequence values of the transposed line; three phases only.
  std::complex<double> z0_ohm_per_m, z1_ohm_per_m;
  double c0_F_per_m = 0, c1_F_per_m = 0;
};

/// Overhead lines: series impedance with earth return and potential coefficients with images, ground wires
/// and joined wires eliminated (Kron). Earth return by complex depth (Deri et al., IEEE Trans. PAS-100, 1981)
/// or by the first two terms of Carson's series (Bell System Tech. J. 5, 1926). Cables: impedances of core,
/// screen and armour with skin effect and earth return (Wedepohl and Wilcox, Proc. IEE 120, 1973), screens
/// eliminated as their bonding says. Throws Error when `validate` finds flaws.
[[nodiscard]] LineConstants line_constants(const LineGeometry& geometry);

/// The same at another frequency, with the skin effect of overhead wires too (for fits over frequency).
[[nodiscard]] LineConstants line_constants_at(const LineGeometry& geometry, double frequency_Hz);

}  // namespace zavrek::emt
