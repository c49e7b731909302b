#include "zavrek/bench/ports/dnp3.hpp"

#include <algorithm>
#include <sstream>

#include <fmt/format.h>

#include "bench/bus_address.hpp"
#include "bench/field_bus.hpp"
#include "zavrek/wire/field/dnp3.hpp"

namespace zavrek::bench::internal {
namespace {

using RowsOf = BusRows::What;

enum Dnp3Rows : std::size_t { of_binary_inputs, of_analogue_inputs, of_binary_outputs, of_analogue_outputs };

wire::Dnp3Analogue analogue_of(const BusRow& row) {
  const std::vector<std::string>& names = wire::dnp3_analogue_names();
  if (row.as.empty()) return wire::Dnp3Analogue::float32;
  const auto at = std::find(names.begin(), names.end(), row.as);
  if (at == names.end())
    throw Error(fmt::format("\"{}\": no type \"{}\"; one of float32, int32, int16", row.cause, row.as));
  return static_cast<wire::Dnp3Analogue>(at - names.begin());
}

constexpr int most_address = 65'519;
constexpr std::size_t most_masters = 1000;

/// What "4" and "10 to 58" say.
std::vector<int> addresses_of(const std::vector<std::string>& texts) {
  std::vector<int> all;
  for (const std::string& text : texts) {
    std::istringstream in(text);
    int first = -1, last = -1;
    std::string to, more;
    if (!(in >> first)) first = -1;
    last = first;
    if (in >> to) in >> last;
    const bool whole = (to.empty() || (to == "to" && !in.fail())) && !(in >> more);
    if (!whole || first < 0 || last < first || last > most_address)
      throw Error(fmt::format("\"{}\" is no address nor \"FIRST to LAST\", 0 to {}", text, most_address));
    for (int address = first; address <= last; ++address) {
      if (all.size() == most_masters)
        throw Error(fmt::format("\"{}\": more than {} masters", text, most_masters));
      all.push_back(address);
    }
  }
  return all;
}

/// What both sides share. An outstation shows its inputs and is asked for its outputs; with a master it is
/// the other way round.
template <class Settings>
class Dnp3Port : public FieldBus {
 public:
  Dnp3Port(const char* kind, const Settings& settings, const RunPlan& plan, RowsOf states, RowsOf numbers,
           RowsOf controls, RowsOf set_points)
      : FieldBus({kind, settings.name, is_connected(plan)}, plan.setup,
                 {{states, read_bus_rows(settings.binary_inputs)},
                  {numbers, read_bus_rows(settings.analogue_inputs)},
                  {controls, read_bus_rows(settings.binary_outputs)},
                  {set_points, read_bus_rows(settings.analogue_outputs)}}),
        settings_(settings) {}

 protected:
  wire::Dnp3Settings settings_of(bool inputs_are_shown) const {
    wire::Dnp3Settings made;
    made.address = settings_.outstation;
    made.master = settings_.master;
    made.unsolicited = settings_.unsolicited;
    made.confirmation_s = settings_.answer_time_s;
    const auto each = [&](std::size_t kind, auto&& add) {
      for (std::size_t k = 0; k < rows(kind).size(); ++k) add(rows(kind)[k], place(kind, k));
    };
    const auto input = [&](const BusPlace& at) { return inputs_are_shown ? at.shown : at.asked; };
    const auto output = [&](const BusPlace& at) { return inputs_are_shown ? at.asked : at.shown; };
    each(of_binary_inputs, [&](const BusRow& row, const BusPlace& at) {
      made.binaries.push_back(
          {static_cast<int>(row.address), input(at), row.has_class ? row.event_class : 1});
    });
    each(of_analogue_inputs, [&](const BusRow& row, const BusPlace& at) {
      made.numbers.push_back({static_cast<int>(row.address), input(at), row.has_class ? row.event_class : 2,
                              analogue_of(row), at.within});
    });
    each(of_binary_outputs, [&](const BusRow& row, const BusPlace& at) {
      made.controls.push_back({static_cast<int>(row.address), output(at), at.shown, row.select});
    });
    each(of_analogue_outputs, [&](const BusRow& row, const BusPlace& at) {
      made.set_points.push_back(
          {static_cast<int>(row.address), output(at), at.shown, row.select, analogue_of(row), at.within});
    });
    return made;
  }
  Settings settings_;
};

class Dnp3OutstationPort final : public Dnp3Port<Dnp3Outstation> {
 public:
  Dnp3OutstationPort(const Dnp3Outstation& settings, const RunPlan& plan)
      : Dnp3Port("dnp3_outstation", settings, plan, RowsOf::points, RowsOf::numbers, RowsOf::asked,
                 RowsOf::asked) {}

