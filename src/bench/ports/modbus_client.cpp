#include "zavrek/bench/ports/modbus_client.hpp"

#include <cmath>

#include <fmt/format.h>

#include "bench/bus_address.hpp"
#include "bench/field_bus.hpp"
#include "zavrek/wire/field/modbus.hpp"

namespace zavrek::bench::internal {
namespace {

using wire::ModbusTable;
using RowsOf = BusRows::What;

constexpr std::size_t read_kinds = 4;  // the kinds of rows before these are written
constexpr int most_registers = 120;

class ModbusClientPort final : public FieldBus {
 public:
  ModbusClientPort(const ModbusClient& settings, const RunPlan& plan)
      : FieldBus({"modbus_client", settings.name, is_connected(plan)}, plan.setup,
                 {{RowsOf::asked, read_bus_rows(settings.input_registers)},
                  {RowsOf::asked, read_bus_rows(settings.discrete_inputs)},
                  {RowsOf::asked, read_bus_rows(settings.holding_registers)},
                  {RowsOf::asked, read_bus_rows(settings.coils)},
                  {RowsOf::numbers, read_bus_rows(settings.writes_registers)},
                  {RowsOf::points, read_bus_rows(settings.writes_coils)}}),
        settings_(settings),
        order_{settings.words == "low first", settings.bytes == "low first"} {}
  ~ModbusClientPort() override { end(); }

 private:
  /// Addresses that follow on each other, read at once.
  struct Group {
    wire::ModbusClient::Reads reads;
    std::vector<std::size_t> rows;  // of `items_`
  };
  struct Item {
    int address = 0;
    wire::RegisterType type{};
    BusPlace place;
    double last = NAN;  // that was asked, or written
  };
  std::string open_other() override {
    constexpr std::array tables{ModbusTable::input_registers, ModbusTable::discrete_inputs,
                                ModbusTable::holding_registers, ModbusTable::coils};
    items_.clear();
    groups_.clear();
    for (std::size_t kind = 0; kind < read_kinds + 2; ++kind) {
      const std::size_t first = items_.size();
      for (std::size_t k = 0; k < rows(kind).size(); ++k)
        items_.push_back({static_cast<int>(rows(kind)[k].address), wire::register_type_of(rows(kind)[k].as),
                          place(kind, k)});
      if (kind < read_kinds) make_groups(tables[kind], first);
      if (kind + 1 == read_kinds) first_written_ = items_.size();
      if (kind == read_kinds) first_coil_ = items_.size();
    }
    client_ = std::make_unique<wire::ModbusClient>(
        stream_place_of(settings_, wire::StreamPlace::Kind::connects), settings_.unit, settings_.timeout_s);
    return {};
  }
  void make_groups(ModbusTable table, std::size_t first) {
    std::vector<std::size_t> sorted;
    for (std::size_t k = first; k < items_.size(); ++k) sorted.push_back(k);
    std::sort(sorted.begin(), sorted.end(),
              [&](std::size_t a, std::size_t b) { return items_[a].address < items_[b].address; });
    bool begins = true;
    for (const std::size_t k : sorted) {
      const int size = size_of(table, items_[k].type);
      if (!begins) {
        wire::ModbusClient::Reads& reads = groups_.back().reads;
        begins = reads.address + reads.count != items_[k].address || reads.count + size > most_registers;
      }
      if (begins) groups_.push_back({{table, items_[k].address, 0}, {}});
      begins = false;
      groups_.back().reads.count += size;
      groups_.back().rows.push_back(k);
    }
  }
  static int size_of(ModbusTable table, wire::RegisterType type) {
    return table == ModbusTable::coils || table == ModbusTable::discrete_inputs
               ? 1
               : static_cast<int>(wire::registers_of(type));
  }

