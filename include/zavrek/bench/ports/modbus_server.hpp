#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/bus_address.hpp"

namespace zavrek::bench {

/// A Modbus server: what the plant shows in registers and coils, and what may be asked of it.
struct ModbusServer : BusAddress {
  ModbusServer() { port = 1502; }
  std::string name;
  int unit = 1;
  std::vector<std::string> input_registers, discrete_inputs, holding_registers, coils;
  std::string words = "high first", bytes = "high first";
};

inline const network::Table& table(const ModbusServer*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          network::TableOf<ModbusServer>("modbus_server",
                                         "a Modbus server over TCP or a serial line (RTU): what the plant "
                                         "shows, and what may be asked of it; "
                                         "settings for trials: NAME.silent (0 or 1: it answers nothing), "
                                         "NAME.cut (0 or 1: its connections "
                                         "end, and none begin)")
              .count("unit", &ModbusServer::unit, within(1, 247), "identifier of the unit")
              .texts(
                  "input_registers", &ModbusServer::input_registers,
                  "numbers that are read: \"0: low.va as float32\", \"2: battery.p in 0.1 kW as int16\" (one "
                  "count is 0.1 kW); types: int16 (the usual one), natural16, int32, natural32, float32, "
                  "int64, "
                  "natural64, float64; addresses from 0, as messages have them")
              .texts("discrete_inputs", &ModbusServer::discrete_inputs,
                     "what is on or off, and is read: \"0: Q0\", \"1: R1.trip\"")
              .texts("holding_registers", &ModbusServer::holding_registers,
                     "knobs and set points that are read and written: \"100: battery_power in kW as int16\"; "
                     "what "
                     "is read is what was last written here")
              .texts("coils", &ModbusServer::coils,
                     "what opens and closes, and contacts of the bench: \"0: QO\", \"1: bench.remote\"")
              .choice("words", &ModbusServer::words, {"high first", "low first"},
                      "order of the registers of a number")
              .choice("bytes", &ModbusServer::bytes, {"high first", "low first"}, "order within a register"),
          "port of TCP")
          .build();
  return built;
}

}  // namespace zavrek::bench
