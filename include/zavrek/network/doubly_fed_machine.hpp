#pragma once

#include "zavrek/network/shaft_rows.hpp"

namespace zavrek::network {

/// An induction machine whose rotor winding is led out over slip rings to a bus of its own.
struct DoublyFedMachine {
  std::string name;
  std::string bus;
  std::string rotor;
  double ratio = 1;
  double stator_resistance_ohm = unset;
  double stator_leakage_ohm = unset;
  double magnetizing_ohm = unset;
  double rotor_leakage_ohm = unset;
  double rotor_resistance_ohm = unset;
  int pole_pairs = 2;
  double inertia_kgm2 = unset;
  std::vector<std::string> shaft;
  double load_torque_Nm = 0;
  double load_exponent = 0;
  double active_torque_Nm = 0;
  double start_speed_rad_per_s = 0;
};

inline const Table& table(const DoublyFedMachine*) {
  using M = DoublyFedMachine;
  static const Table built = [] {
    TableOf<M> rows(
        "doubly_fed_machine",
        "wound-rotor induction machine with both windings led out; it starts with its stator in the "
        "steady state and no current in its rotor");
    rows.bus("bus", &M::bus, "bus that feeds its stator")
        .bus("rotor", &M::rotor, "bus at its slip rings, where voltages have the frequency of the slip")
        .quantity("ratio", &M::ratio, "", above(0), "turns of the rotor over those of the stator")
        .quantity("stator_resistance", &M::stator_resistance_ohm, "ohm", at_least(0),
                  "per phase of the equivalent star")
        .quantity("stator_leakage", &M::stator_leakage_ohm, "ohm", above(0),
                  "reactance at the frequency of the network")
        .quantity("magnetizing", &M::magnetizing_ohm, "ohm", above(0),
                  "reactance at the frequency of the network")
        .quantity("rotor_leakage", &M::rotor_leakage_ohm, "ohm", above(0),
                  "reactance at the frequency of the network, referred to the stator")
        .quantity("rotor_resistance", &M::rotor_resistance_ohm, "ohm", above(0), "referred to the stator")
        .count("pole_pairs", &M::pole_pairs, within(1, 200), "number of pole pairs");
    return shaft_rows(rows)
        .quantity("start_speed", &M::start_speed_rad_per_s, "rad/s", any(), "mechanical, at the start")
        .gives(machine_outputs())
        .gives("i#_far", "A", "current into its rotor, on the rotor's side")
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
