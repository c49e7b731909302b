#include <cmath>
#include <numbers>
#include <set>

#include <fmt/format.h>

#include "zavrek/trial/coverage.hpp"

namespace zavrek::trial {
namespace {

using network::Field;
using network::Shape;
using protection::FunctionSettings;
using protection::RelaySettings;

/// Amounts by which a quantity is made wrong, the smallest first.
struct Ladder {
  const char* unit;      // base unit of the quantities that it is for; empty: all others, by shares
  const char* shown_in;  // unit of the amounts
  std::vector<double> amounts;
};
const Ladder& ladder_for(const std::string& base_unit) {
  constexpr double degree = std::numbers::pi / 180;
  static const std::vector<Ladder> all{{"s", "ms", {20e-3, 50e-3}},
                                       {"Hz", "mHz", {50e-3, 100e-3, 200e-3}},
                                       {"rad", "deg", {10 * degree, 30 * degree}},
                                       {"", "%", {0.05, 0.1, 0.2}}};
  for (const Ladder& ladder : all) {
    if (ladder.unit == base_unit) return ladder;
  }
  return all.back();
}

/// The base unit of a field's own: "s" of "ms".
std::string base_unit_of(const Field& field) {
  if (field.unit.empty()) return {};
  for (const char* base : {"s", "Hz", "rad"}) {
    if (parse_unit(field.unit).dimension == parse_unit(base).dimension) return base;
  }
  return {};
}

/// What changes nothing that a relay does in a trial, or is told where it is used.
bool is_left_out(const std::string& field) {
  static const std::set<std::string> names{"name",      "place",           "values", "filter",
                                           "decisions", "track_frequency", "earth"};
  return names.contains(field);
}

/// Whether a field does anything beside the others of its function.
bool acts(const protection::Stage& stage, const std::string& field) {
  const bool definite = stage.characteristic == "definite";
  if (field == "angle" || field == "least_voltage") return stage.direction != "none";
  if (field == "time_multiplier" || field == "flat_above") return !definite;
  if (field == "reset_delay") return stage.reset == "definite";
  // A definite time has nothing to fall back along, and one without delay nothing to hold.
  if (field == "reset") return !definite || stage.delay_s > 0;
  return true;
}
bool acts(const protection::VoltageStage& stage, const std::string& field) {
  return field != "time_multiplier" || stage.characteristic != "definite";
}
/// Whether another word says the same.
bool is_same(const protection::Stage& stage, const std::string& field, const std::string& word) {
  return field == "reset" && stage.reset_delay_s == 0 && stage.reset != "inverse" && word != "inverse";
}
template <class Kind>
bool is_same(const Kind& /*function*/, const std::string& /*field*/, const std::string& /*word*/) {
  return false;
}
template <class Kind>
bool acts(const Kind& /*function*/, const std::string& /*field*/) {
  return true;
}
bool acts(const RelaySettings& settings, const std::string& field) {
  const bool scaled = settings.values == "secondary";
  if (field.starts_with("ct_")) return scaled;
  if (field.starts_with("vt_")) return scaled && network::is_set(settings.vt_primary_V);
  if (field.starts_with("residual_"))
    return settings.residual_factor != 0 && !settings.all<protection::Zone>().empty();
  if (field == "load_angle") return network::is_set(settings.load_resistance_ohm);
  return true;
}

/// Whether any function looks at voltages.
bool sees_voltage(const RelaySettings& settings) {
  const auto stages = settings.all<protection::Stage>();
  const auto any = [&](auto... kinds) { return (!kinds.empty() || ...); };
  return std::any_of(stages.begin(), stages.end(), [](const auto* s) { return s->direction != "none"; }) ||
         any(settings.all<protection::VoltageStage>(), settings.all<protection::FrequencyStage>(),
             settings.all<protection::PowerStage>(), settings.all<protection::Zone>(),
             settings.all<protection::PowerSwing>(), settings.all<protection::SwitchOntoFault>(),
             settings.all<protection::Synchrocheck>(), settings.all<protection::LossOfPotential>());
}

/// Where an object of the settings stands: the relay's own fields, or those of a function.
using Find = std::function<void*(RelaySettings&)>;

class Collector {
 public:
  explicit Collector(const RelaySettings& settings) : settings_(settings) {}

