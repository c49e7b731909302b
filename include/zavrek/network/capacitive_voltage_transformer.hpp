#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Capacitive voltage transformers from the phases of a bus to ground.
struct CapacitiveVoltageTransformer {
  std::string name;
  std::string bus;
  double primary_V = unset;
  double secondary_V = 110;
  double capacitance_F = 8e-9;
  double intermediate_V = 20e3;
  double burden_VA = 100;
  double reactor_quality = 40;
  double knee = 1.7;
  double damper_share = 0.4;
  double damper_detuning = 0.6;
};

inline const Table& table(const CapacitiveVoltageTransformer*) {
  using T = CapacitiveVoltageTransformer;
  static const Table built =
      TableOf<T>(
          "cvt",
          "capacitive voltage transformers with compensating reactor, saturable intermediate transformer and "
          "ferroresonance damper; signals are secondary volts to ground")
          .bus("bus", &T::bus, "bus that they measure")
          .quantity("primary", &T::primary_V, "kV", above(0), "rated, between phases")
          .quantity("secondary", &T::secondary_V, "V", above(0), "rated, between phases")
          .quantity("capacitance", &T::capacitance_F, "nF", above(0), "high-voltage capacitor C1")
          .quantity("intermediate", &T::intermediate_V, "kV", above(0),
                    "rated, between phases, at the divider's tap")
          .quantity("burden", &T::burden_VA, "VA", above(0), "resistive, per phase")
          .quantity("reactor_quality", &T::reactor_quality, "", above(0), "of the compensating reactor")
          .quantity("knee", &T::knee, "", above(1),
                    "flux at which the intermediate transformer saturates, of the rated")
          .quantity(
              "damper_share", &T::damper_share, "", above(0),
              "resistance of the damper over the burden's; a circuit tuned to the nominal frequency keeps "
              "current out of it")
          .quantity(
              "damper_detuning", &T::damper_detuning, "", above(0),
              "reactance of that circuit's branches over the burden's resistance: the less, the sharper")
          .gives("v#", "V", "secondary, to ground")
          .build();
  return built;
}

}  // namespace zavrek::network
