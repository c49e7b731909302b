#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// One arm of a modular multilevel converter: half-bridge submodules in series with an inductor, each with
/// its own capacitor.
struct SubmoduleArm {
  std::string name;
  std::array<std::string, 2> between;
  int submodules = 10;
  double capacitance_F = unset;
  double voltage_V = unset;
  double inductance_H = unset;
  double resistance_ohm = 1e-3;
  double on_resistance_ohm = 1e-3;
  std::string depth = "switched";
  double inserted = 0.5;
  double bypassed = 0;
};

inline const Table& table(const SubmoduleArm*) {
  using A = SubmoduleArm;
  static const Table built =
      TableOf<A>("submodule_arm",
                 "arm of half-bridge submodules with an inductor; conducts once NAME.enable is on")
          .between("between", &A::between,
                   "two terminals, such as [\"dc.p\", \"mid.a\"]; its current charges from the first to the "
                   "second")
          .count("submodules", &A::submodules, within(1, 1000), "in series")
          .quantity("capacitance", &A::capacitance_F, "mF", above(0), "of each submodule")
          .quantity("voltage", &A::voltage_V, "kV", at_least(0), "of each capacitor at the start")
          .quantity("inductance", &A::inductance_H, "mH", above(0), "of the arm")
          .quantity("resistance", &A::resistance_ohm, "mohm", at_least(0), "of its inductor")
          .quantity("on_resistance", &A::on_resistance_ohm, "mohm", above(0),
                    "of one submodule's valve that conducts")
          .choice("depth", &A::depth, {"switched", "averaged"},
                  "switched: whole submodules, the nearest number; averaged: one of them for a part of each "
                  "step")
          .quantity("inserted", &A::inserted, "", within(0, 1),
                    "share of the submodules that shall be in; which ones is chosen by their voltages")
          .changeable()
          .quantity("bypassed", &A::bypassed, "", within(0, 1),
                    "share that has failed and is bridged for good")
          .changeable()
          .gives("i", "A", "current through it, from its first terminal to its second")
          .gives("v", "V", "across its submodules, first terminal positive")
          .gives("in", "", "number of submodules that are in")
          .gives("least", "V", "of its capacitors")
          .gives("greatest", "V", "of its capacitors")
          .build();
  return built;
}

}  // namespace zavrek::network
