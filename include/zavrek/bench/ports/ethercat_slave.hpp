#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// The model as a slave on EtherCAT.
struct EtherCatSlave {
  std::string name;
  std::string interface = "lo";
  std::vector<std::string> inputs, input_states, outputs, output_states;
  int product = 1, serial = 1;
};

inline const network::Table& table(const EtherCatSlave*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<EtherCatSlave>("ethercat_slave",
                                      "the model as a slave on EtherCAT (IEC 61158 type 12), raw frames on "
                                      "an interface of its own: process images, "
                                      "mailbox with object dictionary, states; point NAME.operational; "
                                      "settings for trials: NAME.silent, NAME.cut (0 "
                                      "or 1)")
          .text("interface", &EtherCatSlave::interface, "on which its master is", Need::required)
          .texts("inputs", &EtherCatSlave::inputs,
                 "numbers to the master, as its tree shows them: \"speed: machine.speed as int32\", \"power: "
                 "battery.p in "
                 "0.1 kW\"; types: int16 (the usual one), int8, natural8, natural16, int32, natural32, "
                 "float32, float64")
          .texts("input_states", &EtherCatSlave::input_states, "what is on or off, a bit each: \"main: Q1\"")
          .texts("outputs", &EtherCatSlave::outputs,
                 "numbers of the master that are set here: \"wanted: wanted in kW\"")
          .texts("output_states", &EtherCatSlave::output_states,
                 "bits of the master that open and close here: \"main: Q1\"")
          .count("product", &EtherCatSlave::product, within(1, 2'000'000'000), "code of the product")
          .count("serial", &EtherCatSlave::serial, within(0, 2'000'000'000), "number of this one")
          .build();
  return built;
}

/// Its description file (EtherCAT slave information, XML), for the configuration of its master.
[[nodiscard]] std::string slave_description(const EtherCatSlave& settings);

}  // namespace zavrek::bench
