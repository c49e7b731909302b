#include <algorithm>
#include <cmath>
#include <numbers>
#include <set>

#include <fmt/format.h>

#include "zavrek/trial/mistakes.hpp"

namespace zavrek::trial {
namespace {

using network::Field;
using network::Shape;
using protection::FunctionSettings;
using protection::RelaySettings;

/// Amounts by which a quantity is made wrong, the smallest first, and how far a cause is looked for.
struct Ladder {
  const char* unit;      // base unit of the quantities that it is for; empty: all others, by shares
  const char* shown_in;  // unit of the amounts
  std::vector<double> amounts;
  double most;
  const char *longer, *shorter;
};
constexpr double most_times = Explanation::most, least_times = Explanation::least;
const Ladder& ladder_for(const std::string& base_unit) {
  constexpr double degree = std::numbers::pi / 180;
  static const std::vector<Ladder> all{
      {"s", "ms", {20e-3, 50e-3}, 1, "{ms} longer than approved", "{ms} shorter than approved"},
      {"Hz", "mHz", {50e-3, 100e-3, 200e-3}, 5, "{mHz} above the approved", "{mHz} below the approved"},
      {"rad",
       "deg",
       {10 * degree, 30 * degree},
       std::numbers::pi,
       "{deg} more than approved",
       "{deg} less than approved"},
      {"", "%", {0.05, 0.1, 0.2}, 0, "{} times as approved", "{} times as approved"}};
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
  return std::any_of(settings.functions.begin(), settings.functions.end(),
                     [](const FunctionSettings& function) { return protection::sees_voltage(function); });
}

/// Where an object of the settings stands: the relay's own fields, or those of a function.
using Find = std::function<void*(RelaySettings&)>;

class Collector {
 public:
  explicit Collector(const RelaySettings& settings) : settings_(settings) {}

  std::vector<Mistake> collect() {
    walk(settings_, "", [](RelaySettings& s) { return static_cast<void*>(&s); });
    for (std::size_t k = 0; k < settings_.functions.size(); ++k) {
      std::visit(
          [&](const auto& function) {
            walk(function, function.name, [k](RelaySettings& s) {
              return std::visit([](auto& one) { return static_cast<void*>(&one); }, s.functions[k]);
            });
          },
          settings_.functions[k]);
    }
    return std::move(mistakes_);
  }

 private:
  /// What a field is called, and whose it is: "phase1 ", or "" for the relay's own.
  struct Place {
    std::string function;
    const Field* field;
    Find find;
    [[nodiscard]] std::string name() const { return (function.empty() ? "" : function + " ") + field->name; }
    /// "the drop off of phase1"
    [[nodiscard]] std::string called() const {
      std::string words = field->name;
      std::replace(words.begin(), words.end(), '_', ' ');
      if (words == "of" || words == "when" || words == "trips") words = '"' + words + '"';
      return function.empty() ? "its " + words : fmt::format("the {} of {}", words, function);
    }
  };

  template <class Object>
  void walk(const Object& object, const std::string& function, const Find& find) {
    for (const Field& field : table(&object).fields) {
      if (is_left_out(field.name) || !acts(object, field.name)) continue;
      const Place place{function, &field, find};
      const network::Value value = field.read(find(settings_));
      if (field.shape == Shape::quantity) quantity(place, std::get<double>(value));
      if (field.shape == Shape::flag) flag(place, std::get<bool>(value));
      if (field.shape == Shape::text)
        text(place, std::get<std::string>(value),
             [&](const std::string& word) { return is_same(object, field.name, word); });
      if (field.shape == Shape::texts) texts(place, std::get<std::vector<std::string>>(value));
    }
  }

  /// Makes `value` of an amount the field's; amounts that the settings cannot have are left away, and so is
  /// the mistake without any.
  template <class ValueOf>
  void add(const Place& place, Mistake mistake, ValueOf&& value_of) {
    mistake.make = [field = *place.field, find = place.find, value_of](Device& device, double by) {
      try {
        field.assign(find(device.relay), value_of(by));
        return protection::validate(device.relay).empty();
      } catch (const Error&) {  // out of its bounds
        return false;
      }
    };
    std::erase_if(mistake.amounts, [&](const Mistake::Amount& amount) {
      Device tried;
      tried.relay = settings_;
      return !mistake.make(tried, amount.by);
    });
    if (!mistake.amounts.empty()) mistakes_.push_back(std::move(mistake));
  }
  /// One by its word: what it says instead, "" where it is left away.
  void add_word(const Place& place, const std::string& what, const std::string& called,
                const std::string& before, const std::string& word, const network::Value& value) {
    Mistake mistake;
    mistake.what = what;
    mistake.before = before;
    mistake.behaves = word.empty() ? called + " were left away" : fmt::format("{} were {}", called, word);
    mistake.amounts.push_back({word.empty() ? "left away" : word, 0});
    add(place, std::move(mistake), [value](double) { return value; });
  }