 private:
  std::unique_ptr<wire::Party> make_party() override {
    wire::Dnp3Settings made = settings_of(true);
    made.other_masters = addresses_of(settings_.other_masters);
    made.most_events = static_cast<std::size_t>(settings_.events);
    made.scan_s = settings_.scan_s;
    made.select_time_s = settings_.select_time_s;
    made.takes_time = settings_.clock == "master";
    return wire::make_dnp3_outstation(std::move(made), *this);
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    return stream_place_of(settings_, wire::StreamPlace::Kind::listens);
  }
  std::string carries() const override { return fmt::format("DNP3, outstation {}", settings_.outstation); }
};

class Dnp3MasterPort final : public Dnp3Port<Dnp3Master> {
 public:
  Dnp3MasterPort(const Dnp3Master& settings, const RunPlan& plan)
      : Dnp3Port("dnp3_master", settings, plan, RowsOf::asked, RowsOf::asked, RowsOf::points,
                 RowsOf::numbers) {}

 private:
  std::unique_ptr<wire::Party> make_party() override {
    wire::Dnp3Settings made = settings_of(false);
    made.poll_s = settings_.poll_s;
    made.integrity_s = settings_.integrity_s;
    return wire::make_dnp3_master(std::move(made), *this);
  }
  std::optional<wire::StreamPlace> stream_place() const override {
    return stream_place_of(settings_, wire::StreamPlace::Kind::connects);
  }
  std::string carries() const override { return fmt::format("DNP3, master of {}", settings_.outstation); }
};

template <class Settings>
void check_dnp3(const Settings& settings, const std::string& place, Flaws& flaws, bool outstation) {
  check_bus_address(flaws, place, settings);
  if (settings.outstation == settings.master)
    flaws.report(place, "master", "is the outstation's own address");
  const auto look = [&](const char* field, const std::vector<std::string>& texts, RowsOf what, bool number) {
    for (const BusRow& row : check_rows(flaws, place, field, texts, what)) {
      try {
        if (number) (void)analogue_of(row);
        if (!number && !row.as.empty())
          throw Error(fmt::format("\"{}\": a state has one type only; leave \"as\" out", row.cause));
      } catch (const Error& error) {
        flaws.report(place, field, error.what());
      }
      if (row.address > 65'535)
        flaws.report(place, field, fmt::format("index {} is above 65,535", row.address));
      if (row.event_class > 3)
        flaws.report(place, field, fmt::format("class {} is above 3", row.event_class));
    }
  };
  look("binary_inputs", settings.binary_inputs, outstation ? RowsOf::points : RowsOf::asked, false);
  look("analogue_inputs", settings.analogue_inputs, outstation ? RowsOf::numbers : RowsOf::asked, true);
  look("binary_outputs", settings.binary_outputs, outstation ? RowsOf::asked : RowsOf::points, false);
  look("analogue_outputs", settings.analogue_outputs, outstation ? RowsOf::asked : RowsOf::numbers, true);
}

}  // namespace

template <>
std::unique_ptr<Port> make_port(const Dnp3Outstation& settings, const RunPlan& plan) {
  return std::make_unique<Dnp3OutstationPort>(settings, plan);
}
template <>
std::unique_ptr<Port> make_port(const Dnp3Master& settings, const RunPlan& plan) {
  return std::make_unique<Dnp3MasterPort>(settings, plan);
}

template <>
void check(const Dnp3Outstation& settings, Flaws& flaws) {
  const std::string place = "dnp3_outstation." + settings.name;
  check_dnp3(settings, place, flaws, true);
  try {
    std::vector<int> all = addresses_of(settings.other_masters);
    all.insert(all.end(), {settings.master, settings.outstation});
    std::sort(all.begin(), all.end());
    const auto twice = std::adjacent_find(all.begin(), all.end());
    if (settings.outstation != settings.master && twice != all.end())
      flaws.report(place, "other_masters", fmt::format("address {} stands twice", *twice));
  } catch (const Error& error) {
    flaws.report(place, "other_masters", error.what());
  }
}
template <>
void check(const Dnp3Master& settings, Flaws& flaws) {
  check_dnp3(settings, "dnp3_master." + settings.name, flaws, false);
}

}  // namespace zavrek::bench::internal
