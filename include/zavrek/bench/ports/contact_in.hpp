#pragma once

#include "zavrek/bench/ports/terminals.hpp"

namespace zavrek::bench {

/// Contacts of a device as points.
struct ContactIn : Terminals {
  std::string name;
  std::vector<std::string> points;
  std::vector<std::string> opens, closes;
  double wetting_V = 0;
  double threshold = 0.7;
  double debounce_s = 0;
  double pickup_time_s = 0, drop_off_time_s = 0;
  bool inverted = false;
};

inline const network::Table& table(const ContactIn*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      add_terminals(
          network::TableOf<ContactIn>(
              "contact_in",
              "contacts at terminals as points NAME.POINT, on while they are closed; settings for trials: "
              "NAME.stuck (0 or 1: they stay as they are), NAME.dead (0 or 1: they are open)")
              .texts("points", &ContactIn::points,
                     "a name for each channel; of those of a device, its outputs: [\"start\", \"trip\"]",
                     Need::required)
              .texts("opens", &ContactIn::opens,
                     "breakers, contactors or gates that one opens when it comes: [\"Q1: trip\"]")
              .texts("closes", &ContactIn::closes, "those that it closes: [\"Q1: close\"]"))
          .quantity("wetting", &ContactIn::wetting_V, "V", network::at_least(0),
                    "voltage that they switch; 0: dry contacts")
          .quantity("threshold", &ContactIn::threshold, "%", within(0.01, 1),
                    "of that voltage, from which on they count as closed; they count as open below nine "
                    "tenths of it")
          .quantity("debounce", &ContactIn::debounce_s, "ms", within(0, 1),
                    "for which a change must last until it counts")
          .quantity("pickup_time", &ContactIn::pickup_time_s, "ms", within(0, 10),
                    "from closed to on, behind the debouncing")
          .quantity("drop_off_time", &ContactIn::drop_off_time_s, "ms", within(0, 10), "from open to off")
          .flag("inverted", &ContactIn::inverted, "on while they are open")
          .build();
  return built;
}

}  // namespace zavrek::bench
