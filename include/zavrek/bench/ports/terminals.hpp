// What the four kinds of terminals have in common.
#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Neighbouring channels of a card, and the terminals of a device at their ends.
struct Terminals {
  std::string card;
  int first_channel = 0;
  std::vector<std::string> terminals;
  std::string device;
};
template <class Kind>
network::TableOf<Kind>& add_terminals(network::TableOf<Kind>& table) {
  return table.text("card", &Kind::card, "card that the channels belong to")
      .count("first_channel", &Kind::first_channel, network::within(0, 4095),
             "channel of the first of them; the others follow it")
      .texts("terminals", &Kind::terminals,
             "labels at the device where the channels end, in order: [\"X1:1-2\", \"X1:3-4\"]")
      .text("device", &Kind::device, "device of the bench that they belong to", network::Need::optional);
}

/// Converter and amplifier between a number and a terminal.
struct Conversion {
  double ratio = 1;
  std::string offset;
  double range_V = 10;
  int bits = 16;
  std::string full_scale;
  double filter_Hz = 0;
  double delay_s = 0;
};
template <class Kind>
network::TableOf<Kind>& add_conversion(network::TableOf<Kind>& table) {
  using network::within;
  return table
      .quantity("ratio", &Kind::ratio, "", network::any(),
                "from the signal to the terminal; instrument transformers give secondary values already")
      .text("offset", &Kind::offset, "added at the terminal: \"10 mA\"", network::Need::optional)
      .quantity("range", &Kind::range_V, "V", network::above(0), "of the converter: plus and minus so much")
      .count("bits", &Kind::bits, within(0, 32), "of the converter, sign included; 0: not rounded")
      .text(
          "full_scale", &Kind::full_scale,
          "what the terminal has when the converter is at its range: \"100 A\"; as many A or V as the range "
          "has volts when left out",
          network::Need::optional)
      .quantity("filter", &Kind::filter_Hz, "Hz", network::at_least(0),
                "corner of a low-pass filter of first order ahead of the converter; 0: none")
      .quantity("delay", &Kind::delay_s, "us", within(0, 0.1), "that the conversion takes");
}

}  // namespace zavrek::bench
