// The run: its state, what is asked of it, faults, going back, what becomes of it.
#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "engine/calls.hpp"
#include "engine/trials_of_run.hpp"
#include "report/json.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::engine::internal {

using nlohmann::json;
using report::number_or_null;

json status_of(const House& house) {
  json out{{"state", "stopped"}, {"case", nullptr}};
  const auto current = house.current_or_null();
  if (!current) return out;
  const Status status = current->status();
  out = {
      {"case", current->name()}, {"state", status.state},           {"time_s", status.time_s},
      {"paced", status.paced},   {"bound", status.bound},           {"failure", status.failure},
      {"number", status.number}, {"duration_s", status.duration_s}, {"again_until_s", status.again_until_s}};
  if (const auto timing = current->live_timing()) out["late_steps"] = timing->overruns;
  const auto ended = current->ended();
  if (!ended) return out;
  json causes = json::object();
  for (std::size_t k = 0; k < ended->timing.causes.size(); ++k) {
    if (ended->timing.causes[k] > 0)
      causes[pace::to_string(static_cast<pace::Cause>(k))] = ended->timing.causes[k];
  }
  out["timing"] = {{"steps", ended->timing.steps},
                   {"overruns", ended->timing.overruns},
                   {"why", causes},
                   {"compute_us",
                    {{"median", 1e-3 * static_cast<double>(ended->timing.compute.quantile_ns(0.5))},
                     {"most", 1e-3 * static_cast<double>(ended->timing.compute.max_ns())}}}};
  return out;
}

