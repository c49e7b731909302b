#pragma once

#include "zavrek/bench/ports/terminals.hpp"

namespace zavrek::bench {

/// Signals as volts and amperes at terminals.
struct AnalogueOut : Terminals, Conversion {
  std::string name;
  std::vector<std::string> signals;
  std::vector<std::string> inputs;
  std::string limit, slew, noise;
  double bandwidth_Hz = 0;
  bool mean = false;
};

inline const network::Table& table(const AnalogueOut*) {
  using network::Need;
  static const network::Table built =
      add_conversion(
          add_terminals(
              network::TableOf<AnalogueOut>(
                  "analogue_out",
                  "signals as volts and amperes at terminals, through a converter and an amplifier; settings "
                  "for trials: NAME.dead (0 or 1: nothing comes out), NAME.gain (1 when it is right)")
                  .texts("signals", &AnalogueOut::signals,
                         "one for each channel: \"CT1.ia\"; \"-CT1.ia\" with its polarity reversed",
                         Need::required)
                  .texts("inputs", &AnalogueOut::inputs,
                         "what they are to the device: ia ib ic va vb vc of its first place, 2.ia of its "
                         "second; in order")))
          .text("limit", &AnalogueOut::limit, "that the amplifier gives at most: \"150 A\"", Need::optional)
          .text("slew", &AnalogueOut::slew, "by which it changes at most: \"0.5 MA/s\"", Need::optional)
          .quantity("bandwidth", &AnalogueOut::bandwidth_Hz, "Hz", network::at_least(0),
                    "of the amplifier, of first order; 0: without bound")
          .flag("mean", &AnalogueOut::mean,
                "the mean of this step and the one before goes out: what ripples from step to step, as the "
                "voltage "
                "of an inductance whose current is imposed may, does not; half a step later")
          .text("noise", &AnalogueOut::noise, "of the amplifier, rms: \"5 mA\"", Need::optional)
          .build();
  return built;
}

}  // namespace zavrek::bench
