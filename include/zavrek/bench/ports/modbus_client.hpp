#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/bus_address.hpp"

namespace zavrek::bench {

/// A Modbus client: it reads from a server outside what the plant is to do, and writes there what it shows.
struct ModbusClient : BusAddress {
  ModbusClient() { port = 1502; }
  std::string name;
  int unit = 1;
  double period_s = 0.1;
  double timeout_s = 0.5;
  std::vector<std::string> input_registers, discrete_inputs, holding_registers, coils;
  std::vector<std::string> writes_registers, writes_coils;
  std::string words = "high first", bytes = "high first";
};

inline const network::Table& table(const ModbusClient*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          network::TableOf<ModbusClient>("modbus_client",
                                         "a Modbus client over TCP or a serial line (RTU): reads from a "
                                         "server outside what is set, opened "
                                         "and closed here, when it changes there, and writes there what the "
                                         "plant shows; settings for trials: "
                                         "NAME.silent and NAME.cut (0 or 1: it asks nothing)")
              .count("unit", &ModbusClient::unit, within(1, 247), "identifier of the server's unit")
              .quantity("period", &ModbusClient::period_s, "ms", within(0.001, 3600),
                        "from one reading to the next")
              .quantity("timeout", &ModbusClient::timeout_s, "ms", within(0.001, 60),
                        "that an answer may take")
              .texts("input_registers", &ModbusClient::input_registers,
                     "read there, and set here: \"0: roof.irradiance as float32\"")
              .texts("discrete_inputs", &ModbusClient::discrete_inputs,
                     "read there, and opened and closed here: \"0: QO\"")
              .texts("holding_registers", &ModbusClient::holding_registers, "as input_registers")
              .texts("coils", &ModbusClient::coils, "as discrete_inputs")
              .texts("writes_registers", &ModbusClient::writes_registers,
                     "numbers that are written there when they have moved: \"40: battery.p in kW as int16 "
                     "within 1 "
                     "kW\"")
              .texts("writes_coils", &ModbusClient::writes_coils, "what is on or off: \"0: Q0\"")
              .choice("words", &ModbusClient::words, {"high first", "low first"},
                      "order of the registers of a number")
              .choice("bytes", &ModbusClient::bytes, {"high first", "low first"}, "order within a register"),
          "port of TCP, of the server")
          .build();
  return built;
}

}  // namespace zavrek::bench
