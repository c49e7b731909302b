#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>

#include "protection/function.hpp"

namespace zavrek::protection {

using network::is_set;

namespace {

/// Currents over pickup at which stages are compared: to forty times pickup.
constexpr double compared_to = 40;
constexpr double compared_step = 1.15;

/// Whether `faster` can stand in the way of `slower` at all.
bool same_ground(const Stage& slower, const Stage& faster) {
  return slower.quantity == faster.quantity && slower.end == faster.end && faster.blocked_by.empty() &&
         !is_set(faster.second_harmonic) && is_set(faster.pickup_A) && is_set(slower.pickup_A) &&
         (faster.direction == "none" || faster.direction == slower.direction) && faster.voltage == "none" &&
         slower.trips == faster.trips;
}

constexpr int samples_per_cycle = 80;  // of the streams that relays read

/// Calls `visit` with place, field and text of each condition.
template <class Visit>
void each_condition(const RelaySettings& settings, Visit&& visit) {
  for (const FunctionSettings& function : settings.functions) {
    std::visit(
        [&](const auto& f) {
          const Table& fields = table(&f);
          for (const network::Field& field : fields.fields) {
            const bool condition = field.name == "blocked_by" || field.name == "when" ||
                                   field.name == "set" || field.name == "reset" ||
                                   field.name == "started_by" || field.name == "closed";
            if (condition && field.shape == network::Shape::text && field.words.empty())
              visit(fields.kind + "." + f.name, field.name.c_str(), network::as_text(field.read(&f)));
          }
        },
        function);
  }
}

/// All that conditions name; those that cannot be read are told elsewhere.
std::vector<std::string> named_in_conditions(const RelaySettings& settings) {
  std::vector<std::string> names;
  each_condition(settings, [&](const std::string&, const char*, const std::string& text) {
    try {
      for (const std::string& name : Condition::names_in(text)) {
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
      }
    } catch (const Error&) {
    }
  });
  return names;
}

struct Checker {
  const RelaySettings& settings;
  std::vector<Flaw> flaws;

  void report(std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  }

  template <class Kind>
  [[nodiscard]] static std::string place_of(const Kind& function) {
    return table(&function).kind + "." + function.name;
  }

  void whole() {
    if (settings.functions.empty())
      report("relay", "", "has no function; write at least one, such as [stage.phase1]");
    const bool voltage = uses_voltage();
    if (settings.decisions > 0 && samples_per_cycle % settings.decisions != 0)
      report("relay", "decisions",
             fmt::format("{} of them do not share the {} samples of a cycle evenly; choose 4, 5, 8, 10, 16, "
                         "20, 40 or 80",
                         settings.decisions, samples_per_cycle));
    if (settings.values == "secondary" && !is_set(settings.ct_primary_A))
      report("relay", "ct_primary", "missing; settings in secondary values need the CT ratio");
    if (settings.values == "secondary" && voltage && !is_set(settings.vt_primary_V))
      report("relay", "vt_primary", "missing; voltages and impedances in secondary values need the VT ratio");
  }

  [[nodiscard]] bool uses_voltage() const {
    return std::any_of(settings.functions.begin(), settings.functions.end(), [](const auto& f) {
      // A direction alone needs no ratio.
      const auto* stage = std::get_if<Stage>(&f);
      if (stage) return stage->voltage != "none" || stage->least_voltage_V > 0;
      return sees_voltage(f);
    });
  }

  void check(const std::string& place, const network::Field& field, const void* function) {
    try {
      field.check(function);
    } catch (const Error& error) {
      report(place, field.name, error.what());
    }
  }

  void names() {
    std::set<std::string> seen;
    for (const FunctionSettings& function : settings.functions) {
      std::visit(
          [&](const auto& f) {
            const std::string place = place_of(f);
            if (!seen.insert(f.name).second)
              report(place, "", "the name is taken by another function; choose another");
            const bool taken = f.name == "input" || ((f.name == "start" || f.name == "trip") &&
                                                     !std::holds_alternative<Output>(function));
            if (taken)
              report(place, "", fmt::format("\"{}\" is the relay's own word; choose another", f.name));
            for (const network::Field* field : network::missing_fields(table(&f), &f))
              report(place, field->name, fmt::format("missing; {} is wanted", field->expects));
            for (const network::Field& field : table(&f).fields) check(place, field, &f);
          },
          function);
    }
  }

