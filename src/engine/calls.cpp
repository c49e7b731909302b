#include "engine/calls.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "zavrek/engine.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::engine {
namespace internal {
namespace {

using nlohmann::json;

constexpr int most_pixels = 4000;

[[noreturn]] void refuse(int status, const std::string& field, const std::string& text) {
  throw Refusal{status, field, text};
}

json number_or_null(double value) { return std::isfinite(value) ? json(value) : json(); }

std::vector<std::string> split(const std::string& text, char by) {
  std::vector<std::string> parts(1);
  for (const char c : text) {
    if (c == by)
      parts.emplace_back();
    else
      parts.back() += c;
  }
  return parts;
}

bool is_of(const json& value, const std::string& type) {
  if (type == "string") return value.is_string();
  if (type == "boolean") return value.is_boolean();
  if (type == "integer") return value.is_number_integer();
  if (type == "number") return value.is_number();
  return true;  // "value": a number, or a text with a unit
}

double time_of(const json& fields, const char* name, double otherwise) {
  if (!fields.contains(name)) return otherwise;
  try {
    const double seconds = parse_quantity_as(fields[name].get<std::string>(), "s");
    if (!(seconds >= 0 && seconds <= 1e7)) refuse(400, name, "is no time of 0 to 1e7 s");
    return seconds;
  } catch (const Error& error) {
    refuse(400, name, error.what());
  }
}

}  // namespace

const std::vector<Call>& Calls::table() {
  static const std::vector<Call> all{
      {"GET", "/api/v1/engine", false, "what is loaded, and what runs", {}},
      {"GET", "/api/v1/openapi.json", false, "this description", {}},
      {"GET", "/api/v1/cases/{case}", false, "signals, points, what can be operated and set, trials", {}},
      {"POST",
       "/api/v1/cases/{case}/start",
       true,
       "begins a run of it; another that runs must be stopped first",
       {{"for", "string", "duration such as \"10 s\"; until it is stopped when left out"},
        {"free", "boolean", "as fast as it goes, where nobody lives by the clock"},
        {"place", "string", "\"plant\": all devices in the plant's process"}}},
      {"POST", "/api/v1/run/stop", true, "ends the run; its record and accounts stay", {}},
      {"GET", "/api/v1/run", false, "state, time, timing, accounts", {}},
      {"GET",
       "/api/v1/run/values",
       false,
       "signals and points as they are",
       {{"names", "string", "some of them, with commas between; all when left out"}}},
      {"POST",
       "/api/v1/run/ask",
       true,
       "operates or sets something; answers once the plant has done it or refused",
       {{"what", "string", "\"Q1\", \"fault\", \"bench.remote\", \"load.active\"", true},
        {"value", "value", "1 or 0 for closed or open; a number in its unit, or a text such as \"2 MW\"",
         true}}},
      {"GET",
       "/api/v1/run/events",
       false,
       "what changed",
       {{"from", "integer", "number of the first; `next` of the answer before"}}},
      {"GET",
       "/api/v1/run/traces",
       false,
       "least and greatest of signals for each pixel",
       {{"signals", "string", "names with commas between", true},
        {"seconds", "number", "how much of the latest; 1 when left out"},
        {"pixels", "integer", "how many; 800 when left out"}}},
      {"GET", "/api/v1/run/record", false, "record of the run that has ended, as CSV in a text", {}},
  };
  return all;
}

const Call* Calls::find(const std::string& method, const std::string& path,
                        std::map<std::string, std::string>& parts, bool& other_method) {
  other_method = false;
  const std::vector<std::string> wanted = split(path, '/');
  for (const Call& call : table()) {
    const std::vector<std::string> has = split(call.path, '/');
    std::map<std::string, std::string> found;
    bool same = has.size() == wanted.size();
    for (std::size_t k = 0; same && k < has.size(); ++k) {
      if (has[k].starts_with('{'))
        found[has[k].substr(1, has[k].size() - 2)] = wanted[k];
      else
        same = has[k] == wanted[k];
    }
    if (!same) continue;
    if (call.method != method) {
      other_method = true;
      continue;
    }
    parts = std::move(found);
    return &call;
  }
  return nullptr;
}

void Calls::check(const Call& call, const json& fields) {
  if (!fields.is_object()) refuse(400, "", "a JSON object is wanted");
  std::vector<std::string> names;
  for (const Call::Field& field : call.fields) names.push_back(field.name);
  for (const auto& [name, value] : fields.items()) {
    const auto at = std::find(names.begin(), names.end(), name);
    if (at == names.end()) refuse(400, name, "no such field" + suggestion(name, names));
    const Call::Field& field = call.fields[static_cast<std::size_t>(at - names.begin())];
    if (!is_of(value, field.type))
      refuse(400, name, fmt::format("a {} is wanted: {}", field.type, field.says));
  }
  for (const Call::Field& field : call.fields) {
    if (field.required && !fields.contains(field.name)) refuse(400, field.name, "missing: " + field.says);
  }
}

Session& Calls::session(const std::string& name) const {
  std::vector<std::string> names;
  for (const auto& one : sessions_) {
    if (one->name() == name) return *one;
    names.push_back(one->name());
  }
  refuse(404, "case", fmt::format("no case \"{}\"{}", name.substr(0, 100), suggestion(name, names)));
}

Session& Calls::current() const {
  Session* const current = current_;
  if (!current) refuse(409, "", "nothing runs, and nothing has run; start a case");
  return *current;
}

json Calls::status() const {
  json out{{"state", "stopped"}, {"case", nullptr}};
  const Session* const current = current_;
  if (!current) return out;
  const Status status = current->status();
  out = {{"case", current->name()}, {"state", status.state},     {"time_s", status.time_s},
         {"paced", status.paced},   {"failure", status.failure}, {"duration_s", status.duration_s}};
  if (const auto timing = current->timing()) {
    json causes = json::object();
    for (std::size_t k = 0; k < timing->causes.size(); ++k) {
      if (timing->causes[k] > 0) causes[pace::to_string(static_cast<pace::Cause>(k))] = timing->causes[k];
    }
    out["timing"] = {{"steps", timing->steps},
                     {"overruns", timing->overruns},
                     {"why", causes},
                     {"compute_us",
                      {{"median", 1e-3 * static_cast<double>(timing->compute.quantile_ns(0.5))},
                       {"most", 1e-3 * static_cast<double>(timing->compute.max_ns())}}}};
  }
  out["ports"] = json::array();
  for (const bench::Account& account : current->accounts()) {
    json port{{"port", account.port}, {"carries", account.carries}};
    for (const bench::CountOf& count : bench::counts_of_accounts()) {
      if (account.*count.count != 0) port[count.key] = account.*count.count;
    }
    out["ports"].push_back(std::move(port));
  }
  return out;
}

json Calls::describe(const Session& session) const {
  json signals = json::array(), asks = json::array(), trials = json::array();
  for (std::size_t k = 0; k < session.signals().size(); ++k)
    signals.push_back({{"name", session.signals()[k]}, {"unit", session.units()[k]}});
  for (const Askable& one : session.askables()) {
    json ask{{"name", one.name}, {"operated", one.operated}};
    if (!one.operated) {
      ask["unit"] = one.unit;
      ask["least"] = number_or_null(one.least);
      ask["greatest"] = number_or_null(one.greatest);
    }
    asks.push_back(std::move(ask));
  }
  for (const trial::Trial& trial : session.loaded().trials) trials.push_back(trial.name);
  return {{"name", session.name()},
          {"title", session.loaded().network.title},
          {"frequency_Hz", session.loaded().network.frequency_Hz},
          {"step_s", session.loaded().network.step_s},
          {"signals", signals},
          {"points", session.points()},
          {"asks", asks},
          {"trials", trials}};
}

json Calls::start(Session& wanted, const json& fields) {
  const std::string place = fields.value("place", "");
  if (!place.empty() && place != "plant") refuse(400, "place", "\"plant\" is wanted, or nothing");
  const double duration_s = time_of(fields, "for", 0);
  const std::lock_guard lock(starting_);
  if (const Session* const running = current_; running && running != &wanted) {
    const std::string state = running->status().state;
    if (state == "running" || state == "starting")
      refuse(409, "case", fmt::format("{} runs; stop it first", running->name()));
  }
  try {
    wanted.start(duration_s, fields.value("free", false), place);
  } catch (const Error& error) {
    refuse(409, "case", error.what());
  }
  current_ = &wanted;
  return status();
}

void Calls::stop_all() {
  const std::lock_guard lock(starting_);
  for (const auto& session : sessions_) session->stop();
}

json Calls::ask(const json& fields) {
  Session& session = current();
  const auto& askables = session.askables();
  const std::string what = fields["what"].get<std::string>();
  std::vector<std::string> names;
  for (const Askable& one : askables) names.push_back(one.name);
  const auto at = std::find(names.begin(), names.end(), what);
  if (at == names.end())
    refuse(404, "what",
           fmt::format("nothing named \"{}\" can be operated or set{}", what.substr(0, 100),
                       suggestion(what, names)));
  const auto place = static_cast<std::size_t>(at - names.begin());
  const Askable& askable = askables[place];
  double value = 0;
  if (fields["value"].is_number()) {
    value = fields["value"].get<double>();
  } else if (fields["value"].is_string()) {
    try {
      value = parse_quantity_as(fields["value"].get<std::string>(), askable.unit);
    } catch (const Error& error) {
      refuse(400, "value", error.what());
    }
  } else {
    refuse(400, "value", "a number, or a text with a unit, is wanted");
  }
  if (!std::isfinite(value) || (!askable.operated && (value < askable.least || value > askable.greatest)))
    refuse(400, "value",
           fmt::format("{} is not between {:g} and {:g}", what, askable.least, askable.greatest));
  switch (session.ask(place, value)) {
    case Outcome::done:
      return {{"outcome", "done"}};
    case Outcome::refused:
      return {{"outcome", "refused"}, {"text", "its interlocking does not allow it"}};
    case Outcome::not_running:
      refuse(409, "", "nothing runs; start a case");
    case Outcome::late:
      break;
  }
  refuse(503, "", "the plant has not answered in time");
}

json Calls::traces(const std::string& signals, double from_s, double until_s, int pixels) const {
  Session& session = current();
  const auto traces = session.traces();
  if (!traces) refuse(409, "", "nothing runs, and nothing has run; start a case");
  std::vector<std::size_t> columns;
  const std::vector<std::string> names = split(signals, ',');
  for (const std::string& name : names) {
    const auto at = std::find(traces->signals.begin(), traces->signals.end(), name);
    if (at == traces->signals.end())
      refuse(404, "signals",
             fmt::format("no signal \"{}\"{}", name.substr(0, 100), suggestion(name, traces->signals)));
    columns.push_back(static_cast<std::size_t>(at - traces->signals.begin()));
  }
  const double rate_Hz = traces->rate_Hz;
  std::vector<double> rows;
  const auto wanted = static_cast<std::int64_t>(std::ceil(from_s * rate_Hz));
  const std::int64_t first =
      traces->rows.read(wanted, static_cast<std::int64_t>(std::floor(until_s * rate_Hz)) + 1, columns, rows);
  const Pixels out = pixels_of(rows, columns.size(), first, rate_Hz, static_cast<std::size_t>(pixels));
  json curves = json::array();
  for (std::size_t k = 0; k < names.size(); ++k)
    curves.push_back({{"name", names[k]},
                      {"unit", traces->units[columns[k]]},
                      {"least", out.least[k]},
                      {"greatest", out.greatest[k]}});
  return {{"time_s", out.time_s},
          {"curves", curves},
          {"lost", std::max<std::int64_t>(0, first - std::max<std::int64_t>(0, wanted))}};
}

json Calls::answer(const Call& call, const Asked& asked) {
  const json& fields = asked.fields;
  if (call.path == "/api/v1/engine") {
    json cases = json::array();
    for (const auto& one : sessions_)
      cases.push_back({{"name", one->name()}, {"title", one->loaded().network.title}});
    return {{"engine", "zavrek"}, {"cases", cases}, {"run", status()}};
  }
  if (call.path == "/api/v1/openapi.json") return json::parse(openapi());
  if (call.path == "/api/v1/cases/{case}") return describe(session(asked.parts.at("case")));
  if (call.path == "/api/v1/cases/{case}/start") return start(session(asked.parts.at("case")), fields);
  if (call.path == "/api/v1/run/stop") {
    Session& running = current();
    const std::lock_guard lock(starting_);
    running.stop();
    return status();
  }
  if (call.path == "/api/v1/run") return status();
  if (call.path == "/api/v1/run/ask") return ask(fields);
  if (call.path == "/api/v1/run/events") {
    std::int64_t next = 0;
    json events = json::array();
    for (const Happened& one :
         current().events(std::max<std::int64_t>(0, fields.value("from", std::int64_t{0})), next))
      events.push_back({{"time_s", one.time_s}, {"text", one.text}});
    return {{"events", events}, {"next", next}};
  }
  if (call.path == "/api/v1/run/traces") {
    const double seconds = std::clamp(fields.value("seconds", 1.0), 1e-3, 3600.0);
    const int pixels = std::clamp(fields.value("pixels", 800), 1, most_pixels);
    const double now_s = current().status().time_s;
    return traces(fields["signals"].get<std::string>(), now_s - seconds, now_s, pixels);
  }
  if (call.path == "/api/v1/run/record") {
    const auto record = current().record();
    if (!record) refuse(409, "", "the run has not ended; stop it first");
    return {{"csv", record::to_csv(*record)}};
  }
  // "/api/v1/run/values"
  Session& shown = current();
  const auto view = shown.values();
  if (!view) refuse(409, "", "nothing runs; start a case");
  const std::vector<std::string> names =
      fields.contains("names") ? split(fields["names"].get<std::string>(), ',') : std::vector<std::string>{};
  json values = json::object();
  const auto add = [&](const std::string& name, const json& value) {
    if (names.empty() || std::find(names.begin(), names.end(), name) != names.end()) values[name] = value;
  };
  for (std::size_t k = 0; k < shown.signals().size(); ++k)
    add(shown.signals()[k], number_or_null(view->values[k]));
  for (std::size_t k = 0; k < shown.points().size(); ++k)
    add(shown.points()[k], view->values[shown.signals().size() + k] != 0);
  for (const std::string& name : names) {
    if (!values.contains(name))
      refuse(
          404, "names",
          fmt::format("no signal or point \"{}\"{}", name.substr(0, 100), suggestion(name, shown.signals())));
  }
  return {{"time_s", view->time_s}, {"age_s", view->age_s}, {"values", values}};
}

}  // namespace internal

