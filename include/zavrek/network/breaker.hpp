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
  double scatter_s = 0;
  int seed = 1;
  double chopping_A = 0;
  double insertion_resistance_ohm = unset;
  double insertion_time_s = 10e-3;
  Points withstand;
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
          .quantity("scatter", &Breaker::scatter_s, "ms", at_least(0),
                    "each pole moves up to this much earlier or later than the others")
          .count("seed", &Breaker::seed, at_least(0), "of the scatter's random numbers")
          .quantity("chopping", &Breaker::chopping_A, "A", at_least(0),
                    "current below which it interrupts at once")
          .quantity(
              "insertion_resistance", &Breaker::insertion_resistance_ohm, "ohm", above(0),
              "resistor across each pole that makes first when closing and breaks last; none when left out",
              Need::optional)
          .quantity("insertion_time", &Breaker::insertion_time_s, "ms", above(0), "how long it is in alone")
          .points("withstand", &Breaker::withstand, "ms", "kV",
                  "voltage that the opening gap withstands over the time since the current ceased; a pole "
                  "strikes "
                  "again above it. It never does when left out")
          .gives("i#", "A", "current into it at its first bus")
          .gives("i#_far", "A", "current into it at its second bus")
          .gives("closed", "", "share of its poles that are closed")
          .build();
  return built;
}

}  // namespace zavrek::network