namespace {

Reply state(House& house, const Asked&) {
  json out = status_of(house);
  const auto current = house.current_or_null();
  if (current) out["ports"] = report::ports_json(current->accounts());
  return out;
}

Reply stop(House& house, const Asked& asked) {
  house.stop();
  house.note(asked.who, "stopped the run");
  return state(house, asked);
}

Reply restart(House& house, const Asked& asked) {
  const auto session = house.current();
  Start how = session->started();
  std::erase_if(how.past, [](const Act& act) { return act.time_s > 0; });
  how.again_until_s = 0;
  if (asked.fields.contains("for")) how.duration_s = quantity_of(asked.fields, "for", "s", 0);
  if (!(how.duration_s >= 0 && how.duration_s <= 1e7)) refuse(400, "for", "0 to 1e7 s");
  house.stop();
  house.start(session, how);
  house.note(asked.who, fmt::format("started {} anew", session->name()));
  return status_of(house);
}

/// Present value of something that can be set, as far as it is known: what it was asked to be, or was at
/// first.
double present_of(const Session& session, const Askable& askable) {
  std::vector<Act> acts;
  double value = askable.initial;
  const double now_s = session.status().time_s;
  if (!session.diary(acts)) return value;
  for (const Act& act : acts) {
    if (act.what != askable.name) continue;
    const double share = act.over_s > 0 ? std::clamp((now_s - act.time_s) / act.over_s, 0.0, 1.0) : 1;
    value = share < 1 ? act.from + share * (act.value - act.from) : act.value;
  }
  return value;
}

std::size_t number_of(const Session::Known& known, const std::string& what) {
  std::vector<std::string> names;
  for (const Askable& one : known.askables) names.push_back(one.name);
  const auto at = std::find(names.begin(), names.end(), what);
  if (at == names.end())
    refuse(404, "what",
           fmt::format("nothing named \"{}\" can be operated or set{}", what.substr(0, 100),
                       suggestion(what, names)));
  return static_cast<std::size_t>(at - names.begin());
}

double value_of(const json& field, const Askable& askable) {
  double value = 0;
  if (field.is_boolean()) {
    value = field.get<bool>() ? 1 : 0;
  } else if (field.is_number()) {
    value = field.get<double>();
  } else {
    try {
      value = parse_quantity_as(field.get<std::string>(), askable.unit);
    } catch (const Error& error) {
      refuse(400, "value", error.what());
    }
  }
  if (!std::isfinite(value) || (!askable.operated && (value < askable.least || value > askable.greatest)))
    refuse(400, "value",
           fmt::format("{} is not between {:g} and {:g}", askable.name, askable.least, askable.greatest));
  return value;
}

Reply ask(House& house, const Asked& asked) {
  const auto session = house.current();
  const auto known = session->known();
  const std::string what = asked.fields["what"].get<std::string>();
  const std::size_t number = number_of(*known, what);
  const Askable& askable = known->askables[number];
  bench::Beside::Wish wish{number, value_of(asked.fields["value"], askable), 0, 0, 0};
  wish.over_s = quantity_of(asked.fields, "over", "s", 0);
  if (wish.over_s != 0 && (askable.operated || !(wish.over_s > 0 && wish.over_s <= 3600)))
    refuse(400, "over", "0 to 3600 s, for what is set");
  wish.at_s = quantity_of(asked.fields, "at", "s", 0);
  if (wish.over_s > 0) {
    wish.from = present_of(*session, askable);
    if (!std::isfinite(wish.from)) refuse(409, "over", "nobody knows where it stands; set it once first");
  }
  switch (session->ask(wish)) {
    case Outcome::done:
      house.note(asked.who, fmt::format("{} = {}{}", what,
                                        askable.operated ? (wish.value > 0.5 ? "closed" : "open")
                                                         : print_rounded(wish.value, askable.unit, 6),
                                        wish.over_s > 0 ? fmt::format(" in {:g} s", wish.over_s) : ""));
      return json{{"outcome", "done"}};
    case Outcome::refused:
      house.note(asked.who, what + " was refused");
      return json{{"outcome", "refused"}, {"text", "its interlocking does not allow it"}};
    case Outcome::not_running:
      refuse(409, "", "nothing runs; start a case");
    case Outcome::late:
      break;
  }
  refuse(503, "", "the plant has not answered in time");
}

Strike strike_of(const Session& session, const json& fields) {
  Strike strike;
  const auto& trials = session.loaded().trials;
  const auto first = std::find_if(trials.begin(), trials.end(),
                                  [](const trial::Trial& one) { return one.fault.has_value(); });
  if (first != trials.end()) {
    strike.on = first->fault->fault.on;
    strike.at = first->fault->fault.at;
    strike.phases = first->fault->fault.phases;
    strike.resistance_ohm = first->fault->fault.resistance_ohm;
    strike.lasts_s = first->fault->lasts_s;
  }
  if (fields.contains("on")) {
    strike.on = fields["on"].get<std::string>();
    strike.at = network::unset;
  }
  if (strike.on.empty()) refuse(400, "on", "missing: a bus, a line or a cable");
  const network::Network& network = session.loaded().network;
  std::vector<std::string> names;
  for (const network::Bus& bus : network.buses) names.push_back(bus.name);
  for (const network::Element& element : network.elements) names.push_back(network::name_of(element));
  if (std::find(names.begin(), names.end(), strike.on) == names.end())
    refuse(404, "on",
           fmt::format("no bus, line or cable \"{}\"{}", strike.on.substr(0, 100),
                       suggestion(strike.on, names)));
  if (fields.contains("at") && !fields["at"].is_null()) strike.at = quantity_of(fields, "at", "%", 0);
  if (network::is_set(strike.at) && !(strike.at >= 0 && strike.at <= 1)) refuse(400, "at", "0 to 100 %");
  strike.phases = fields.value("phases", strike.phases);
  strike.resistance_ohm = quantity_of(fields, "resistance", "ohm", strike.resistance_ohm);
  if (strike.resistance_ohm < 0) refuse(400, "resistance", "0 ohm and more");
  if (fields.contains("angle")) strike.angle_rad = quantity_of(fields, "angle", "deg", 0);
  strike.lasts_s = quantity_of(fields, "lasts", "s", strike.lasts_s);
  if (!(strike.lasts_s >= 0 && strike.lasts_s <= 3600))
    refuse(400, "lasts", "0 (until it is cleared) to 3600 s");
  strike.then_phases = fields.value("then", "");
  strike.then_after_s = quantity_of(fields, "after", "s", 0.05);
  if (!strike.then_phases.empty() &&
      !(strike.then_after_s > 0 && strike.then_after_s < (strike.lasts_s > 0 ? strike.lasts_s : 3600)))
    refuse(400, "after", "more than 0, and less than it lasts");
  return strike;
}

json struck_json(const Struck& one) {
  return {{"on", one.strike.on},
          {"at", number_or_null(one.strike.at)},
          {"phases", one.strike.phases},
          {"resistance_ohm", one.strike.resistance_ohm},
          {"lasts_s", one.strike.lasts_s},
          {"then", one.strike.then_phases},
          {"after_s", one.strike.then_after_s},
          {"inception_s", one.at_s},
          {"angle_deg", one.angle_rad * 180 / std::numbers::pi}};
}

Reply strike(House& house, const Asked& asked) {
  const Struck struck = house.strike(strike_of(*house.current(), asked.fields));
  house.note(asked.who, fmt::format("fault {} on {} at {:.4f} s", struck.strike.phases,
                                    struck.place.substr(6), struck.at_s));
  return struck_json(struck);
}

Reply clear(House& house, const Asked& asked) {
  house.clear();
  house.note(asked.who, "cleared all faults");
  return json{{"outcome", "done"}};
}

Reply faults(House& house, const Asked&) {
  json list = json::array();
  const auto session = house.current();
  std::vector<Struck> struck = house.struck();
  const std::size_t judged = 8;  // the latest
  for (std::size_t k = struck.size(); k-- > 0;) {
    json one = struck_json(struck[k]);
    one["verdicts"] =
        struck.size() - k <= judged ? report::verdicts_json(verdicts_of(*session, struck[k])) : json::array();
    list.push_back(std::move(one));
  }
  return json{{"faults", list}};
}

Reply back(House& house, const Asked& asked) {
  const double to_s = quantity_of(asked.fields, "to", "s", 0);
  house.go_back(to_s, nullptr);
  house.note(asked.who, fmt::format("went back to {:.4f} s", to_s));
  return status_of(house);
}

Reply kept(House& house, const Asked&) {
  const auto session = house.current();
  const auto states = session->states();
  return json{{"instants_s", states ? states->instants_s() : std::vector<double>()},
              {"every_s", states ? states->every_s() : 0},
              {"most_bytes", states ? states->most_bytes() : 0}};
}

Reply knobs(House& house, const Asked&) {
  const auto session = house.current();
  json list = json::array();
  std::vector<Act> acts;
  const bool whole = session->diary(acts);
  for (const Askable& one : session->known()->askables) {
    if (one.operated) continue;
    const bool touched =
        !whole || std::any_of(acts.begin(), acts.end(), [&](const Act& act) { return act.what == one.name; });
    const double present = touched ? present_of(*session, one) : one.initial;
    list.push_back({{"name", one.name},
                    {"unit", one.unit},
                    {"least", number_or_null(one.least)},
                    {"greatest", number_or_null(one.greatest)},
                    {"initial", number_or_null(one.initial)},
                    {"present", number_or_null(present)}});
  }
  return json{{"knobs", list}};
}

/// What is other than the files have it, as `set` of a start takes it.
Reply patch(House& house, const Asked&) {
  const auto session = house.current();
  json list = json::array();
  std::vector<Act> acts;
  (void)session->diary(acts);
  for (const Askable& one : session->known()->askables) {
    if (one.operated || one.name.starts_with("fault@") ||
        std::none_of(acts.begin(), acts.end(), [&](const Act& act) { return act.what == one.name; }))
      continue;
    const double present = present_of(*session, one);
    if (present == one.initial) continue;
    list.push_back(one.unit.empty() ? fmt::format("{} = {:.9g}", one.name, present)
                                    : fmt::format("{} = {:.9g} {}", one.name, present, one.unit));
  }
  return json{{"case", session->name()}, {"set", list}};
}

Reply as_trial(House& house, const Asked& asked) {
  const auto session = house.current();
  const trial::Trial trial =
      trial_of(*session, house.struck(), asked.fields.value("name", "as it was worked"));
  return {casefile::trials_text({trial}, {}), "application/toml", "trial.toml"};
}

Reply events(House& house, const Asked& asked) {
  std::int64_t next = 0;
  json list = json::array();
  for (const Happened& one :
       house.current()->events(std::max<std::int64_t>(0, asked.fields.value("from", std::int64_t{0})), next))
    list.push_back({{"time_s", one.time_s}, {"text", one.text}, {"point", one.point}, {"on", one.on}});
  return json{{"events", list}, {"next", next}};
}

Reply acts(House& house, const Asked& asked) {
  json list = json::array();
  for (const Deeded& one : house.deeds(asked.fields.value("from", std::int64_t{0})))
    list.push_back({{"number", one.number},
                    {"at_utc_ns", one.at_utc_ns},
                    {"time_s", one.time_s},
                    {"who", one.who},
                    {"text", one.text}});
  return json{{"acts", list}};
}

}  // namespace

