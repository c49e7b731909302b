#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// The rows of a table for what motors say of their shafts. `T` has these members.
template <class T>
TableOf<T>& shaft_rows(TableOf<T>& table) {
  return table.quantity("inertia", &T::inertia_kgm2, "kg m^2", above(0), "of its own rotor")
      .texts("shaft", &T::shaft,
             "further masses outwards: \"inertia, stiffness, damping\", the last one bears the load")
      .quantity(
          "load_torque", &T::load_torque_Nm, "N m", at_least(0),
          "against the turning of the last mass, at nominal speed (what drives is active_torque); without "
          "an exponent it also holds the shaft at rest")
      .changeable()
      .quantity("load_exponent", &T::load_exponent, "", at_least(0),
                "the load torque grows with the speed of the last mass to this power")
      .quantity("active_torque", &T::active_torque_Nm, "N m", any(),
                "on the last mass whichever way it turns, of a hanging weight or a turbine; positive drives "
                "forwards")
      .changeable();
}

/// What every rotating machine shows.
[[nodiscard]] inline std::vector<Output> machine_outputs() {
  return {{"i#", "A", "current into it from its bus; a generator's power is negative so"},
          {"torque", "N m", "electrical, on its own rotor; positive drives it forward"},
          {"speed", "rad/s", "of its own rotor"},
          {"angle", "rad", "of its own rotor, electrical"}};
}

}  // namespace zavrek::network
