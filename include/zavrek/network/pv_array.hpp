#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Photovoltaic modules, `modules` in series to a string, `strings` in parallel. Values of one module at 1000
/// W/m2 and 298.15 K.
struct PvArray {
  std::string name;
  std::string bus;
  int modules = 1;
  int strings = 1;
  double open_circuit_voltage_V = unset;
  double short_circuit_current_A = unset;
  double best_voltage_V = unset;
  double best_current_A = unset;
  int cells = 60;
  double current_coefficient_per_K = 0.0005;
  double voltage_coefficient_per_K = -0.003;
  double irradiance_W_per_m2 = 1000;
  double temperature_K = 298.15;
  double shaded = 0;
  double shade = 0.3;
};

inline const Table& table(const PvArray*) {
  static const Table built =
      TableOf<PvArray>("pv_array", "photovoltaic array: the single-diode model with bypass diodes")
          .bus("bus", &PvArray::bus, "d.c. bus with poles p and n")
          .count("modules", &PvArray::modules, within(1, 1000), "in series, to a string")
          .count("strings", &PvArray::strings, within(1, 10000), "in parallel")
          .quantity("open_circuit_voltage", &PvArray::open_circuit_voltage_V, "V", above(0),
                    "of a module at 1000 W/m2 and 298.15 K")
          .quantity("short_circuit_current", &PvArray::short_circuit_current_A, "A", above(0), "of a module")
          .quantity("best_voltage", &PvArray::best_voltage_V, "V", above(0),
                    "of a module where it gives most power")
          .quantity("best_current", &PvArray::best_current_A, "A", above(0),
                    "of a module where it gives most power")
          .count("cells", &PvArray::cells, within(1, 1000), "in series within a module")
          .quantity("current_coefficient", &PvArray::current_coefficient_per_K, "%/K", any(),
                    "change of the short-circuit current with temperature")
          .quantity("voltage_coefficient", &PvArray::voltage_coefficient_per_K, "%/K", any(),
                    "change of the open-circuit voltage with temperature")
          .quantity("irradiance", &PvArray::irradiance_W_per_m2, "W/m2", within(0, 2000), "on the modules")
          .changeable()
          .quantity("temperature", &PvArray::temperature_K, "K", within(200, 400), "of the cells")
          .changeable()
          .quantity("shaded", &PvArray::shaded, "%", within(0, 1), "share of each string's modules in shade")
          .changeable()
          .quantity("shade", &PvArray::shade, "%", within(0, 1), "irradiance that reaches those")
          .changeable()
          .supplies()
          .gives("i", "A", "current out of it, into its bus")
          .gives("p", "W", "power out of it")
          .build();
  return built;
}

}  // namespace zavrek::network