std::string openapi() {
  using nlohmann::json;
  json paths = json::object();
  for (const internal::Call& call : internal::Calls::table()) {
    json parameters = json::array(), properties = json::object(), required = json::array();
    for (std::size_t at = call.path.find('{'); at != std::string::npos; at = call.path.find('{', at + 1))
      parameters.push_back({{"name", call.path.substr(at + 1, call.path.find('}', at) - at - 1)},
                            {"in", "path"},
                            {"required", true},
                            {"schema", {{"type", "string"}}}});
    for (const internal::Call::Field& field : call.fields) {
      const json schema = field.type == "value"
                              ? json{{"oneOf", {{{"type", "number"}}, {{"type", "string"}}}}}
                              : json{{"type", field.type}};
      if (call.method == "GET")
        parameters.push_back({{"name", field.name},
                              {"in", "query"},
                              {"required", field.required},
                              {"description", field.says},
                              {"schema", schema}});
      properties[field.name] = schema;
      properties[field.name]["description"] = field.says;
      if (field.required) required.push_back(field.name);
    }
    json one{
        {"summary", call.says},
        {"parameters", parameters},
        {"responses",
         {{"200", {{"description", "as asked"}}}, {"default", {{"description", "error: field, text"}}}}}};
    if (call.method == "POST") {
      json schema{{"type", "object"}, {"properties", properties}, {"additionalProperties", false}};
      if (!required.empty()) schema["required"] = required;
      one["requestBody"] = {{"content", {{"application/json", {{"schema", schema}}}}}};
    }
    paths[call.path][call.method == "GET" ? "get" : "post"] = std::move(one);
  }
  return json{
      {"openapi", "3.0.3"}, {"info", {{"title", "Zavrek engine"}, {"version", "1"}}}, {"paths", paths}}
      .dump(1);
}

}  // namespace zavrek::engine
