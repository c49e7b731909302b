#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A transformer of two windings on one core, each between two phases or from one phase to ground; two or
/// three of them make a bank, such as open star to open delta.
struct OnePhaseTransformer {
  std::string name;
  std::string high;
  std::string high_phases;
  std::string low;
  std::string low_phases;
  double rating_VA = unset;
  double high_voltage_V = unset;
  double low_voltage_V = unset;
  double short_circuit_voltage = unset;  ///< fraction of rated voltage
  double copper_loss_W = 0;
  double magnetizing_current = 0.005;  ///< fraction of rated current
  double iron_loss_W = 0;
  double knee = unset;       ///< flux, of the rated peak
  double air_core = 0.3;     ///< reactance beyond the knee, of the base impedance
  double residual_flux = 0;  ///< of the rated peak
};

inline const Table& table(const OnePhaseTransformer*) {
  using T = OnePhaseTransformer;
  static const Table built =
      TableOf<T>("one_phase_transformer",
                 "transformer of two windings on one core; several of them make a bank")
          .bus("high", &T::high, "bus of the high-voltage winding")
          .text("high_phases", &T::high_phases,
                "\"a\": from that phase to ground; \"ab\": from a to b; all of the bus when left out",
                Need::optional)
          .bus("low", &T::low, "bus of the low-voltage winding")
          .text("low_phases", &T::low_phases, "as high_phases; \"ba\" turns the winding round",
                Need::optional)
          .quantity("rating", &T::rating_VA, "MVA", above(0), "rated power, base of all percentages")
          .quantity("high_voltage", &T::high_voltage_V, "kV", above(0), "rated, across the winding")
          .quantity("low_voltage", &T::low_voltage_V, "kV", above(0), "rated, across the winding")
          .quantity("short_circuit_voltage", &T::short_circuit_voltage, "%", above(0), "uk")
          .quantity("copper_loss", &T::copper_loss_W, "kW", at_least(0), "at rated current")
          .quantity("magnetizing_current", &T::magnetizing_current, "%", above(0),
                    "share of the rated current, at rated voltage")
          .quantity("iron_loss", &T::iron_loss_W, "kW", at_least(0), "at rated voltage")
          .quantity("knee", &T::knee, "", above(0.5),
                    "flux at which it saturates, of the rated peak: two straight lines, no hysteresis; no "
                    "saturation when "
                    "left out",
                    Need::optional)
          .quantity("air_core", &T::air_core, "", above(0),
                    "reactance in saturation, of the base impedance, seen from the high winding")
          .quantity("residual_flux", &T::residual_flux, "", within(-1.5, 1.5),
                    "when it is not energised, of the rated peak; needs a knee")
          .gives("i#", "A", "current into its high-voltage winding")
          .gives("i#_far", "A", "current into its low-voltage winding")
          .gives("flux", "V s", "flux linkage of its core, where it saturates")
          .build();
  return built;
}

}  // namespace zavrek::network
