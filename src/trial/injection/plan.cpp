#include "zavrek/trial/injection_plan.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "trial/injection/constants.hpp"
#include "trial/judge/time_tolerance.hpp"

namespace zavrek::trial {

using network::any;
using network::at_least;
using network::Need;
using network::TableOf;
using network::within;
using protection::End;
using protection::Phasor;

namespace {

constexpr double decision_s = 1e-3;  ///< between two decisions of the relay that says what is expected
constexpr double rest_s = 1;         ///< of the first state, ahead of the sequence

/// "400 A at -30 deg"; zero for an empty text.
Phasor phasor_of(const std::string& text, const char* unit) {
  if (text.empty()) return 0;
  const std::size_t at = text.find(" at ");
  if (at == std::string::npos) return parse_quantity_as(text, unit);
  return parse_quantity_as(text.substr(0, at), unit) *
         std::polar(1.0, parse_quantity_as(text.substr(at + 4), "deg"));
}

struct PhasorField {
  const char* name;
  std::string InjectedPlace::*text;
  bool voltage;
  int sequence;  ///< 1, -1 or 0 for sequence values
  int phase;     ///< 0 to 2 for phase values; -1 for sequence values
};
constexpr PhasorField phasor_fields[] = {
    {"v1", &InjectedPlace::v1, true, 1, -1},  {"v2", &InjectedPlace::v2, true, -1, -1},
    {"v0", &InjectedPlace::v0, true, 0, -1},  {"va", &InjectedPlace::va, true, 0, 0},
    {"vb", &InjectedPlace::vb, true, 0, 1},   {"vc", &InjectedPlace::vc, true, 0, 2},
    {"i1", &InjectedPlace::i1, false, 1, -1}, {"i2", &InjectedPlace::i2, false, -1, -1},
    {"i0", &InjectedPlace::i0, false, 0, -1}, {"ia", &InjectedPlace::ia, false, 0, 0},
    {"ib", &InjectedPlace::ib, false, 0, 1},  {"ic", &InjectedPlace::ic, false, 0, 2}};

const std::vector<std::string> loops{"none", "A-E", "B-E", "C-E", "A-B", "B-C", "C-A"};

void add_loop(const InjectedPlace& here, const protection::RelaySettings& settings, End& end) {
  if (here.loop == "none") return;
  const Phasor ohm = phasor_of(here.impedance, "ohm");
  const auto first = static_cast<std::size_t>(here.loop[0] - 'A');
  if (here.loop[2] == 'E') {
    // The voltage keeps its angle; the current follows it.
    const Phasor k0 = std::polar(settings.residual_factor, settings.residual_angle_rad);
    const double angle = std::arg(end.voltage[first]);
    end.current[first] += std::polar(here.through_A, angle - std::arg(ohm)) / (1.0 + k0);
    end.voltage[first] = std::polar(std::abs(ohm) * here.through_A, angle);
    return;
  }
  const auto second = static_cast<std::size_t>(here.loop[2] - 'A');
  const Phasor middle = (end.voltage[first] + end.voltage[second]) / 2.0;
  const double angle = std::arg(end.voltage[first] - end.voltage[second]);
  const Phasor across = std::polar(std::abs(ohm) * here.through_A, angle);
  end.voltage[first] = middle + across / 2.0;
  end.voltage[second] = middle - across / 2.0;
  const Phasor through = std::polar(here.through_A / 2, angle - std::arg(ohm));
  end.current[first] += through;
  end.current[second] -= through;
}

void fill(const InjectedPlace& here, const protection::RelaySettings& settings, End& end) {
  for (const PhasorField& field : phasor_fields) {
    const Phasor value = phasor_of(here.*field.text, field.voltage ? "V" : "A");
    auto& phases = field.voltage ? end.voltage : end.current;
    for (int k = 0; k < 3; ++k) {
      const auto phase = static_cast<std::size_t>(k);
      if (field.phase < 0) phases[phase] += value * std::polar(1.0, -field.sequence * third_turn_rad * k);
      if (field.phase == k) phases[phase] += value;
    }
  }
  add_loop(here, settings, end);
  for (std::size_t k = 0; k < 3; ++k) {
    end.second[k] = here.second_harmonic * end.current[k];
    end.fifth[k] = here.fifth_harmonic * end.current[k];
  }
  protection::Measuring::complete(end, false);
}

template <class T>
TableOf<InjectedPlace>& quantities(TableOf<InjectedPlace>& table, const T& fields) {
  for (const PhasorField& field : fields) {
    const std::string of = field.phase >= 0       ? std::string("phase ") + "abc"[field.phase]
                           : field.sequence == 1  ? "positive sequence"
                           : field.sequence == -1 ? "negative sequence"
                                                  : "zero sequence";
    table.text(field.name, field.text,
               of + (field.voltage ? " voltage, such as \"63.5 V at 120 deg\""
                                   : " current, such as \"2 A at -30 deg\""),
               Need::optional);
  }
  return table;
}

}  // namespace

const network::Table& table(const InjectedPlace*) {
  static const network::Table built = [] {
    TableOf<InjectedPlace> made("quantities", "what stands at one place of a relay while a state lasts");
    made.count("place", &InjectedPlace::place, within(1, 16), "of the relay's places, the first is 1");
    quantities(made, phasor_fields)
        .choice("loop", &InjectedPlace::loop, loops, "fault loop that shows an impedance to the relay")
        .text("impedance", &InjectedPlace::impedance, "of that loop: \"2.1 ohm at 70 deg\"", Need::optional)
        .quantity("through", &InjectedPlace::through_A, "A", network::above(0), "current through that loop")
        .quantity("second_harmonic", &InjectedPlace::second_harmonic, "%", within(0, 2),
                  "in every current, of it")
        .quantity("fifth_harmonic", &InjectedPlace::fifth_harmonic, "%", within(0, 2),
                  "in every current, of it")
        .quantity("frequency", &InjectedPlace::frequency_Hz, "Hz", network::above(0),
                  "at the beginning of the state; nominal, or as at the state's own place, when left out",
                  Need::optional)
        .quantity("frequency_rate", &InjectedPlace::frequency_rate, "Hz/s", any(), "how it moves",
                  Need::optional);
    return made.build();
  }();
  return built;
}

const network::Table& table(const InjectedState*) {
  static const network::Table built =
      TableOf<InjectedState>("state",
                             "phasors that are injected for a while; it takes the fields of quantities too")
          .text("name", &InjectedState::name, "what expectations call it")
          .quantity("lasts", &InjectedState::lasts_s, "s", network::above(0), "how long, at most")
          .choice("until", &InjectedState::until, {"end", "start", "trip", "quiet"},
                  "ends it when an output comes, or when both are gone")
          .text("from", &InjectedState::from,
                "a state before it from whose quantities it moves to its own while it lasts", Need::optional)
          .count("steps", &InjectedState::steps, within(2, 10'000), "in which it does so")
          .build();
  return built;
}

const network::Table& table(const StateExpectation*) {
  static const network::Table built =
      TableOf<StateExpectation>("state expectation", "what the relay shall do in a state")
          .text("state", &StateExpectation::state, "name of the state")
          .text("output", &StateExpectation::output,
                "contact that is watched: \"trip\", \"start\", or another that the relay sends",
                Need::optional)
          .choice("change", &StateExpectation::change, {"rises", "falls"}, "what it does")
          .text("time", &StateExpectation::time,
                "\"from settings\", or a time from the beginning of the state")
          .flag("never", &StateExpectation::never, "it must not do so in this state")
          .texts("tolerance", &StateExpectation::tolerance,
                 "of the time: a share, a time, or both (the greater holds)")
          .build();
  return built;
}

const network::Table& table(const InjectedSequence*) {
  static const network::Table built =
      TableOf<InjectedSequence>("sequence", "states injected one after the other, and what is expected")
          .text("name", &InjectedSequence::name, "what the report calls it")
          .build();
  return built;
}

const network::Table& table(const InjectedValue*) {
  static const network::Table built =
      TableOf<InjectedValue>("value", "one value at which a function is timed")
          .text("function", &InjectedValue::function, "of the settings")
          .text("value", &InjectedValue::value, "of the quantity that tests it: \"840 A\", \"48.6 Hz\"")
          .build();
  return built;
}

std::vector<Flaw> validate(const InjectionPlan& plan, const protection::RelaySettings& settings) {
  std::vector<Flaw> flaws;
  const auto report = [&](std::string place, std::string field, std::string text) {
    flaws.push_back(
        {.file = {}, .place = std::move(place), .field = std::move(field), .text = std::move(text)});
  };
  const auto check_phasor = [&](const std::string& place, const char* name, const std::string& text,
                                const char* unit) {
    try {
      (void)phasor_of(text, unit);
    } catch (const Error& error) {
      report(place, name,
             fmt::format("{}; a phasor is wanted, such as \"2 {} at -30 deg\"", error.what(), unit));
    }
  };
  for (std::size_t s = 0; s < plan.sequences.size(); ++s) {
    const InjectedSequence& sequence = plan.sequences[s];
    const std::string where = fmt::format("sequence {}", s + 1);
    std::vector<std::string> names;
    if (sequence.states.empty()) report(where, "states", "has no states");
    for (const InjectedState& state : sequence.states) {
      if (!state.from.empty() && std::find(names.begin(), names.end(), state.from) == names.end())
        report(where, "from", "no state \"" + state.from + "\" before it" + suggestion(state.from, names));
      names.push_back(state.name);
      std::vector<InjectedPlace> all{state.here};
      all.insert(all.end(), state.others.begin(), state.others.end());
      for (const InjectedPlace& here : all) {
        for (const PhasorField& field : phasor_fields)
          check_phasor(where, field.name, here.*field.text, field.voltage ? "V" : "A");
        check_phasor(where, "impedance", here.impedance, "ohm");
        if (here.loop != "none" && here.impedance.empty())
          report(where, "impedance", "the loop " + here.loop + " needs one");
      }
    }
    for (const StateExpectation& expectation : sequence.expect) {
      if (std::find(names.begin(), names.end(), expectation.state) == names.end())
        report(where, "expect",
               "no state \"" + expectation.state + "\"" + suggestion(expectation.state, names));
      const std::vector<std::string> outputs = protection::outputs_of(settings);
      if (std::find(outputs.begin(), outputs.end(), expectation.output) == outputs.end())
        report(where, "expect",
               "the relay sends no \"" + expectation.output + "\"" + suggestion(expectation.output, outputs));
      try {
        (void)internal::time_tolerance(expectation.tolerance);
      } catch (const Error& error) {
        report(where, "expect", error.what());
      }
      if (expectation.time == "from settings") continue;
      try {
        (void)parse_quantity_as(expectation.time, "s");
      } catch (const Error& error) {
        report(where, "expect", fmt::format("{}; write \"from settings\" or a time", error.what()));
      }
    }
  }
  std::vector<std::string> functions;
  for (const auto& function : settings.functions) functions.push_back(protection::base_of(function).name);
  for (std::size_t k = 0; k < plan.values.size(); ++k) {
    const std::string& name = plan.values[k].function;
    if (std::find(functions.begin(), functions.end(), name) == functions.end())
      report(fmt::format("value {}", k + 1), "function",
             "no function \"" + name + "\" in the settings" + suggestion(name, functions));
  }
  return flaws;
}

Stimulus stimulus_of(const InjectedState& state, const protection::RelaySettings& settings,
                     std::size_t places, double nominal_Hz) {
  const auto or_else = [](double given, double otherwise) {
    return network::is_set(given) ? given : otherwise;
  };
  const double frequency_Hz = or_else(state.here.frequency_Hz, nominal_Hz);
  const double rate = or_else(state.here.frequency_rate, 0);
  Stimulus made;
  made.measured.ends.resize(places);
  for (End& end : made.measured.ends) {
    end.frequency_Hz = frequency_Hz;
    end.frequency_rate = rate;
    end.frequency_valid = true;
  }
  const auto fill_place = [&](const InjectedPlace& here) {
    if (static_cast<std::size_t>(here.place) > places) return;
    End& end = made.measured.ends[static_cast<std::size_t>(here.place - 1)];
    end.frequency_Hz = or_else(here.frequency_Hz, frequency_Hz);
    end.frequency_rate = or_else(here.frequency_rate, rate);
    fill(here, settings, end);
  };
  fill_place(state.here);
  std::for_each(state.others.begin(), state.others.end(), fill_place);
  return made;
}

std::vector<Stimulus> stimuli_of(const InjectedSequence& sequence, const InjectedState& state,
                                 const protection::RelaySettings& settings, std::size_t places,
                                 double nominal_Hz) {
  const Stimulus to = stimulus_of(state, settings, places, nominal_Hz);
  if (state.from.empty()) return {to};
  const auto first = std::find_if(sequence.states.begin(), sequence.states.end(),
                                  [&](const InjectedState& one) { return one.name == state.from; });
  const Stimulus from = stimulus_of(*first, settings, places, nominal_Hz);
  std::vector<Stimulus> all;
  for (int k = 1; k <= state.steps; ++k) {
    const double share = static_cast<double>(k) / state.steps;
    const auto between = [share](auto& now, const auto& before) { now = before + share * (now - before); };
    Stimulus made = to;
    for (std::size_t e = 0; e < places; ++e) {
      End& end = made.measured.ends[e];
      const End& start = from.measured.ends[e];
      for (std::size_t phase = 0; phase < 4; ++phase) {
        between(end.current[phase], start.current[phase]);
        between(end.voltage[phase], start.voltage[phase]);
      }
      for (std::size_t phase = 0; phase < 3; ++phase) {
        between(end.second[phase], start.second[phase]);
        between(end.fifth[phase], start.fifth[phase]);
      }
      between(end.frequency_Hz, start.frequency_Hz);
      protection::Measuring::complete(end, true);
    }
    all.push_back(std::move(made));
  }
  return all;
}

std::vector<ExpectedChange> expected_changes(const InjectedSequence& sequence,
                                             const protection::RelaySettings& settings, std::size_t places,
                                             const std::string& output, double nominal_Hz) {
  protection::Relay relay(settings, 80 * nominal_Hz, nominal_Hz, static_cast<int>(places));
  const std::size_t watched = relay.find_signal(output);
  std::vector<ExpectedChange> changes;
  std::vector<Phasor> memory(places);  // voltages before they fell
  for (const InjectedState& state : sequence.states) {
    std::vector<Stimulus> parts = stimuli_of(sequence, state, settings, places, nominal_Hz);
    for (Stimulus& part : parts) {
      for (std::size_t e = 0; e < places; ++e) {
        End& end = part.measured.ends[e];
        end.v1_memory = changes.empty() ? end.v.positive : memory[e];
        memory[e] = end.v.positive;
      }
    }
    if (changes.empty()) {
      for (double t = 0; t < rest_s; t += 5e-3) relay.decide(parts.front().measured, 5e-3);
    }
    ExpectedChange change{never_s, never_s, {}};
    bool before = relay.signal(watched), started = relay.start(), tripped = relay.trip();
    const double part_s = state.lasts_s / static_cast<double>(parts.size());
    std::size_t part = 0;
    for (double t = 0; t < state.lasts_s;) {
      while (part + 1 < parts.size() && t >= part_s * static_cast<double>(part + 1) - decision_s / 2) ++part;
      protection::Measured& measured = parts[part].measured;
      relay.decide(measured, decision_s);
      for (End& end : measured.ends) end.frequency_Hz += end.frequency_rate * decision_s;
      t += decision_s;
      const bool now = relay.signal(watched);
      if (now && !before && !std::isfinite(change.rises_s)) {
        change.rises_s = output == "trip" ? std::max(0.0, t - relay.tripped_before_s()) : t;
        if (relay.tripped_by()) change.by = protection::base_of(settings.functions[*relay.tripped_by()]).name;
      }
      if (!now && before) change.falls_s = t;
      before = now;
      const bool starts = relay.start() && !started, trips = relay.trip() && !tripped;
      started = relay.start();
      tripped = relay.trip();
      if ((state.until == "start" && starts) || (state.until == "trip" && trips) ||
          (state.until == "quiet" && !started && !tripped))
        break;
    }
    changes.push_back(std::move(change));
  }
  return changes;
}

}  // namespace zavrek::trial
