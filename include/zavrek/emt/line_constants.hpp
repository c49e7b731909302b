#pragma once

#include <complex>
#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::emt {

using network::Table;
using network::unset;

/// One wire (or bundle) of an overhead line. Equal phase letters are joined at the ends; "ground" wires
/// are earthed all along and eliminated.
struct Wire {
  std::string name;
  std::string phase;        ///< "a", "b", "c" or "ground"
  double x_m = unset;       ///< horizontal place
  double height_m = unset;  ///< at the tower
  double sag_m = 0;         ///< at mid-span; the mean height lies 2/3 of it lower
  double resistance_ohm_per_m = unset;
  double diameter_m = unset;        ///< outer
  double gmr_m = unset;             ///< geometric mean radius; that of a solid round wire when unset
  int bundle = 1;                   ///< wires on a circle, joined
  double bundle_spacing_m = unset;  ///< between neighbours of the bundle
};
const Table& table(const Wire*);

struct LineGeometry {
  double frequency_Hz = 50;
  double earth_resistivity_ohm_m = 100;
  std::string earth = "complex depth";  ///< or "carson two-term"
  std::vector<Wire> wires;
};
const Table& table(const LineGeometry*);

/// Square matrices, row-major, one row per phase in the order a, b, c of those present.
struct LineConstants {
  std::vector<std::string> phases;
  std::vector<std::complex<double>> series_ohm_per_m;  ///< Z
  std::vector<double> capacitance_F_per_m;             ///< C
  double frequency_Hz = 0;
  /// Zero- and positive-sequence values of the transposed line; three phases only.
  std::complex<double> z0_ohm_per_m, z1_ohm_per_m;
  double c0_F_per_m = 0, c1_F_per_m = 0;
};

/// What is wrong with a geometry: missing fields, wires in the ground or inside each other, no phase.
[[nodiscard]] std::vector<Flaw> validate(const LineGeometry& geometry);

/// Series impedance with earth return and potential coefficients with images, ground wires and joined
/// wires eliminated (Kron). Earth return by complex depth (Deri et al., IEEE Trans. PAS-100, 1981) or by the
/// first two terms of Carson's series (Bell System Tech. J. 5, 1926). Throws Error when `validate` finds
/// flaws.
[[nodiscard]] LineConstants line_constants(const LineGeometry& geometry);

}  // namespace zavrek::emt
