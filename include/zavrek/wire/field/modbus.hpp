// Modbus over TCP and serial lines (MODBUS Application Protocol V1.1b3, MODBUS Messaging on TCP/IP V1.0b,
// MODBUS over Serial Line V1.02). libmodbus reads requests and writes answers; what stands in the registers,
// and what may be written there, is ours.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/wire/conversation.hpp"
#include "zavrek/wire/stream_driver.hpp"

namespace zavrek::wire {

enum class ModbusTable : std::uint8_t { coils, discrete_inputs, holding_registers, input_registers };

/// How a number stands in registers of 16 bits.
enum class RegisterType : std::uint8_t {
  int16,
  natural16,
  int32,
  natural32,
  float32,
  int64,
  natural64,
  float64
};
[[nodiscard]] const std::vector<std::string>& register_type_names();
/// By its name, the first of them where that is empty. Throws Error.
[[nodiscard]] RegisterType register_type_of(const std::string& name);
[[nodiscard]] std::size_t registers_of(RegisterType type) noexcept;

/// Which of two comes first in a number of several registers.
struct RegisterOrder {
  bool low_word_first = false;
  bool low_byte_first = false;
};
/// Registers of a number; one beyond what the type holds gets the nearest, and `saturated` is counted.
void put_number(double value, RegisterType type, RegisterOrder order, std::uint16_t* into, Count& saturated);
[[nodiscard]] double take_number(const std::uint16_t* from, RegisterType type, RegisterOrder order);

/// A coil, an input, or a number in registers.
struct ModbusPoint {
  ModbusTable table = ModbusTable::input_registers;
  int address = 0;  ///< from 0, as it stands in messages
  RegisterType type = RegisterType::int16;
  std::size_t shown = 0;             ///< its place in the image
  std::optional<std::size_t> asked;  ///< what writing to it asks for; none: it is only read
  [[nodiscard]] std::size_t size() const noexcept {
    return table == ModbusTable::coils || table == ModbusTable::discrete_inputs ? 1 : registers_of(type);
  }
};
struct ModbusMap {
  std::vector<ModbusPoint> points;
  RegisterOrder order;
  int unit = 1;         ///< 1 ... 247
  bool serial = false;  ///< frames as on a line (RTU)
};
/// What is wrong with it: a point beyond 65,535, or two that overlap; empty when nothing is.
[[nodiscard]] std::string flaw_of(const ModbusMap& map);

/// A server. What is asked of it is answered once the plant has done it: a value out of range is an illegal
/// data value (3), what interlocking refuses a failure of the device (4), what nobody had room for, busy (6);
/// an address that the map does not have, or half a number, an illegal address (2). Requests for other units
/// get no answer on a line, and "target does not respond" (11) over TCP; unit 0 and 255 are this one there.
[[nodiscard]] std::unique_ptr<Party> make_modbus_server(ModbusMap map, ProcessImage& image);

/// Asks a server, waiting for each answer.
class ModbusClient {
 public:
  struct Reads {
    ModbusTable table;
    int address, count;
  };
  /// `unit` 1 ... 247; a place that connects, or a line.
  ModbusClient(const StreamPlace& place, int unit, double timeout_s);
  ~ModbusClient();
  ModbusClient(const ModbusClient&) = delete;
  ModbusClient& operator=(const ModbusClient&) = delete;
  /// Registers, or coils as 0 and 1; false when there was no answer, or an exception: `trouble` says which.
  /// Connects when it is not.
  [[nodiscard]] bool read(const Reads& what, std::vector<std::uint16_t>& into);
  [[nodiscard]] bool write_coil(int address, bool on);
  [[nodiscard]] bool write_registers(int address, const std::vector<std::uint16_t>& values);
  void disconnect();
  [[nodiscard]] bool is_connected() const noexcept { return connected_; }
  [[nodiscard]] const std::string& trouble() const noexcept { return trouble_; }
  [[nodiscard]] const Traffic& traffic() const noexcept { return traffic_; }

 private:
  [[nodiscard]] bool connect();
  [[nodiscard]] bool note(int result, int wanted);
  struct Context;
  std::unique_ptr<Context> context_;
  bool connected_ = false;
  Traffic traffic_;
  std::string trouble_;
};

}  // namespace zavrek::wire