  void stages() {
    const auto all = settings.all<Stage>();
    for (const Stage* stage : all) {
      const std::string place = place_of(*stage);
      if (stage->characteristic == "definite" && !is_set(stage->delay_s))
        report(place, "delay", "missing; a definite stage needs its operating time, such as \"0.1 s\"");
      if (stage->characteristic == "points" && stage->points.size() < 2)
        report(place, "points", "missing; at least two are wanted, such as [\"1.5: 2 s\", \"10: 0.1 s\"]");
      if (stage->characteristic == "points" && !stage->points.empty() && stage->points.front().x < 1)
        report(place, "points", "start below pickup; the first multiple must be at least 1");
      if (stage->reset == "inverse" && !find_curve(stage->characteristic))
        report(place, "reset", "an inverse reset goes with a curve of the standards");
      if (stage->voltage != "none" && !is_set(stage->full_voltage_V))
        report(place, "full_voltage",
               "missing; a stage that voltage " + stage->voltage + " needs it, such as \"11 kV\"");
      overlap(*stage, all);
    }
    for (const Overfluxing* flux : settings.all<Overfluxing>()) {
      if (flux->characteristic == "definite" && !is_set(flux->delay_s))
        report(place_of(*flux), "delay", "missing; a definite time is wanted, such as \"2 s\"");
    }
    for (const PoleSlip* slip : settings.all<PoleSlip>()) {
      if (is_set(slip->blinder_ohm) && is_set(slip->forward_ohm) && slip->forward_ohm <= 0)
        report(place_of(*slip), "forward", "must reach beyond the origin");
    }
  }

  void overlap(const Stage& stage, const std::vector<const Stage*>& all) {
    const auto complete = [](const Stage& s) {
      return is_set(s.pickup_A) && (s.characteristic != "definite" || is_set(s.delay_s)) &&
             (s.characteristic != "points" || s.points.size() > 1);
    };
    if (!complete(stage)) return;
    for (const Stage* other : all) {
      if (other == &stage || !complete(*other) || !same_ground(stage, *other)) continue;
      bool always_first = true;
      for (double m = 1.001; m < compared_to && always_first; m *= compared_step) {
        const double current = m * stage.pickup_A;
        always_first = other->operate_time_s(current) < stage.operate_time_s(current);
      }
      if (!always_first) continue;
      report(place_of(stage), "pickup",
             other->characteristic == "definite"
                 ? fmt::format("can never operate first: stage {} picks up at {} and trips after {}",
                               other->name, print_quantity(other->pickup_A, "A"),
                               print_quantity(other->delay_s, "s"))
                 : fmt::format("can never operate first: stage {} is faster at every current", other->name));
      return;
    }
  }

  void voltages() {
    for (const VoltageStage* stage : settings.all<VoltageStage>()) {
      if (stage->characteristic == "definite" && !is_set(stage->delay_s))
        report(place_of(*stage), "delay",
               "missing; a definite stage needs its operating time, such as \"0.1 s\"");
      for (const VoltageStage* other : settings.all<VoltageStage>()) {
        const bool alike = other != stage && other->when == stage->when &&
                           other->quantity == stage->quantity && other->of == stage->of &&
                           other->end == stage->end && other->blocked_by.empty() &&
                           stage->characteristic == "definite" && other->characteristic == "definite";
        const bool reached_sooner = stage->when == "over" ? other->pickup_V <= stage->pickup_V
                                                          : other->pickup_V >= stage->pickup_V &&
                                                                other->block_below_V <= stage->block_below_V;
        if (alike && reached_sooner && other->delay_s < stage->delay_s)
          report(place_of(*stage), "pickup",
                 fmt::format("can never operate first: {} picks up at {} and trips after {}", other->name,
                             print_quantity(other->pickup_V, "V"), print_quantity(other->delay_s, "s")));
      }
    }
    for (const FrequencyStage* stage : settings.all<FrequencyStage>()) {
      const bool of_rate = stage->when == "rising" || stage->when == "falling";
      if (of_rate && !is_set(stage->rate_Hz_per_s))
        report(place_of(*stage), "rate", "missing; rising and falling need a rate, such as \"1 Hz/s\"");
      if (!of_rate && !is_set(stage->pickup_Hz))
        report(place_of(*stage), "pickup", "missing; over and under need a frequency, such as \"49 Hz\"");
    }
  }

  void zones() {
    const auto all = settings.all<Zone>();
    for (const Zone* zone : all) {
      if (zone->shape == "quadrilateral" && !is_set(zone->resistive_reach_ohm))
        report(place_of(*zone), "resistive_reach", "missing; a quadrilateral needs it, such as \"8 ohm\"");
      for (const Zone* other : all) {
        const bool alike =
            other != zone && other->shape == zone->shape && other->direction == zone->direction &&
            other->end == zone->end && other->blocked_by.empty() &&
            (other->loops == "all" || other->loops == zone->loops) && other->angle_rad == zone->angle_rad;
        const bool covers = other->reach_ohm >= zone->reach_ohm &&
                            (zone->shape == "mho" || other->resistive_reach_ohm >= zone->resistive_reach_ohm);
        if (alike && covers && other->delay_s < zone->delay_s)
          report(place_of(*zone), "reach",
                 fmt::format("can never operate first: zone {} reaches {} and trips after {}", other->name,
                             print_quantity(other->reach_ohm, "ohm"), print_quantity(other->delay_s, "s")));
      }
    }
    for (const PowerSwing* swing : settings.all<PowerSwing>()) {
      if (swing->inner_ohm >= swing->outer_ohm)
        report(place_of(*swing), "inner",
               "must be less than outer: a swing passes from the outer ring to the inner");
    }
  }

