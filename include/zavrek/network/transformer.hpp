#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A two-winding transformer with linear magnetising branch, any three-phase vector group.
struct Transformer {
  std::string name;
  std::string high_bus;
  std::string low_bus;
  double rating_VA = unset;
  double high_voltage_V = unset;
  double low_voltage_V = unset;
  std::string vector_group = "Dyn11";
  double short_circuit_voltage = unset;  ///< fraction of rated voltage
  double copper_loss_W = 0;
  double magnetizing_current = 0.005;  ///< fraction of rated current
  double iron_loss_W = 0;
  double high_neutral_resistance_ohm = 0;
  double high_neutral_reactance_ohm = 0;
  double low_neutral_resistance_ohm = 0;
  double low_neutral_reactance_ohm = 0;
};

inline const Table& table(const Transformer*) {
  static const Table built =
      TableOf<Transformer>("transformer", "two-winding transformer, from nameplate and test data")
          .bus("high", &Transformer::high_bus, "bus of the high-voltage winding")
          .bus("low", &Transformer::low_bus, "bus of the low-voltage winding")
          .quantity("rating", &Transformer::rating_VA, "MVA", above(0), "rated power")
          .quantity("high_voltage", &Transformer::high_voltage_V, "kV", above(0), "rated, between phases")
          .quantity("low_voltage", &Transformer::low_voltage_V, "kV", above(0), "rated, between phases")
          .text(
              "vector_group", &Transformer::vector_group,
              "such as \"Dyn11\", \"YNyn0\", \"Yd1\" (IEC 60076-1); the figure is the lag in units of 30 deg")
          .quantity("short_circuit_voltage", &Transformer::short_circuit_voltage, "%", above(0), "uk")
          .quantity("copper_loss", &Transformer::copper_loss_W, "kW", at_least(0), "at rated current")
          .quantity("magnetizing_current", &Transformer::magnetizing_current, "%", above(0),
                    "share of the rated current, at rated voltage")
          .quantity("iron_loss", &Transformer::iron_loss_W, "kW", at_least(0), "at rated voltage")
          .quantity("high_neutral_resistance", &Transformer::high_neutral_resistance_ohm, "ohm", at_least(0),
                    "between the neutral and ground, where the group has \"N\"")
          .quantity("high_neutral_reactance", &Transformer::high_neutral_reactance_ohm, "ohm", at_least(0),
                    "in series with it")
          .quantity("low_neutral_resistance", &Transformer::low_neutral_resistance_ohm, "ohm", at_least(0),
                    "between the neutral and ground, where the group has \"n\"")
          .quantity("low_neutral_reactance", &Transformer::low_neutral_reactance_ohm, "ohm", at_least(0),
                    "in series with it")
          .build();
  return built;
}

}  // namespace zavrek::network
