#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A constant-impedance load: R and L (or R and C) in series per phase.
struct Load {
  std::string name;
  std::string bus;
  double active_W = unset;
  double reactive_var = 0;
  std::string connection = "star";
};

inline const Table& table(const Load*) {
  static const Table built =
      TableOf<Load>("load", "constant-impedance load: R with L (or C) in series, per phase")
          .bus("bus", &Load::bus, "bus that it draws from")
          .quantity("active", &Load::active_W, "MW", above(0), "total active power at nominal voltage")
          .quantity("reactive", &Load::reactive_var, "Mvar", any(),
                    "total reactive power at nominal voltage; capacitive when negative")
          .choice("connection", &Load::connection, {"star", "grounded star", "delta"}, "of its phases")
          .build();
  return built;
}

}  // namespace zavrek::network