  void lists() {
    for (const Differential* d : settings.all<Differential>()) {
      const std::string place = place_of(*d);
      if (d->rated_currents.size() < 2 && !d->rated_currents.empty())
        report(place, "rated_currents", "at least two places are wanted");
      for (const std::string& text : d->rated_currents) quantity(place, "rated_currents", text, "A");
      for (const auto* list : {&d->hours, &d->earthed}) {
        if (!list->empty() && list->size() != d->rated_currents.size())
          report(place, list == &d->hours ? "hours" : "earthed", "one for each of rated_currents is wanted");
      }
      for (const std::string& text : d->hours) {
        const bool digits =
            !text.empty() && text.size() < 3 &&
            std::all_of(text.begin(), text.end(), [](char c) { return c >= '0' && c <= '9'; });
        if (!digits || std::stoi(text) > 11)
          report(place, "hours", fmt::format("\"{}\" is no clock figure from 0 to 11", text));
      }
      for (const std::string& text : d->earthed) {
        if (text != "yes" && text != "no")
          report(place, "earthed", fmt::format("\"{}\" is neither \"yes\" nor \"no\"", text));
      }
    }
    for (const Reclose* r : settings.all<Reclose>()) {
      for (const std::string& text : r->dead_times) quantity(place_of(*r), "dead_times", text, "s");
    }
  }

  void quantity(const std::string& place, const std::string& field, const std::string& text,
                std::string_view unit) {
    try {
      if (parse_quantity_as(text, unit) <= 0)
        report(place, field, fmt::format("\"{}\" must be above zero", text));
    } catch (const Error& error) {
      report(place, field, error.flaws()[0].text);
    }
  }

  /// Conditions parse, and name signals that are there.
  void conditions() {
    std::vector<std::string> known{"start", "trip"};
    for (const FunctionSettings& function : settings.functions) {
      const std::string& name = base_of(function).name;
      for (const std::string& signal : signals_of(function))
        known.push_back(signal.empty() ? name : name + "." + signal);
    }
    const auto check = [&](const std::string& place, const char* field, const std::string& text) {
      try {
        for (const std::string& name : Condition::names_in(text)) {
          if (name.starts_with("input.") && name.size() > 6) continue;
          if (std::find(known.begin(), known.end(), name) == known.end())
            report(place, field, fmt::format("no signal \"{}\"{}", name, suggestion(name, known)));
        }
      } catch (const Error& error) {
        report(place, field, fmt::format("the condition \"{}\": {}", text, error.flaws()[0].text));
      }
    };
    each_condition(settings, check);
  }
};

}  // namespace

std::vector<std::string> outputs_of(const RelaySettings& settings) {
  std::vector<std::string> names{"start", "trip"};
  for (const Output* output : settings.all<Output>()) {
    if (output->name != "start" && output->name != "trip") names.push_back(output->name);
  }
  return names;
}

std::vector<std::string> inputs_of(const RelaySettings& settings) {
  std::vector<std::string> inputs;
  for (const std::string& name : named_in_conditions(settings)) {
    if (name.starts_with("input.") && name.size() > 6) inputs.push_back(name.substr(6));
  }
  return inputs;
}

std::vector<std::string> idle_functions(const RelaySettings& settings) {
  const std::vector<std::string> named = named_in_conditions(settings);
  std::vector<std::string> idle;
  for (const FunctionSettings& function : settings.functions) {
    const FunctionBase& base = base_of(function);
    const std::vector<std::string> signals = signals_of(function);
    const bool trips = base.trips && std::find(signals.begin(), signals.end(), "trip") != signals.end();
    if (trips || std::holds_alternative<Output>(function)) continue;
    const bool used = std::any_of(named.begin(), named.end(), [&](const std::string& name) {
      return name == base.name || name.starts_with(base.name + ".");
    });
    if (!used) idle.push_back(base.name);
  }
  return idle;
}

std::vector<Flaw> validate(const RelaySettings& settings) {
  Checker checker{settings, {}};
  checker.whole();
  checker.names();
  checker.stages();
  checker.voltages();
  checker.zones();
  checker.lists();
  checker.conditions();
  return std::move(checker.flaws);
}

}  // namespace zavrek::protection
