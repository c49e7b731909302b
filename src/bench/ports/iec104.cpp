#include "zavrek/bench/ports/iec104.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "bench/bus_address.hpp"
#include "bench/field_bus.hpp"
#include "zavrek/wire/field/iec104.hpp"

namespace zavrek::bench::internal {
namespace {

using RowsOf = BusRows::What;
using wire::Iec104Kind;

enum Iec104Rows : std::size_t { of_states, of_measured, of_commands, of_set_points };

bool is_state_row(std::size_t kind) { return kind == of_states || kind == of_commands; }

Iec104Kind iec104_kind_of(const BusRow& row, bool state) {
  const std::vector<std::string>& names = wire::iec104_kind_names();
  if (row.as.empty()) return state ? Iec104Kind::single_point : Iec104Kind::real;
  const auto at = std::find(names.begin(), names.end(), row.as);
  const auto kind = static_cast<Iec104Kind>(at - names.begin());
  const bool is_state = kind == Iec104Kind::single_point || kind == Iec104Kind::double_point;
  if (at == names.end() || is_state != state)
    throw Error(fmt::format("\"{}\": no type \"{}\"; {}", row.cause, row.as,
                            state ? "one of single, double" : "one of normalised, scaled, float"));
  return kind;
}

wire::Iec104Settings common_settings(const Iec104Fields& fields) {
  wire::Iec104Settings settings;
  settings.common_address = fields.common_address;
  settings.timing = {fields.t1_s, fields.t2_s, fields.t3_s, fields.k, fields.w};
  return settings;
}

/// What both stations share.
template <class Settings>
class Iec104Port : public FieldBus {
 public:
  Iec104Port(const char* kind, const Settings& settings, const RunPlan& plan, RowsOf points, RowsOf numbers,
             RowsOf orders, RowsOf set)
      : FieldBus({kind, settings.name, is_connected(plan)}, plan.setup,
                 {{points, read_bus_rows(settings.states)},
                  {numbers, read_bus_rows(settings.measured)},
                  {orders, read_bus_rows(settings.commands)},
                  {set, read_bus_rows(settings.set_points)}}),
        settings_(settings) {}

 protected:
  /// A station's points are shown and its commands asked; with a controller it is the other way round.
  wire::Iec104Settings settings_of(bool points_are_shown) const {
    wire::Iec104Settings made = common_settings(settings_);
    for (std::size_t kind = of_states; kind <= of_set_points; ++kind) {
      for (std::size_t k = 0; k < rows(kind).size(); ++k) {
        const BusRow& row = rows(kind)[k];
        const BusPlace& at = place(kind, k);
        const bool point = kind == of_states || kind == of_measured;
        const std::size_t where = point == points_are_shown ? at.shown : at.asked;
        if (point)
          made.points.push_back({static_cast<int>(row.address), iec104_kind_of(row, is_state_row(kind)),
                                 where, at.within, row.event_class});
        else
          made.commands.push_back({static_cast<int>(row.address), iec104_kind_of(row, is_state_row(kind)),
                                   where, row.select, at.within});
      }
    }
    return made;
  }
  Settings settings_;
};

class Iec104StationPort final : public Iec104Port<Iec104Station> {
 public:
  Iec104StationPort(const Iec104Station& settings, const RunPlan& plan)
      : Iec104Port("iec104_station", settings, plan, RowsOf::points, RowsOf::numbers, RowsOf::asked,
                   RowsOf::asked) {}

 private:
  std::unique_ptr<wire::Party> make_party() override {
    wire::Iec104Settings made = settings_of(true);
    made.scan_s = settings_.scan_s;
    made.select_time_s = settings_.select_time_s;
    made.command_age_s = settings_.command_age_s;
    made.most_events = static_cast<std::size_t>(settings_.events);
    return wire::make_iec104_station(std::move(made), *this);
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    return stream_place_of(settings_, wire::StreamPlace::Kind::listens);
  }
  std::string carries() const override {
    return fmt::format("IEC 60870-5-104, station {}", settings_.common_address);
  }
};

class Iec104ControllerPort final : public Iec104Port<Iec104Controller> {
 public:
  Iec104ControllerPort(const Iec104Controller& settings, const RunPlan& plan)
      : Iec104Port("iec104_controller", settings, plan, RowsOf::asked, RowsOf::asked, RowsOf::points,
                   RowsOf::numbers) {}

 private:
  std::unique_ptr<wire::Party> make_party() override {
    wire::Iec104Settings made = settings_of(false);
    made.interrogation_s = settings_.interrogation_s;
    return wire::make_iec104_controller(std::move(made), *this);
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    return stream_place_of(settings_, wire::StreamPlace::Kind::connects);
  }
  std::string carries() const override {
    return fmt::format("IEC 60870-5-104, controlling station {}", settings_.common_address);
  }
};

template <class Settings>
void check_iec104(const Settings& settings, const std::string& place, Flaws& flaws, bool station) {
  check_bus_address(flaws, place, settings);
  if (!settings.line.empty()) flaws.report(place, "line", "goes over TCP only; leave it out");
  if (settings.t2_s >= settings.t1_s) flaws.report(place, "t2", "is not below t1");
  if (settings.w > settings.k) flaws.report(place, "w", "is above k: neither side would ever acknowledge");
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what, bool state) {
    constexpr long most_object = 16'777'215;
    for (const BusRow& row : check_rows(flaws, place, field, texts, what)) {
      try {
        (void)iec104_kind_of(row, state);
      } catch (const Error& error) {
        flaws.report(place, field, error.what());
      }
      if (row.address < 1 || row.address > most_object)
        flaws.report(place, field, fmt::format("address {} is not within 1 ... 16,777,215", row.address));
      if (row.event_class > 16)
        flaws.report(place, field, fmt::format("group {} is above 16", row.event_class));
    }
  };
  look("states", settings.states, station ? RowsOf::points : RowsOf::asked, true);
  look("measured", settings.measured, station ? RowsOf::numbers : RowsOf::asked, false);
  look("commands", settings.commands, station ? RowsOf::asked : RowsOf::points, true);
  look("set_points", settings.set_points, station ? RowsOf::asked : RowsOf::numbers, false);
  std::vector<std::string> points = settings.states, orders = settings.commands;
  points.insert(points.end(), settings.measured.begin(), settings.measured.end());
  orders.insert(orders.end(), settings.set_points.begin(), settings.set_points.end());
  Flaws other{flaws.setup, {}};
  (void)check_rows(other, place, "measured", points, RowsOf::asked);
  (void)check_rows(other, place, "set_points", orders, RowsOf::asked);
  if (flaws.found.empty()) flaws.found = other.found;
}

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Iec104Station& settings, const RunPlan& plan) {
  return std::make_unique<Iec104StationPort>(settings, plan);
}
template <>
std::unique_ptr<Port> make_port(const Iec104Controller& settings, const RunPlan& plan) {
  return std::make_unique<Iec104ControllerPort>(settings, plan);
}

template <>
void check(const Iec104Station& settings, Flaws& flaws) {
  check_iec104(settings, "iec104_station." + settings.name, flaws, true);
}
template <>
void check(const Iec104Controller& settings, Flaws& flaws) {
  check_iec104(settings, "iec104_controller." + settings.name, flaws, false);
}

}  // namespace zavrek::bench::internal
