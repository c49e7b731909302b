#pragma once

#include "zavrek/network/shaft_rows.hpp"

namespace zavrek::network {

/// A synchronous machine excited by permanent magnets.
struct PermanentMagnetMachine {
  std::string name;
  std::string bus;
  double stator_resistance_ohm = unset;
  double ld_H = unset;
  double lq_H = unset;
  double magnet_flux_Vs = unset;
  int pole_pairs = 4;
  double inertia_kgm2 = unset;
  std::vector<std::string> shaft;
  double load_torque_Nm = 0;
  double load_exponent = 0;
  double active_torque_Nm = 0;
  double start_speed_rad_per_s = 0;
  double start_angle_rad = 0;
};

inline const Table& table(const PermanentMagnetMachine*) {
  using M = PermanentMagnetMachine;
  static const Table built = [] {
    TableOf<M> rows("permanent_magnet_machine", "synchronous machine excited by permanent magnets");
    rows.bus("bus", &M::bus, "bus at its terminals")
        .quantity("stator_resistance", &M::stator_resistance_ohm, "ohm", at_least(0),
                  "per phase of the equivalent star")
        .quantity("ld", &M::ld_H, "mH", above(0), "inductance on the axis of the magnets")
        .quantity("lq", &M::lq_H, "mH", above(0), "inductance across it")
        .quantity("magnet_flux", &M::magnet_flux_Vs, "V s", above(0), "peak flux linkage of a phase")
        .count("pole_pairs", &M::pole_pairs, within(1, 200), "number of pole pairs");
    return shaft_rows(rows)
        .quantity("start_speed", &M::start_speed_rad_per_s, "rad/s", any(), "mechanical, at the start")
        .quantity("start_angle", &M::start_angle_rad, "deg", any(),
                  "electrical, of the magnets against phase a, at the start")
        .gives(machine_outputs())
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
