#include "zavrek/bench/ports/modbus_server.hpp"

#include <fmt/format.h>

#include "bench/bus_address.hpp"
#include "bench/field_bus.hpp"
#include "zavrek/wire/field/modbus.hpp"

namespace zavrek::bench::internal {
namespace {

using wire::ModbusTable;
using RowsOf = BusRows::What;

constexpr std::array server_tables{ModbusTable::input_registers, ModbusTable::discrete_inputs,
                                   ModbusTable::holding_registers, ModbusTable::coils};

wire::RegisterOrder order_of(const std::string& words, const std::string& bytes) {
  return {words == "low first", bytes == "low first"};
}

class ModbusServerPort final : public FieldBus {
 public:
  ModbusServerPort(const ModbusServer& settings, const RunPlan& plan)
      : FieldBus({"modbus_server", settings.name, is_connected(plan)}, plan.setup,
                 {{RowsOf::numbers, read_bus_rows(settings.input_registers)},
                  {RowsOf::points, read_bus_rows(settings.discrete_inputs)},
                  {RowsOf::asked, read_bus_rows(settings.holding_registers)},
                  {RowsOf::asked, read_bus_rows(settings.coils)}}),
        settings_(settings) {}

 private:
  std::unique_ptr<wire::Party> make_party() override {
    wire::ModbusMap map;
    map.order = order_of(settings_.words, settings_.bytes);
    map.unit = settings_.unit;
    map.serial = !settings_.line.empty();
    for (std::size_t kind = 0; kind < server_tables.size(); ++kind) {
      for (std::size_t k = 0; k < rows(kind).size(); ++k) {
        const BusRow& row = rows(kind)[k];
        wire::ModbusPoint& point = map.points.emplace_back();
        point.table = server_tables[kind];
        point.address = static_cast<int>(row.address);
        point.type = wire::register_type_of(row.as);
        point.shown = place(kind, k).shown;
        if (kind >= 2) point.asked = place(kind, k).asked;
      }
    }
    return wire::make_modbus_server(std::move(map), *this);
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    return stream_place_of(settings_, wire::StreamPlace::Kind::listens);
  }
  std::string carries() const override { return fmt::format("Modbus server, unit {}", settings_.unit); }

  ModbusServer settings_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const ModbusServer& settings, const RunPlan& plan) {
  return std::make_unique<ModbusServerPort>(settings, plan);
}

template <>
void check(const ModbusServer& settings, Flaws& flaws) {
  const std::string place = "modbus_server." + settings.name;
  check_bus_address(flaws, place, settings);
  wire::ModbusMap map;
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what,
                        ModbusTable table) {
    for (const BusRow& row : check_rows(flaws, place, field, texts, what)) {
      try {
        map.points.push_back({table, static_cast<int>(std::min(row.address, 70'000L)),
                              wire::register_type_of(row.as), 0, std::nullopt});
      } catch (const Error& error) {
        flaws.report(place, field, error.what());
      }
    }
    if (const std::string flaw = wire::flaw_of(map); !flaw.empty()) flaws.report(place, field, flaw);
    map.points.clear();
  };
  look("input_registers", settings.input_registers, RowsOf::numbers, ModbusTable::input_registers);
  look("discrete_inputs", settings.discrete_inputs, RowsOf::points, ModbusTable::discrete_inputs);
  look("holding_registers", settings.holding_registers, RowsOf::asked, ModbusTable::holding_registers);
  look("coils", settings.coils, RowsOf::asked, ModbusTable::coils);
}

}  // namespace zavrek::bench::internal
