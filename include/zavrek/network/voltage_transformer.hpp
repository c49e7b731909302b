#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Ideal voltage transformers between the phases of a bus and ground.
struct VoltageTransformer {
  std::string name;
  std::string bus;
  double primary_V = unset;
  double secondary_V = 110;
};

inline const Table& table(const VoltageTransformer*) {
  static const Table built =
      TableOf<VoltageTransformer>("vt",
                                  "voltage transformers, ideal ratio; signals are secondary volts to ground")
          .bus("bus", &VoltageTransformer::bus, "bus that they measure")
          .quantity("primary", &VoltageTransformer::primary_V, "kV", above(0), "rated, between phases")
          .quantity("secondary", &VoltageTransformer::secondary_V, "V", above(0), "rated, between phases")
          .gives("v#", "V", "secondary, to ground")
          .build();
  return built;
}

}  // namespace zavrek::network