  /// Both ways by the usual amounts; `value_of` a factor or something added, which is not below `least`.
  template <class ValueOf>
  void add_both_ways(const Place& place, const std::string& what, const std::string& called,
                     const std::string& before, const Ladder& ladder, double least, ValueOf&& value_of) {
    const bool shares = std::string(ladder.unit).empty();
    for (const double way : {-1.0, 1.0}) {
      Mistake mistake;
      mistake.what = what;
      mistake.before = before;
      mistake.behaves = fmt::format("{} were {}", called, way > 0 ? ladder.longer : ladder.shorter);
      mistake.kind = shares ? Mistake::Kind::share : Mistake::Kind::added;
      mistake.unit = ladder.shown_in;
      mistake.most = !shares ? std::max(way * ladder.most, least) : way > 0 ? most_times : least_times;
      for (const double amount : ladder.amounts) {
        const double by = shares ? 1 + way * amount : way * amount;
        mistake.amounts.push_back({mistake.shown(by), by});
      }
      add(place, std::move(mistake), value_of);
    }
  }
  void quantity(const Place& place, double value) {
    if (!network::is_set(value)) return;
    const Ladder& ladder = ladder_for(base_unit_of(*place.field));
    const bool shares = std::string(ladder.unit).empty();
    if (value == 0 && shares) return;
    const std::string unit = place.field->unit;
    // Times and frequencies can be shortened to nothing, no further.
    const double least = std::string(ladder.unit) == "rad" ? -ladder.most : -value;
    add_both_ways(
        place, place.name(), place.called(), print_quantity(value, unit), ladder, least,
        [=](double by) -> network::Value { return print_quantity(shares ? value * by : value + by, unit); });
  }
  void flag(const Place& place, bool value) {
    add_word(place, place.name(), place.called(), value ? "true" : "false", value ? "false" : "true", !value);
  }
  void text(const Place& place, const std::string& value,
            const std::function<bool(const std::string&)>& says_the_same) {
    for (const std::string& word : place.field->words) {
      if (word != value && !says_the_same(word))
        add_word(place, place.name(), place.called(), value, word, word);
    }
    if (place.field->words.empty() && !value.empty() && place.field->need == network::Need::optional)
      add_word(place, place.name(), place.called(), value, "", std::string());
  }
  /// Rated currents, clock figures, and what is earthed, of each place.
  void texts(const Place& place, const std::vector<std::string>& all) {
    for (std::size_t k = 0; k < all.size(); ++k) {
      const std::string what = fmt::format("{} of place {}", place.name(), k + 1);
      const std::string called = fmt::format("{}, place {},", place.called(), k + 1);
      const auto with = [&](const std::string& wrong) {
        std::vector<std::string> changed = all;
        changed[k] = wrong;
        return network::Value(changed);
      };
      if (all[k] == "yes" || all[k] == "no") {
        const std::string other = all[k] == "yes" ? "no" : "yes";
        add_word(place, what, called, all[k], other, with(other));
        continue;
      }
      if (all[k].find_first_not_of("0123456789") == std::string::npos) {
        const int hour = std::stoi(all[k]);
        for (int on = 1; on < 12; ++on) {
          const std::string other = std::to_string((hour + on) % 12);
          add_word(place, what, called, all[k], other, with(other));
        }
        continue;
      }
      const std::size_t space = all[k].find(' ');
      if (space == std::string::npos || !std::isdigit(static_cast<unsigned char>(all[k][0]))) continue;
      const double value = std::stod(all[k]);
      add_both_ways(place, what, called, all[k], ladder_for(""), 0,
                    [all, k, value, unit = all[k].substr(space)](double by) -> network::Value {
                      std::vector<std::string> changed = all;
                      changed[k] = fmt::format("{:.9g}{}", value * by, unit);
                      return changed;
                    });
    }
  }

