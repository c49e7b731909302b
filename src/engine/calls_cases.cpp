// Cases: what is loaded, what each has, what is sent and removed, and what begins with one.
#include <algorithm>

#include <fmt/format.h>

#include "engine/bundle.hpp"
#include "engine/calls.hpp"
#include "engine/views.hpp"
#include "report/json.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;
using report::number_or_null;

json asks_of_case(const Session::Known& known) {
  json asks = json::array();
  for (const Askable& one : known.askables) {
    json ask{{"name", one.name}, {"operated", one.operated}, {"initial", number_or_null(one.initial)}};
    if (!one.operated) {
      ask["unit"] = one.unit;
      ask["least"] = number_or_null(one.least);
      ask["greatest"] = number_or_null(one.greatest);
    }
    asks.push_back(std::move(ask));
  }
  return asks;
}

Reply engine(House& house, const Asked&) {
  json cases = json::array();
  for (const auto& one : house.sessions())
    cases.push_back(
        {{"name", one->name()}, {"title", one->loaded().network.title}, {"sent", house.sum_of(one->name())}});
  return json{
      {"engine", "zavrek"}, {"cases", cases}, {"run", status_of(house)}, {"work", house.work().status()}};
}

Reply describe(House& house, const Asked& asked) {
  const auto session = house.session(asked.parts.at("case"));
  const auto known = session->known();
  json signals = json::array(), trials = json::array(), sweeps = json::array(), places = json::array();
  for (std::size_t k = 0; k < known->signals.size(); ++k)
    signals.push_back({{"name", known->signals[k]}, {"unit", known->units[k]}});
  for (const trial::Trial& trial : session->loaded().trials) {
    json one{{"name", trial.name}, {"fault", nullptr}};
    if (trial.fault)
      one["fault"] = {{"on", trial.fault->fault.on},
                      {"at", number_or_null(trial.fault->fault.at)},
                      {"phases", trial.fault->fault.phases},
                      {"resistance_ohm", trial.fault->fault.resistance_ohm},
                      {"lasts_s", trial.fault->lasts_s}};
    trials.push_back(std::move(one));
  }
  for (const trial::Sweep& sweep : session->loaded().sweeps) sweeps.push_back(sweep.name);
  for (const network::FaultPlace& place : known->places)
    places.push_back({{"name", place.name}, {"on", place.on}, {"at", number_or_null(place.at)}});
  return json{{"name", session->name()},
              {"title", session->loaded().network.title},
              {"sha256", house.sum_of(session->name())},
              {"frequency_Hz", session->loaded().network.frequency_Hz},
              {"step_s", session->loaded().network.step_s},
              {"compiled_s", known->compiled_s},
              {"signals", signals},
              {"points", known->points},
              {"asks", asks_of_case(*known)},
              {"places", places},
              {"trials", trials},
              {"sweeps", sweeps}};
}

Reply diagram(House& house, const Asked& asked) {
  const auto session = house.session(asked.parts.at("case"));
  json out = diagram_of(session->loaded(), *session->known());
  out["at"] = house.page_of(session->name()).value("at", json::object());
  return out;
}

Reply planes(House& house, const Asked& asked) {
  return planes_of(house.session(asked.parts.at("case"))->loaded());
}

Reply page(House& house, const Asked& asked) {
  return house.page_of(house.session(asked.parts.at("case"))->name());
}

Reply send(House& house, const Asked& asked) {
  if (asked.body.empty())
    refuse(400, "bundle", "the body holds it; \"zavrek target send CASE\" makes and sends one");
  const auto session = house.take_bundle(asked.body, asked.fields.value("name", ""));
  return json{{"name", session->name()}, {"sha256", house.sum_of(session->name())}};
}

Reply give(House& house, const Asked& asked) {
  const auto session = house.session(asked.parts.at("case"));
  try {
    return {pack(session->loaded().folder), "application/gzip", session->name() + ".zavrek"};
  } catch (const Error& error) {
    refuse(409, "case", error.what());
  }
}

Reply remove(House& house, const Asked& asked) {
  house.remove(asked.parts.at("case"));
  return json{{"removed", asked.parts.at("case")}};
}

/// "berth1", "infeed:30%"
network::FaultPlace place_of_text(const trial::Case& all, const std::string& text) {
  const std::size_t colon = text.find(':');
  const std::string on = text.substr(0, colon);
  double at = network::unset;
  if (!all.network.find_bus(on) && !all.network.find_element(on))
    refuse(400, "faults", fmt::format("\"{}\" is no bus, line or cable", on.substr(0, 100)));
  if (colon != std::string::npos) {
    try {
      at = parse_quantity_as(text.substr(colon + 1), "%");
    } catch (const Error& error) {
      refuse(400, "faults", error.what());
    }
  }
  return place_named(on, at);
}

