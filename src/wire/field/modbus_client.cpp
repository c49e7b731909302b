#include <cerrno>
#include <cmath>

#include <fmt/format.h>

#include "wire/field/modbus_parts.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/wire/field/modbus.hpp"

namespace zavrek::wire {

struct ModbusClient::Context {
  std::unique_ptr<modbus_t, internal::FreeContext> modbus;
};

ModbusClient::ModbusClient(const StreamPlace& place, int unit, double timeout_s)
    : context_(std::make_unique<Context>()) {
  context_->modbus.reset(place.kind == StreamPlace::Kind::line
                             ? modbus_new_rtu(place.path.c_str(), place.bits_per_s, place.parity, 8, 1)
                             : modbus_new_tcp(place.address.c_str(), place.port));
  if (!context_->modbus)
    throw Error(fmt::format("no Modbus to {} ({})", place.address, modbus_strerror(errno)));
  (void)modbus_set_slave(context_->modbus.get(), unit);
  const double whole_s = std::floor(timeout_s);
  (void)modbus_set_response_timeout(context_->modbus.get(), static_cast<std::uint32_t>(whole_s),
                                    static_cast<std::uint32_t>(1e6 * (timeout_s - whole_s)));
}
ModbusClient::~ModbusClient() { disconnect(); }

bool ModbusClient::connect() {
  if (connected_) return true;
  connected_ = modbus_connect(context_->modbus.get()) == 0;
  if (connected_)
    ++traffic_.connections;
  else
    trouble_ = modbus_strerror(errno);
  return connected_;
}

void ModbusClient::disconnect() {
  if (connected_) modbus_close(context_->modbus.get());
  connected_ = false;
}

/// An exception is an answer; without one, or with rubbish, the connection is made anew.
bool ModbusClient::note(int result, int wanted) {
  ++traffic_.sent;
  if (result == wanted) {
    ++traffic_.received;
    return true;
  }
  trouble_ = modbus_strerror(errno);
  if (errno > MODBUS_ENOBASE && errno < EMBBADCRC) {
    ++traffic_.received;
    ++traffic_.refused;
    return false;
  }
  ++(errno == ETIMEDOUT ? traffic_.lost : traffic_.malformed);
  disconnect();
  return false;
}

bool ModbusClient::read(const Reads& what, std::vector<std::uint16_t>& into) {
  if (!connect()) return false;
  into.assign(static_cast<std::size_t>(what.count), 0);
  modbus_t* modbus = context_->modbus.get();
  if (what.table == ModbusTable::input_registers)
    return note(modbus_read_input_registers(modbus, what.address, what.count, into.data()), what.count);
  if (what.table == ModbusTable::holding_registers)
    return note(modbus_read_registers(modbus, what.address, what.count, into.data()), what.count);
  std::vector<std::uint8_t> bits(into.size());
  const int got = what.table == ModbusTable::coils
                      ? modbus_read_bits(modbus, what.address, what.count, bits.data())
                      : modbus_read_input_bits(modbus, what.address, what.count, bits.data());
  std::copy(bits.begin(), bits.end(), into.begin());
  return note(got, what.count);
}

bool ModbusClient::write_coil(int address, bool on) {
  return connect() && note(modbus_write_bit(context_->modbus.get(), address, on ? 1 : 0), 1);
}

bool ModbusClient::write_registers(int address, const std::vector<std::uint16_t>& values) {
  const int count = static_cast<int>(values.size());
  return connect() &&
         note(modbus_write_registers(context_->modbus.get(), address, count, values.data()), count);
}

}  // namespace zavrek::wire