  RelaySettings settings_;
  std::vector<Mistake> mistakes_;
};

/// "phases a and b of its currents were exchanged", "phase c of its voltages were dead".
std::string wired_so(const std::string& wiring, const std::string& whose) {
  if (wiring == "reversed") return whose + " were reversed";
  if (wiring.ends_with("swapped"))
    return fmt::format("phases {} of {} were exchanged", wiring.substr(0, 7), whose);
  return fmt::format("phase {} of {} were {}", wiring[0], whose, wiring.substr(2));
}

void add_circuits(const Device& device, int place, std::vector<Mistake>& mistakes) {
  struct Circuit {
    const char* name;
    std::string Device::*wiring;
    double Device::*factor;
  };
  const bool alone = device.reads.size() <= 1;
  for (const Circuit& circuit : {Circuit{"current", &Device::current_wiring, &Device::current_factor},
                                 Circuit{"voltage", &Device::voltage_wiring, &Device::voltage_factor}}) {
    if (circuit.wiring == &Device::voltage_wiring && !sees_voltage(device.approved_relay)) continue;
    const std::string of = alone ? "" : " of " + device.reads[static_cast<std::size_t>(place - 1)];
    const std::string whose =
        alone ? fmt::format("its {}s", circuit.name) : fmt::format("the {}s{}", circuit.name, of);
    for (const std::string& wiring : Device::wirings()) {
      if (wiring == device.*circuit.wiring) continue;
      Mistake& mistake = mistakes.emplace_back();
      mistake.what = fmt::format("{} circuits{}", circuit.name, of);
      mistake.before = device.*circuit.wiring;
      mistake.behaves = wired_so(wiring, whose);
      mistake.amounts = {{wiring, 0}};
      mistake.make = [=](Device& d, double) {
        d.*circuit.wiring = wiring;
        d.miswired_place = place;
        return true;
      };
    }
    for (const auto& factors : {std::vector<double>{0.95, 0.8, 0.5}, std::vector<double>{1.05, 1.25, 2}}) {
      Mistake& mistake = mistakes.emplace_back();
      mistake.what = fmt::format("{} ratio{}", circuit.name, of);
      mistake.before = "1";
      mistake.behaves = fmt::format("the ratio of {} were {{}} times what it should be", whose);
      mistake.kind = Mistake::Kind::share;
      mistake.most = factors.front() < 1 ? least_times : most_times;
      for (const double factor : factors)
        mistake.amounts.push_back({fmt::format("{:g} times", factor), factor});
      mistake.make = [=](Device& d, double by) {
        d.*circuit.factor *= by;
        d.miswired_place = place;
        return true;
      };
    }
  }
}

/// "input.f1" of every condition made something else.
void replace_input(RelaySettings& settings, const std::string& name, const std::string& made) {
  const std::string wanted = "input." + name;
  const auto is_part = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; };
  for (FunctionSettings& function : settings.functions) {
    std::visit(
        [&](auto& one) {
          for (const Field& field : table(&one).fields) {
            if (field.shape != Shape::text || !field.words.empty()) continue;
            std::string text = std::get<std::string>(field.read(&one));
            bool changed = false;
            for (std::size_t at = text.find(wanted); at != std::string::npos;
                 at = text.find(wanted, at + wanted.size())) {
              const std::size_t end = at + wanted.size();
              if (end < text.size() && (is_part(text[end]) || text[end] == '.')) continue;
              text.replace(at, wanted.size(), made);
              at += made.size() - wanted.size();
              changed = true;
            }
            if (changed) field.assign(&one, text);
          }
        },
        function);
  }
}

void add_inputs(const Device& device, std::vector<Mistake>& mistakes) {
  for (const std::string& text : device.inputs) {
    const std::string name = text.substr(0, text.find(':'));
    // Made in the relay: what it should have done is reckoned with the input as it is.
    const std::string is = "input." + name;
    for (const bool inverted : {false, true}) {
      const std::string word = inverted ? "inverted" : "not connected";
      const std::string made = inverted ? fmt::format("(not {})", is) : fmt::format("({0} and not {0})", is);
      Mistake& mistake = mistakes.emplace_back();
      mistake.what = "input " + text;
      mistake.before = "connected";
      mistake.behaves = fmt::format("its input {} were {}", name, word);
      mistake.amounts = {{word, 0}};
      mistake.make = [name, made](Device& d, double) {
        replace_input(d.relay, name, made);
        return protection::validate(d.relay).empty();
      };
    }
  }
}

}  // namespace

std::string Mistake::shown(double by) const {
  const bool shares = kind == Kind::share;
  const double size = shares ? std::abs(by - 1) : std::abs(by);
  const std::string in = shares ? "%" : unit;
  return fmt::format("{}{:.3g} {}", (shares ? by > 1 : by > 0) ? "+" : "-", size / parse_unit(in).scale, in);
}

double Mistake::amount_at(double place) const {
  return kind == Kind::share ? std::pow(most, place) : most * place;
}

std::vector<Mistake> mistakes_in_settings(const RelaySettings& settings) {
  return Collector(settings).collect();
}

std::vector<Mistake> mistakes_in_wiring(const Device& device) {
  std::vector<Mistake> mistakes;
  for (std::size_t k = 0; k < std::max<std::size_t>(1, device.reads.size()); ++k)
    add_circuits(device, static_cast<int>(k) + 1, mistakes);
  add_inputs(device, mistakes);
  for (Mistake& mistake : mistakes) mistake.device = device.name;
  return mistakes;
}

std::vector<Mistake> mistakes_in(const Case& all) {
  std::vector<Mistake> mistakes;
  for (const Device& device : all.bench.devices) {
    for (Mistake& mistake : mistakes_in_settings(device.approved_relay)) {
      mistake.device = device.name;
      mistakes.push_back(std::move(mistake));
    }
    for (Mistake& mistake : mistakes_in_wiring(device)) mistakes.push_back(std::move(mistake));
  }
  return mistakes;
}

}  // namespace zavrek::trial