Reply start(House& house, const Asked& asked) {
  const auto session = house.session(asked.parts.at("case"));
  const json& fields = asked.fields;
  Start how;
  how.place = fields.value("place", "");
  if (!how.place.empty() && how.place != "plant") refuse(400, "place", "\"plant\" is wanted, or nothing");
  how.duration_s = quantity_of(fields, "for", "s", 0);
  if (!(how.duration_s >= 0 && how.duration_s <= 1e7)) refuse(400, "for", "0 to 1e7 s");
  how.free = fields.value("free", false);
  for (const std::string& text : texts_of(fields, "set")) {
    // Set ahead of the first step.
    const std::size_t equals = text.find('=');
    if (equals == std::string::npos)
      refuse(400, "set", "\"WHAT = VALUE\" is wanted, such as \"load.active = 2 MW\"");
    std::string what = text.substr(0, equals), value = text.substr(equals + 1);
    while (!what.empty() && what.back() == ' ') what.pop_back();
    const auto known = session->known();
    const auto at = std::find_if(known->askables.begin(), known->askables.end(),
                                 [&](const Askable& one) { return one.name == what; });
    std::vector<std::string> names;
    for (const Askable& one : known->askables) names.push_back(one.name);
    if (at == known->askables.end())
      refuse(400, "set",
             fmt::format("nothing named \"{}\" can be operated or set{}", what.substr(0, 100),
                         suggestion(what, names)));
    how.past.push_back(
        {0, what,
         quantity_of(json{{"set", value.substr(value.find_first_not_of(' '))}}, "set", at->unit.c_str(), 0)});
  }
  if (fields.contains("faults")) {
    std::vector<network::FaultPlace> places;
    for (const std::string& text : texts_of(fields, "faults"))
      places.push_back(place_of_text(session->loaded(), text));
    const std::string state = session->status().state;
    if (state == "running" || state == "starting")
      refuse(409, "case", session->name() + " runs already; stop it first");
    try {
      session->make_ready(std::move(places));
    } catch (const Error& error) {
      refuse(400, "faults", error.what());
    }
  }
  house.start(session, how);
  house.note(asked.who, fmt::format("started {}", session->name()));
  return status_of(house);
}

Reply work(House& house, const Asked& asked, const char* kind) {
  const auto session = house.session(asked.parts.at("case"));
  WorkAsked work{kind, texts_of(asked.fields, "trials"), asked.fields.value("place", ""),
                 asked.fields.value("free", false)};
  if (!work.place.empty() && work.place != "plant") refuse(400, "place", "\"plant\" is wanted, or nothing");
  house.begin_work(session, work);
  house.note(asked.who, fmt::format("began {} of {}", kind, session->name()));
  return house.work().status();
}

}  // namespace

std::vector<Call> calls_of_cases() {
  const std::vector<Call::Field> how{
      {"place", "string", "\"plant\": all devices in the plant's process"},
      {"free", "boolean", "as fast as it goes, where nobody lives by the clock"}};
  std::vector<Call::Field> of_start{
      {"for", "value", "duration such as \"10 s\"; until it is stopped when left out"}};
  of_start.insert(of_start.end(), how.begin(), how.end());
  of_start.push_back(
      {"faults", "texts",
       "where faults can be struck: [\"berth1\", \"infeed:30%\"]; the places of its trials when left out"});
  of_start.push_back({"set", "texts", "ahead of the first step: [\"load.active = 2 MW\"]"});
  std::vector<Call::Field> of_trials{{"trials", "texts", "their names; all when left out"}};
  of_trials.insert(of_trials.end(), how.begin(), how.end());
  return {
      {"GET", "/api/v1/engine", "what is loaded, and what runs", {}, engine},
      {"GET",
       "/api/v1/cases/{case}",
       "signals, points, what can be operated and set, places of faults, trials",
       {},
       describe},
      {"GET",
       "/api/v1/cases/{case}/diagram",
       "buses and what lies between them, for a one-line diagram",
       {},
       diagram},
      {"GET",
       "/api/v1/cases/{case}/planes",
       "zones and differentials of its relays, in primary values",
       {},
       planes},
      {"GET", "/api/v1/cases/{case}/page", "panels, as its page.toml has them", {}, page},
      {"GET", "/api/v1/cases/{case}/bundle", "the case in one file", {}, give},
      {"POST",
       "/api/v1/cases",
       "takes a bundle: a case in one file",
       {{"name", "string", "under which it is loaded; its own when left out"}},
       send,
       true},
      {"POST", "/api/v1/cases/{case}/remove", "forgets a case that was sent", {}, remove},
      {"POST", "/api/v1/cases/{case}/start", "begins a run of it; another that runs must be stopped first",
       of_start, start},
      {"POST", "/api/v1/cases/{case}/test", "carries out trials, one after the other", of_trials,
       [](House& house, const Asked& asked) { return work(house, asked, "trials"); }},
      {"POST", "/api/v1/cases/{case}/programme", "carries out its sweeps", how,
       [](House& house, const Asked& asked) { return work(house, asked, "programme"); }},
  };
}

}  // namespace zavrek::engine::internal