  std::vector<MistakeGroup> collect() {
    walk(settings_, "", [](RelaySettings& s) { return static_cast<void*>(&s); });
    for (std::size_t k = 0; k < settings_.functions.size(); ++k) {
      std::visit(
          [&](const auto& function) {
            walk(function, function.name + " ", [k](RelaySettings& s) {
              return std::visit([](auto& one) { return static_cast<void*>(&one); }, s.functions[k]);
            });
          },
          settings_.functions[k]);
    }
    return std::move(groups_);
  }

 private:
  template <class Object>
  void walk(const Object& object, const std::string& whose, const Find& find) {
    for (const Field& field : table(&object).fields) {
      if (is_left_out(field.name) || !acts(object, field.name)) continue;
      const std::string what = whose + field.name;
      const network::Value value = field.read(find(settings_));
      if (field.shape == Shape::quantity) quantity(what, field, std::get<double>(value), find);
      if (field.shape == Shape::flag) flag(what, field, std::get<bool>(value), find);
      if (field.shape == Shape::text)
        text(what, field, std::get<std::string>(value), find,
             [&](const std::string& word) { return is_same(object, field.name, word); });
      if (field.shape == Shape::texts) texts(what, field, std::get<std::vector<std::string>>(value), find);
    }
  }

  /// A group of one field; amounts that the settings cannot have are left away.
  void add(const std::string& what, const std::string& before, const Field& field, const Find& find,
           const std::vector<std::pair<std::string, network::Value>>& values) {
    MistakeGroup group{.device = {}, .what = what, .before = before, .amounts = {}};
    for (const auto& [amount, value] : values) {
      const auto make = [field, find, value = value](Device& device) {
        field.assign(find(device.relay), value);
      };
      Device tried;
      tried.relay = settings_;
      try {
        make(tried);
        if (protection::validate(tried.relay).empty()) group.amounts.push_back({amount, make});
      } catch (const Error&) {  // out of its bounds
      }
    }
    if (!group.amounts.empty()) groups_.push_back(std::move(group));
  }

