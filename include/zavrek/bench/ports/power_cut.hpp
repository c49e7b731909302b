#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A cut between the model and a device that draws real current from an amplifier.
struct PowerCut {
  std::string name;
  std::string gives, takes, draws;
  double share = 1;
  double filter_Hz = 0;
  double resistance_ohm = network::unset, inductance_H = 0, capacitance_F = 0;
  double delay_s = 0;
  double most_A = network::unset;
  std::string device = "outside";
  bool even_unstable = false;
};

inline const network::Table& table(const PowerCut*) {
  using network::above;
  using network::at_least;
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<PowerCut>(
          "power_cut",
          "a device that draws real current from an amplifier (ideal transformer method): voltages of a bus "
          "go "
          "out by an analogue_out, currents come back by an analogue_in and are drawn from the bus, a step "
          "later; NAME.closed is on while they are; settings for trials: NAME.open (0 or 1). Whether the "
          "loop is "
          "stable is reckoned beforehand from the model and the device's impedance: `check` says so, and a "
          "run "
          "with one that is not does not begin")
          .text("gives", &PowerCut::gives, "the analogue_out of the bus's phase voltages", Need::required)
          .text("takes", &PowerCut::takes,
                "the analogue_in of the device's currents, in the same order; its ratio is "
                "from amperes at the device to those of the model",
                Need::required)
          .text("draws", &PowerCut::draws, "the imposed_current of the network at that bus", Need::required)
          .quantity("share", &PowerCut::share, "", within(0, 1), "of the currents that is fed back")
          .quantity("filter", &PowerCut::filter_Hz, "Hz", at_least(0),
                    "corner of a low-pass filter of first order on these currents; 0: none")
          .quantity("resistance", &PowerCut::resistance_ohm, "ohm", at_least(0),
                    "of the device, per phase to neutral, in series with its inductance; for what is "
                    "reckoned beforehand")
          .quantity("inductance", &PowerCut::inductance_H, "mH", at_least(0), "likewise")
          .quantity("capacitance", &PowerCut::capacitance_F, "uF", at_least(0), "across both")
          .quantity("delay", &PowerCut::delay_s, "us", within(0, 0.1),
                    "of amplifier and device beyond what the analogue ports state")
          .quantity("most", &PowerCut::most_A, "A", above(0),
                    "current of the device at which the loop opens; never when left out", Need::optional)
          .choice("device", &PowerCut::device, {"outside", "stand-in"},
                  "what hangs on the amplifier: a real one, or a load of that impedance in a process of its "
                  "own at the "
                  "terminal board")
          .flag("even_unstable", &PowerCut::even_unstable,
                "a run begins though the loop is reckoned unstable")
          .build();
  return built;
}

}  // namespace zavrek::bench
