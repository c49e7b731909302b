#include "zavrek/bench/ports/ethercat_slave.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/field_bus.hpp"
#include "zavrek/wire/field/ethercat.hpp"

namespace zavrek::bench::internal {
namespace {

using RowsOf = BusRows::What;

constexpr std::size_t most_image_octets = 0x300;

wire::EtherCatType ethercat_type_of(const BusRow& row) {
  const std::vector<std::string>& names = wire::ethercat_type_names();
  if (row.as.empty()) return wire::EtherCatType::int16;
  const auto at = std::find(names.begin() + 1, names.end(), row.as);
  if (at == names.end())
    throw Error(fmt::format(
        "\"{}\": no type \"{}\"; one of int8, natural8, int16, natural16, int32, natural32, float32, "
        "float64",
        row.cause, row.as));
  return static_cast<wire::EtherCatType>(at - names.begin());
}

wire::EtherCatSettings slave_of(const EtherCatSlave& settings) {
  wire::EtherCatSettings made;
  made.name = settings.name;
  made.product = static_cast<std::uint32_t>(settings.product);
  made.serial = static_cast<std::uint32_t>(settings.serial);
  const auto add = [](std::vector<wire::EtherCatEntry>& into, const std::vector<std::string>& texts,
                      bool states) {
    for (const BusRow& row : read_bus_rows(texts, BusAt::name))
      into.push_back({row.at, states ? wire::EtherCatType::boolean : ethercat_type_of(row), 0});
  };
  add(made.inputs, settings.inputs, false);
  add(made.inputs, settings.input_states, true);
  add(made.outputs, settings.outputs, false);
  add(made.outputs, settings.output_states, true);
  return made;
}

class EtherCatPort final : public FieldBus {
 public:
  EtherCatPort(const EtherCatSlave& settings, const RunPlan& plan)
      : FieldBus({"ethercat_slave", settings.name, is_connected(plan)}, plan.setup,
                 {{RowsOf::numbers, read_bus_rows(settings.inputs, BusAt::name)},
                  {RowsOf::points, read_bus_rows(settings.input_states, BusAt::name)},
                  {RowsOf::asked, read_bus_rows(settings.outputs, BusAt::name)},
                  {RowsOf::asked, read_bus_rows(settings.output_states, BusAt::name)}}),
        settings_(settings) {}
  ~EtherCatPort() override { end(); }

  void declare(Exchange& exchange) override {
    FieldBus::declare(exchange);
    operational_ = exchange.add_output(settings_.name, "operational");
  }
  void take(Exchange& exchange) noexcept override {
    FieldBus::take(exchange);
    if (const bool is = is_operational_.load(std::memory_order_relaxed); is != exchange.on(operational_))
      exchange.tell(operational_, is);
  }

 private:
  std::string open_other() override {
    wire::EtherCatSettings made = slave_of(settings_);
    for (std::size_t kind = 0; kind < 4; ++kind) {
      std::vector<wire::EtherCatEntry>& into = kind < 2 ? made.inputs : made.outputs;
      const std::size_t first = kind % 2 == 0 ? 0 : rows(kind - 1).size();
      for (std::size_t k = 0; k < rows(kind).size(); ++k)
        into[first + k].place = kind < 2 ? place(kind, k).shown : place(kind, k).asked;
    }
    try {
      link_ = std::make_unique<wire::EtherCatLink>(settings_.interface);
    } catch (const Error& error) {
      return error.what();
    }
    slave_ = std::make_unique<wire::EtherCatSlave>(std::move(made), *this);
    return {};
  }
  std::string other_medium() const override { return "EtherCAT on " + settings_.interface; }
  std::string carries() const override {
    return fmt::format("EtherCAT, {} and {} octets", slave_->input_bytes(), slave_->output_bytes());
  }
  const wire::Traffic* traffic() const override { return slave_ ? &slave_->traffic() : nullptr; }
  void turn(bool cut, bool silent) override {
    link_->wait(1);
    for (int k = 0; k < most_at_once; ++k) {
      const std::size_t size = link_->receive(frame_);
      if (size == 0) break;
      const std::span<std::uint8_t> frame = std::span(frame_).first(size);
      const bool deaf = cut || silent;
      if (!deaf && slave_->pass(frame, {pace::system_clock().now_ns(), 0})) (void)link_->send(frame);
    }
    slave_->poll({pace::system_clock().now_ns(), 0});
    is_operational_.store(slave_->state() == wire::EtherCatState::operational, std::memory_order_relaxed);
  }

  static constexpr int most_at_once = 64;
  EtherCatSlave settings_;
  PointId operational_;
  std::atomic<bool> is_operational_{false};
  std::unique_ptr<wire::EtherCatLink> link_;
  std::unique_ptr<wire::EtherCatSlave> slave_;
  std::array<std::uint8_t, 2048> frame_{};
};

}  // namespace

template <>
std::unique_ptr<Port> make_port(const EtherCatSlave& settings, const RunPlan& plan) {
  return std::make_unique<EtherCatPort>(settings, plan);
}

template <>
void check(const EtherCatSlave& settings, Flaws& flaws) {
  const std::string place = "ethercat_slave." + settings.name;
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what, bool number) {
    std::size_t bits = 0;
    for (const BusRow& row : check_rows(flaws, place, field, texts, what, BusAt::name)) {
      try {
        bits += number ? wire::bits_of(ethercat_type_of(row)) : 1;
      } catch (const Error& error) {
        flaws.report(place, field, error.what());
      }
    }
    if (bits > 8 * most_image_octets / 2)
      flaws.report(
          place, field,
          fmt::format("{} octets are more than the {} of half an image", bits / 8, most_image_octets / 2));
  };
  look("inputs", settings.inputs, RowsOf::numbers, true);
  look("input_states", settings.input_states, RowsOf::points, false);
  look("outputs", settings.outputs, RowsOf::asked, true);
  look("output_states", settings.output_states, RowsOf::asked, false);
}

}  // namespace zavrek::bench::internal

namespace zavrek::bench {

std::string slave_description(const EtherCatSlave& settings) {
  return wire::slave_description(internal::slave_of(settings));
}

}  // namespace zavrek::bench
