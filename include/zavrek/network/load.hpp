#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A load of constant impedance, current or power, or of a mixture; on all phases of its bus or on some.
struct Load {
  std::string name;
  std::string bus;
  double active_W = unset;
  double reactive_var = 0;
  std::string connection = "star";
  std::string phases;
  double constant_current = 0;
  double constant_power = 0;
  double response_s = 0.02;
  double least_voltage = 0.7;
};

inline const Table& table(const Load*) {
  static const Table built =
      TableOf<Load>("load",
                    "load of constant impedance (R with L or C in series), current or power, or a mixture")
          .bus("bus", &Load::bus, "bus that it draws from")
          .quantity("active", &Load::active_W, "MW", at_least(0), "total active power at nominal voltage")
          .quantity("reactive", &Load::reactive_var, "Mvar", any(),
                    "total reactive power at nominal voltage; capacitive when negative")
          .choice("connection", &Load::connection, {"star", "grounded star", "delta"}, "of its phases")
          .text("phases", &Load::phases,
                "phases between which it lies, such as \"a\" or \"bc\"; all of the bus when left out",
                Need::optional)
          .quantity("constant_current", &Load::constant_current, "", within(0, 1),
                    "share whose current does not depend on the voltage")
          .quantity("constant_power", &Load::constant_power, "", within(0, 1),
                    "share whose power does not depend on the voltage")
          .quantity("response", &Load::response_s, "ms", above(0),
                    "time constant with which these shares follow the voltage")
          .quantity("least_voltage", &Load::least_voltage, "", within(0, 1),
                    "of the nominal; below it all of the load is an impedance")
          .gives("i#", "A", "current into it from its bus")
          .build();
  return built;
}

}  // namespace zavrek::network
