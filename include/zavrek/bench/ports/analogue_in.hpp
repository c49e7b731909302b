#pragma once

#include "zavrek/bench/ports/terminals.hpp"

namespace zavrek::bench {

/// Volts and amperes of terminals as numbers.
struct AnalogueIn : Terminals, Conversion {
  std::string name;
  std::vector<std::string> values;
  std::string unit = "V";
  std::vector<std::string> sets;
};

inline const network::Table& table(const AnalogueIn*) {
  using network::Need;
  static const network::Table built =
      add_conversion(
          add_terminals(
              network::TableOf<AnalogueIn>(
                  "analogue_in",
                  "volts and amperes of terminals as numbers NAME.VALUE, through a converter; settings for "
                  "trials: NAME.dead (0 or 1: nothing comes in), NAME.gain (1 when it is right)")
                  .texts("values", &AnalogueIn::values, "a name for each channel", Need::required)
                  .text("unit", &AnalogueIn::unit, "of them: \"V\" or \"A\"")
                  .texts("sets", &AnalogueIn::sets,
                         "knobs of the plant or of its control that a value sets: "
                         "[\"amplifier.magnitude: ia\"]")))
          .build();
  return built;
}

}  // namespace zavrek::bench
