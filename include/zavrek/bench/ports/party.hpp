#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Another case that runs beside this one as a process of its own: a gateway, a supervisor, a vehicle. What
/// it says and hears goes over the ports of both.
struct Party {
  std::string name;
  std::string at;
  std::string place = "process";
};

inline const network::Table& table(const Party*) {
  using network::Need;
  static const network::Table built =
      network::TableOf<Party>(
          "party",
          "another case that runs beside this one by the clock, as a process of its own: a gateway, a "
          "supervisor, a vehicle; its control and its ports are its own files, and its network may be "
          "no more than its supply")
          .text("case", &Party::at, "its folder, relative to this case", Need::required)
          .choice("place", &Party::place, {"process", "outside"},
                  "\"process\": started and ended with the run; \"outside\": somebody has started it already")
          .build();
  return built;
}

}  // namespace zavrek::bench