  void quantity(const std::string& what, const Field& field, double value, const Find& find) {
    if (!network::is_set(value)) return;
    const Ladder& ladder = ladder_for(base_unit_of(field));
    const bool shares = std::string(ladder.unit).empty();
    if (value == 0 && shares) return;
    for (const double way : {-1.0, 1.0}) {
      std::vector<std::pair<std::string, network::Value>> values;
      for (const double amount : ladder.amounts) {
        const double wrong = shares ? value * (1 + way * amount) : value + way * amount;
        const std::string text =
            fmt::format("{}{}", way > 0 ? "+" : "-", print_quantity(amount, ladder.shown_in));
        values.emplace_back(text, print_quantity(wrong, field.unit.empty() ? "" : field.unit));
      }
      add(what, print_quantity(value, field.unit), field, find, values);
    }
  }
  void flag(const std::string& what, const Field& field, bool value, const Find& find) {
    add(what, value ? "true" : "false", field, find, {{value ? "false" : "true", !value}});
  }
  void text(const std::string& what, const Field& field, const std::string& value, const Find& find,
            const std::function<bool(const std::string&)>& says_the_same) {
    for (const std::string& word : field.words) {
      if (word != value && !says_the_same(word)) add(what, value, field, find, {{word, word}});
    }
    if (field.words.empty() && !value.empty() && field.need == network::Need::optional)
      add(what, value, field, find, {{"left away", std::string()}});
  }
  /// Rated currents, clock figures, and what is earthed, of each place.
  void texts(const std::string& what, const Field& field, const std::vector<std::string>& all,
             const Find& find) {
    for (std::size_t k = 0; k < all.size(); ++k) {
      const std::string place = fmt::format("{} of place {}", what, k + 1);
      const auto with = [&](const std::string& wrong) {
        std::vector<std::string> changed = all;
        changed[k] = wrong;
        return network::Value(changed);
      };
      if (all[k] == "yes" || all[k] == "no") {
        const std::string other = all[k] == "yes" ? "no" : "yes";
        add(place, all[k], field, find, {{other, with(other)}});
        continue;
      }
      if (all[k].find_first_not_of("0123456789") == std::string::npos) {
        const int hour = std::stoi(all[k]);
        for (const int other : {(hour + 1) % 12, (hour + 11) % 12, (hour + 6) % 12})
          add(place, all[k], field, find, {{std::to_string(other), with(std::to_string(other))}});
        continue;
      }
      const std::size_t space = all[k].find(' ');
      if (space == std::string::npos || !std::isdigit(static_cast<unsigned char>(all[k][0]))) continue;
      for (const double way : {-1.0, 1.0}) {
        std::vector<std::pair<std::string, network::Value>> values;
        for (const double share : ladder_for("").amounts)
          values.emplace_back(
              fmt::format("{}{:g} %", way > 0 ? "+" : "-", 100 * share),
              with(fmt::format("{:.9g}{}", std::stod(all[k]) * (1 + way * share), all[k].substr(space))));
        add(place, all[k], field, find, values);
      }
    }
  }

  RelaySettings settings_;
  std::vector<MistakeGroup> groups_;
};

void add_wiring(const Device& device, std::vector<MistakeGroup>& groups) {
  struct Circuit {
    const char* name;
    std::string Device::*wiring;
    double Device::*factor;
  };
  const auto group = [&](std::string what, std::string before) -> MistakeGroup& {
    return groups.emplace_back(MistakeGroup{device.name, std::move(what), std::move(before), {}});
  };
  for (const Circuit& circuit : {Circuit{"current", &Device::current_wiring, &Device::current_factor},
                                 Circuit{"voltage", &Device::voltage_wiring, &Device::voltage_factor}}) {
    if (circuit.wiring == &Device::voltage_wiring && !sees_voltage(device.approved_relay)) continue;
    for (const std::string& wiring : Device::wirings()) {
      if (wiring == device.*circuit.wiring) continue;
      group(fmt::format("{} circuits", circuit.name), device.*circuit.wiring)
          .amounts.push_back({wiring, [=](Device& d) { d.*circuit.wiring = wiring; }});
    }
    for (const auto& factors : {std::vector<double>{0.95, 0.8, 0.5}, std::vector<double>{1.05, 1.25, 2}}) {
      MistakeGroup& ratio = group(fmt::format("{} ratio", circuit.name), "1");
      for (const double factor : factors)
        ratio.amounts.push_back(
            {fmt::format("{:g} times", factor), [=](Device& d) { d.*circuit.factor *= factor; }});
    }
  }
  for (std::size_t k = 0; k < device.inputs.size(); ++k)
    group("input " + device.inputs[k], "connected").amounts.push_back({"not connected", [k](Device& d) {
                                                                         d.inputs.erase(d.inputs.begin() +
                                                                                        static_cast<long>(k));
                                                                       }});
}

}  // namespace

std::vector<MistakeGroup> mistakes_in_settings(const RelaySettings& settings) {
  return Collector(settings).collect();
}

std::vector<MistakeGroup> mistakes_in(const Case& all) {
  std::vector<MistakeGroup> groups;
  for (const Device& device : all.bench.devices) {
    for (MistakeGroup& group : mistakes_in_settings(device.approved_relay)) {
      group.device = device.name;
      groups.push_back(std::move(group));
    }
    add_wiring(device, groups);
  }
  return groups;
}

}  // namespace zavrek::trial