  std::string other_medium() const override {
    return settings_.line.empty() ? fmt::format("TCP to {}:{}", settings_.address, settings_.port)
                                  : "line " + settings_.line;
  }
  const wire::Traffic* traffic() const override { return client_ ? &client_->traffic() : nullptr; }
  std::string carries() const override { return fmt::format("Modbus client, unit {}", settings_.unit); }

  void turn(bool cut, bool silent) override {
    const std::int64_t now_ns = pace::system_clock().now_ns();
    if (now_ns < next_ns_ || silent || cut) {
      if (cut) client_->disconnect();
      return pace::system_clock().sleep_until_ns(now_ns + 1'000'000);
    }
    const auto period_ns = static_cast<std::int64_t>(1e9 * settings_.period_s);
    next_ns_ = std::max(next_ns_ + period_ns, now_ns);
    for (const Group& group : groups_) {
      if (!client_->read(group.reads, words_)) {
        if (!client_->is_connected()) return;
        continue;
      }
      for (const std::size_t k : group.rows) set_from(group.reads, items_[k]);
    }
    write_changed();
  }
  void set_from(const wire::ModbusClient::Reads& reads, Item& item) {
    const std::uint16_t* word = &words_[static_cast<std::size_t>(item.address - reads.address)];
    const bool bit = reads.table == ModbusTable::coils || reads.table == ModbusTable::discrete_inputs;
    const double value = bit ? static_cast<double>(*word) : wire::take_number(word, item.type, order_);
    if (value == item.last) return;
    item.last = value;
    if (allows(item.place.asked, value))
      (void)ask(item.place.asked, value);
    else
      ++refused_;
  }
  void write_changed() {
    std::int64_t utc_ns = 0;
    if (!read(shown_, utc_ns)) return;
    for (std::size_t k = first_written_; k < items_.size(); ++k) {
      Item& item = items_[k];
      const double value = shown_[item.place.shown];
      if (std::abs(value - item.last) <= item.place.within) continue;
      if (k < first_coil_) {
        words_.assign(wire::registers_of(item.type), 0);
        wire::put_number(value, item.type, order_, words_.data(), saturated_);
      }
      const bool done = k < first_coil_ ? client_->write_registers(item.address, words_)
                                        : client_->write_coil(item.address, value > 0.5);
      if (done) item.last = value;
      if (!done && !client_->is_connected()) return;
    }
  }
  std::vector<Account> accounts() const override {
    std::vector<Account> accounts = FieldBus::accounts();
    for (Account& account : accounts) {
      account.refused += refused_;
      account.saturated += saturated_;
    }
    return accounts;
  }

  ModbusClient settings_;
  wire::RegisterOrder order_;
  std::unique_ptr<wire::ModbusClient> client_;
  std::vector<Item> items_;
  std::vector<Group> groups_;
  std::size_t first_written_ = 0, first_coil_ = 0;
  std::vector<std::uint16_t> words_;
  std::vector<double> shown_;
  std::int64_t next_ns_ = 0;
  Count refused_, saturated_;
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const ModbusClient& settings, const RunPlan& plan) {
  return std::make_unique<ModbusClientPort>(settings, plan);
}

template <>
void check(const ModbusClient& settings, Flaws& flaws) {
  const std::string place = "modbus_client." + settings.name;
  check_bus_address(flaws, place, settings);
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what) {
    for (const BusRow& row : check_rows(flaws, place, field, texts, what)) {
      try {
        (void)wire::register_type_of(row.as);
      } catch (const Error& error) {
        flaws.report(place, field, error.what());
      }
    }
  };
  look("input_registers", settings.input_registers, RowsOf::asked);
  look("discrete_inputs", settings.discrete_inputs, RowsOf::asked);
  look("holding_registers", settings.holding_registers, RowsOf::asked);
  look("coils", settings.coils, RowsOf::asked);
  look("writes_registers", settings.writes_registers, RowsOf::numbers);
  look("writes_coils", settings.writes_coils, RowsOf::points);
}

}  // namespace zavrek::bench::internal
