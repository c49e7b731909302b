#pragma once

#include "zavrek/network/field.hpp"
#include "zavrek/network/own_law.hpp"

namespace zavrek::network {

/// An element whose equations are a user's own.
struct OwnElement {
  std::string name;
  std::array<std::string, 2> between;
  std::string library;
  std::string code;
  std::vector<std::string> parameters;
  OwnLawSource law;  ///< read from `library`, or given by a program
};

inline const Table& table(const OwnElement*) {
  static const Table built =
      TableOf<OwnElement>("own_element",
                          "an element of one's own: a shared library that answers voltages with conductances "
                          "and history currents "
                          "(zavrek/element.h), phase by phase or all phases together; NAME.ia ... flows from "
                          "the first bus into it, "
                          "its states are signals NAME.STATE, its changeable parameters knobs "
                          "NAME.PARAMETER. It runs in the plant's "
                          "process, so the bench must say libraries = \"trusted\"")
          .between("between", &OwnElement::between, "the buses at its ends, or \"ground\" as the second")
          .text("library", &OwnElement::library, "the library, relative to the case", Need::optional)
          .text("code", &OwnElement::code, "in place of that: name of a class that the program gives",
                Need::optional)
          .texts("parameters", &OwnElement::parameters,
                 "values of its parameters: [\"rated_power: 2 kW\"]; as the library has them when left out")
          .gives("i#", "A", "current into it at its first bus")
          .gives("*", "", "a state, in the unit that its library says")
          .build();
  return built;
}

}  // namespace zavrek::network
