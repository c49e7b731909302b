#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Measures the power and the energy that an element gives out or takes at one of its buses.
struct Meter {
  std::string name;
  std::string on;
  std::string bus;
};

inline const Table& table(const Meter*) {
  static const Table built =
      TableOf<Meter>("meter",
                     "power and energy of an element at one of its buses, from what flows there; positive as "
                     "the element's currents are")
          .element("on", &Meter::on, "element whose current it measures")
          .bus("bus", &Meter::bus, "bus whose voltage it measures: one of the element's own")
          .gives("p", "W", "power into its element at that bus, as the element's currents count")
          .gives("energy", "J", "what that adds up to since the start")
          .build();
  return built;
}

}  // namespace zavrek::network
