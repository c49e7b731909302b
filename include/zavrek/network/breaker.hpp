#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A breaker: each pole interrupts at its own first current zero after its contacts have parted.
struct Breaker {
  std::string name;
  std::array<std::string, 2> between;
  bool closed = true;
  double opening_time_s = 0;
  double closing_time_s = 0;
  double closed_resistance_ohm = 1e-4;
  double open_resistance_ohm = 1e9;
};

inline const Table& table(const Breaker*) {
  static const Table built =
      TableOf<Breaker>("breaker", "breaker whose poles interrupt at their own current zeros")
          .between("between", &Breaker::between, "the buses at its sides")
          .flag("closed", &Breaker::closed, "position at the start")
          .quantity("opening_time", &Breaker::opening_time_s, "ms", at_least(0),
                    "from the command to the parting of the contacts")
          .quantity("closing_time", &Breaker::closing_time_s, "ms", at_least(0),
                    "from the command to the touching of the contacts")
          .quantity("closed_resistance", &Breaker::closed_resistance_ohm, "mohm", above(0), "per pole")
          .quantity("open_resistance", &Breaker::open_resistance_ohm, "Mohm", above(0), "per pole")
          .build();
  return built;
}

}  // namespace zavrek::network
