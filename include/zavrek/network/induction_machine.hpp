#pragma once

#include "zavrek/network/shaft_rows.hpp"

namespace zavrek::network {

/// A cage or wound-rotor induction machine; values per phase of the equivalent star, referred to the stator.
struct InductionMachine {
  std::string name;
  std::string bus;
  double stator_resistance_ohm = unset;
  double stator_leakage_ohm = unset;
  double magnetizing_ohm = unset;
  double rotor_leakage_ohm = unset;
  double rotor_resistance_ohm = unset;
  double external_resistance_ohm = 0;
  int pole_pairs = 2;
  double inertia_kgm2 = unset;
  std::vector<std::string> shaft;
  double load_torque_Nm = 0;
  double load_exponent = 0;
  double active_torque_Nm = 0;
  std::string start = "running";
};

inline const Table& table(const InductionMachine*) {
  static const Table built = [] {
    TableOf<InductionMachine> rows("induction_machine",
                                   "cage or wound-rotor induction machine with its shaft");
    rows.bus("bus", &InductionMachine::bus, "bus that feeds its stator")
        .quantity("stator_resistance", &InductionMachine::stator_resistance_ohm, "ohm", at_least(0),
                  "per phase of the equivalent star")
        .quantity("stator_leakage", &InductionMachine::stator_leakage_ohm, "ohm", above(0),
                  "reactance at the frequency of the network")
        .quantity("magnetizing", &InductionMachine::magnetizing_ohm, "ohm", above(0),
                  "reactance at the frequency of the network")
        .quantity("rotor_leakage", &InductionMachine::rotor_leakage_ohm, "ohm", above(0),
                  "reactance at the frequency of the network, referred to the stator")
        .quantity("rotor_resistance", &InductionMachine::rotor_resistance_ohm, "ohm", above(0),
                  "referred to the stator")
        .quantity("external_resistance", &InductionMachine::external_resistance_ohm, "ohm", at_least(0),
                  "in the circuit of a wound rotor, referred to the stator")
        .changeable()
        .count("pole_pairs", &InductionMachine::pole_pairs, within(1, 100), "number of pole pairs");
    return shaft_rows(rows)
        .choice("start", &InductionMachine::start, {"running", "standstill"},
                "at the speed that its load allows, in its steady state; or at rest, its stator carrying "
                "what it draws "
                "locked")
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
