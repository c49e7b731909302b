#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A transformer of two or three windings, or an autotransformer, of any vector group, from nameplate and
/// test data; with tap changer and saturation where they are given.
struct Transformer {
  std::string name;
  std::string high;
  std::string low;
  std::string tertiary;
  double rating_VA = unset;
  double high_voltage_V = unset;
  double low_voltage_V = unset;
  double tertiary_voltage_V = unset;
  std::string vector_group = "Dyn11";
  double short_circuit_voltage = unset;  ///< fraction of rated voltage
  double copper_loss_W = 0;
  double short_circuit_voltage_ht = unset, short_circuit_voltage_lt = unset;
  double copper_loss_ht_W = 0, copper_loss_lt_W = 0;
  double magnetizing_current = 0.005;  ///< fraction of rated current
  double iron_loss_W = 0;
  double knee = unset;    ///< flux, of the rated peak
  double air_core = 0.3;  ///< reactance beyond the knee, of the base impedance
  std::vector<std::string> residual_flux;
  double high_neutral_resistance_ohm = 0, high_neutral_reactance_ohm = 0;
  double low_neutral_resistance_ohm = 0, low_neutral_reactance_ohm = 0;
  std::string tap_winding = "none";
  double tap_step = 0.0125;
  int taps_up = 8, taps_down = 8;
  int tap = 0;
  double tap_time_s = 5;
  double tap_target_V = unset;
  double tap_band = 0.02;
  double tap_delay_s = 30;
};

inline const Table& table(const Transformer*) {
  using T = Transformer;
  static const Table built =
      TableOf<T>("transformer",
                 "transformer of two or three windings or autotransformer, from nameplate and test data")
          .bus("high", &T::high, "bus of the high-voltage winding")
          .bus("low", &T::low, "bus of the low-voltage winding")
          .bus("tertiary", &T::tertiary, "bus of a third winding", Need::optional)
          .quantity("rating", &T::rating_VA, "MVA", above(0), "rated power, base of all percentages")
          .quantity("high_voltage", &T::high_voltage_V, "kV", above(0), "rated, between phases")
          .quantity("low_voltage", &T::low_voltage_V, "kV", above(0), "rated, between phases")
          .quantity("tertiary_voltage", &T::tertiary_voltage_V, "kV", above(0), "rated, between phases",
                    Need::optional)
          .text("vector_group", &T::vector_group,
                "such as \"Dyn11\", \"YNyn0\", \"Dzn0\", \"YNyn0d11\", \"YNa0d11\" (IEC 60076-1); figures "
                "are the lag "
                "in units of 30 deg")
          .quantity("short_circuit_voltage", &T::short_circuit_voltage, "%", above(0), "uk, high to low")
          .quantity("copper_loss", &T::copper_loss_W, "kW", at_least(0), "at rated current, high to low")
          .quantity("short_circuit_voltage_ht", &T::short_circuit_voltage_ht, "%", above(0),
                    "uk, high to tertiary, on the same rating", Need::optional)
          .quantity("short_circuit_voltage_lt", &T::short_circuit_voltage_lt, "%", above(0),
                    "uk, low to tertiary, on the same rating", Need::optional)
          .quantity("copper_loss_ht", &T::copper_loss_ht_W, "kW", at_least(0), "high to tertiary")
          .quantity("copper_loss_lt", &T::copper_loss_lt_W, "kW", at_least(0), "low to tertiary")
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
          .texts(
              "residual_flux", &T::residual_flux,
              "of the three limbs when it is not energised, of the rated peak: [\"0.7\", \"-0.4\", \"-0.3\"]")
          .quantity("high_neutral_resistance", &T::high_neutral_resistance_ohm, "ohm", at_least(0),
                    "between the neutral and ground, where the group has \"N\"")
          .quantity("high_neutral_reactance", &T::high_neutral_reactance_ohm, "ohm", at_least(0),
                    "in series with it")
          .quantity("low_neutral_resistance", &T::low_neutral_resistance_ohm, "ohm", at_least(0),
                    "between the neutral and ground, where the group has \"n\"")
          .quantity("low_neutral_reactance", &T::low_neutral_reactance_ohm, "ohm", at_least(0),
                    "in series with it")
          .choice("tap_winding", &T::tap_winding, {"none", "high", "low"},
                  "winding with a tap changer under load; two windings only")
          .quantity("tap_step", &T::tap_step, "%", above(0), "of the rated voltage of that winding")
          .count("taps_up", &T::taps_up, within(0, 100), "positions above the middle")
          .count("taps_down", &T::taps_down, within(0, 100), "positions below it")
          .count("tap", &T::tap, within(-100, 100), "position at the start; more turns when positive")
          .changeable()
          .quantity("tap_time", &T::tap_time_s, "s", above(0), "from one position to the next")
          .quantity("tap_target", &T::tap_target_V, "kV", above(0),
                    "voltage between phases of the low bus that it regulates to; no regulation when left out",
                    Need::optional)
          .quantity("tap_band", &T::tap_band, "%", above(0), "width of the band around it")
          .quantity("tap_delay", &T::tap_delay_s, "s", at_least(0), "outside the band before it moves")
          .gives("i#", "A", "current into its high-voltage winding")
          .gives("i#_far", "A", "current into its low-voltage winding")
          .gives("i#_tertiary", "A", "current into its third winding")
          .gives("flux#", "V s", "flux linkage of its core, where it saturates")
          .gives("position", "", "of its tap changer")
          .build();
  return built;
}

}  // namespace zavrek::network
