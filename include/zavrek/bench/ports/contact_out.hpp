#pragma once

#include "zavrek/bench/ports/terminals.hpp"

namespace zavrek::bench {

/// Points as contacts at terminals.
struct ContactOut : Terminals {
  std::string name;
  std::vector<std::string> points;
  std::vector<std::string> inputs;
  double wetting_V = 0;
  double pickup_time_s = 0, drop_off_time_s = 0;
  int bounces = 0;
  double bounce_s = 0.5e-3;
};

inline const network::Table& table(const ContactOut*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      add_terminals(
          network::TableOf<ContactOut>(
              "contact_out",
              "points as contacts at terminals; settings for trials: NAME.stuck (0 or 1: they stay as they "
              "are), NAME.dead (0 or 1: they are open)")
              .texts("points", &ContactOut::points,
                     "one for each channel, closed while it is on: \"Q1\", \"R1.start\", \"bench.remote\"; "
                     "\"not Q1\" while it is off",
                     Need::required)
              .texts("inputs", &ContactOut::inputs,
                     "what they are to the device: names of its binary inputs, in order"))
          .quantity("wetting", &ContactOut::wetting_V, "V", network::at_least(0),
                    "voltage that they switch; 0: dry contacts")
          .quantity("pickup_time", &ContactOut::pickup_time_s, "ms", within(0, 10), "from on to closed")
          .quantity("drop_off_time", &ContactOut::drop_off_time_s, "ms", within(0, 10), "from off to open")
          .count("bounces", &ContactOut::bounces, within(0, 20),
                 "how often they open again when they close, and close again when they open")
          .quantity("bounce", &ContactOut::bounce_s, "ms", within(0, 0.1), "from one of these to the next")
          .build();
  return built;
}

}  // namespace zavrek::bench
