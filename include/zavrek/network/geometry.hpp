#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// One wire (or bundle) of an overhead line. Wires of the same phase of a circuit are joined at the ends;
/// "ground" wires are earthed all along and eliminated.
struct Wire {
  std::string name;
  std::string phase;        ///< "a", "b", "c", of d.c. "p", "n", "m", or "ground"
  int circuit = 1;          ///< of several beside each other
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

/// One single-core cable in the ground: core, insulation, screen, jacket, and armour with its own jacket.
struct Core {
  std::string name;
  std::string phase;  ///< as of a wire; there is no "ground"
  int circuit = 1;
  double x_m = unset;      ///< horizontal place
  double depth_m = unset;  ///< of its middle
  double core_diameter_m = unset;
  double core_resistance_ohm_per_m = unset;  ///< d.c.
  double insulation_diameter_m = unset;      ///< outer
  double permittivity = 2.4;
  double screen_diameter_m = unset;            ///< outer
  double screen_resistance_ohm_per_m = unset;  ///< d.c.
  double jacket_diameter_m = unset;            ///< outer
  double armour_diameter_m = unset;            ///< outer; none when unset
  double armour_resistance_ohm_per_m = unset;
  double armour_permeability = 1;
  double outer_diameter_m = unset;  ///< of the jacket over the armour
};
const Table& table(const Core*);

/// Cross-section of an overhead line or of cables in the ground.
struct LineGeometry {
  std::string name;
  double frequency_Hz = 50;
  double earth_resistivity_ohm_m = 100;
  std::string earth = "complex depth";  ///< or "carson two-term"; overhead lines
  std::string bonding = "both ends";    ///< of cable screens: or "one end", "cross-bonded"
  std::vector<Wire> wires;
  std::vector<Core> cores;
};
const Table& table(const LineGeometry*);

/// The conductors of a geometry in the order of its matrices, circuit by circuit, there a, b, c, p, n, m:
/// "a", or with the circuit ahead where there are several: "2.a". Ground wires are none.
[[nodiscard]] std::vector<std::string> conductors_of(const LineGeometry& geometry);
/// As `conductors_of` names it.
[[nodiscard]] std::string conductor_name(const LineGeometry& geometry, int circuit, const std::string& phase);

/// What is wrong with a geometry: missing fields, wires in the ground or inside each other, layers that do
/// not grow outwards, no phase.
[[nodiscard]] std::vector<Flaw> validate(const LineGeometry& geometry);

}  // namespace zavrek::network