std::vector<Call> calls_of_run() {
  return {
      {"GET", "/api/v1/run", "state, time, timing, accounts of its ports", {}, state},
      {"POST", "/api/v1/run/stop", "ends the run; its record and accounts stay", {}, stop},
      {"POST",
       "/api/v1/run/restart",
       "begins the same again, without building or sending anything",
       {{"for", "value", "another duration; as before when left out"}},
       restart},
      {"POST",
       "/api/v1/run/ask",
       "operates or sets something; answers once the plant has done it or refused",
       {{"what", "string", "\"Q1\", \"bench.remote\", \"load.active\"", true},
        {"value", "value", "1 or 0 for closed or open; a number in its unit, or a text such as \"2 MW\"",
         true},
        {"over", "value", "little by little within this time, such as \"2 s\""},
        {"at", "value", "instant of the plant, \"12.5 s\"; at once when left out"}},
       ask},
      {"POST",
       "/api/v1/run/strike",
       "strikes a fault; all that is left out is as in the first trial. Where the place was not made ready, "
       "a run "
       "that nobody outside lives by is gone through again up to now with it",
       {{"on", "string", "bus, line or cable"},
        {"at", "value", "along it, such as \"30 %\""},
        {"phases", "string", "\"AG\", \"BC\", \"ABC\" ..."},
        {"resistance", "value", "such as \"5 ohm\""},
        {"angle", "value", "of the faulted voltage at inception, such as \"90 deg\"; at once when left out"},
        {"lasts", "value", "such as \"200 ms\"; 0: until it is cleared"},
        {"then", "string", "phases of what it becomes"},
        {"after", "value", "time until then"}},
       strike},
      {"POST", "/api/v1/run/clear", "ends all faults", {}, clear},
      {"GET",
       "/api/v1/run/faults",
       "faults struck in this run, the latest first, and what devices did against their settings",
       {},
       faults},
      {"GET",
       "/api/v1/run/back",
       "instants whose states are kept, denser near the present, and the memory that they may take; none "
       "where "
       "a part of the run is elsewhere, or code of its own",
       {},
       kept},
      {"POST",
       "/api/v1/run/back",
       "takes up the latest state kept before an instant, goes through the same again from there, and on "
       "behind it; without a state, from the start. The way left stays to be compared",
       {{"to", "value", "instant of the plant, such as \"3.2 s\"", true}},
       back},
      {"GET",
       "/api/v1/run/knobs",
       "all that can be set: bounds, value by the files, present value",
       {},
       knobs},
      {"GET",
       "/api/v1/run/patch",
       "what is set otherwise than by the files, as `set` of a start takes it",
       {},
       patch},
      {"GET",
       "/api/v1/run/trial",
       "what was done in this run as a trial, a text for trials.toml",
       {{"name", "string", "of the trial"}},
       as_trial},
      {"GET",
       "/api/v1/run/events",
       "what changed",
       {{"from", "integer", "number of the first; `next` of the answer before"}},
       events},
      {"GET",
       "/api/v1/run/acts",
       "who did what, and when",
       {{"from", "integer", "number of the first"}},
       acts},
  };
}

}  // namespace zavrek::engine::internal
