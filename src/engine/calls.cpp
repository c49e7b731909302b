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

bool is_of(const json& value, const std::string& type) {
  if (type == "string") return value.is_string();
  if (type == "boolean") return value.is_boolean();
  if (type == "integer") return value.is_number_integer();
  if (type == "number") return value.is_number();
  if (type == "texts")
    return value.is_array() &&
           std::all_of(value.begin(), value.end(), [](const json& one) { return one.is_string(); });
  return value.is_number() || value.is_string() || value.is_boolean();  // "value"
}

}  // namespace

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

double quantity_of(const json& fields, const char* name, const char* unit, double otherwise) {
  if (!fields.contains(name)) return otherwise;
  try {
    const json& field = fields[name];
    const double value =
        field.is_number() ? field.get<double>() : parse_quantity_as(field.get<std::string>(), unit);
    if (!std::isfinite(value) || std::abs(value) > 1e15) refuse(400, name, "is out of all bounds");
    return value;
  } catch (const Error& error) {
    refuse(400, name, error.what());
  } catch (const json::exception&) {
    refuse(400, name, fmt::format("a number, or a text with a unit such as \"1 {}\", is wanted", unit));
  }
}

std::vector<std::string> texts_of(const json& fields, const char* name) {
  return fields.value(name, std::vector<std::string>{});
}

const std::vector<Call>& Calls::table() {
  static const std::vector<Call> all = [] {
    std::vector<Call> calls = calls_of_cases();
    for (auto of : {calls_of_run, calls_of_show, calls_of_results}) {
      for (Call& call : of()) calls.push_back(std::move(call));
    }
    calls.push_back(
        {"GET", "/api/v1/openapi.json", "this description", {}, [](House&, const Asked&) -> Reply {
           return json::parse(openapi());
         }});
    calls.push_back(
        {"GET",
         "/api/v1/run/stream",
         "server-sent events ten times a second: status, events, acts, traces, values, work",
         {{"signals", "texts", "whose curves come too: least and greatest per pixel"},
          {"values", "boolean", "mean and rms of all signals over the latest cycle, and all points, too"}}});
    return calls;
  }();
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
    if (at == names.end()) refuse(400, name.substr(0, 100), "no such field" + suggestion(name, names));
    const Call::Field& field = call.fields[static_cast<std::size_t>(at - names.begin())];
    if (!is_of(value, field.type))
      refuse(400, name,
             fmt::format("{} is wanted: {}", field.type == "texts" ? "an array of texts" : "a " + field.type,
                         field.says));
  }
  for (const Call::Field& field : call.fields) {
    if (field.required && !fields.contains(field.name)) refuse(400, field.name, "missing: " + field.says);
  }
}

Reply Calls::answer(House& house, const Call& call, const Asked& asked) { return call.answer(house, asked); }

}  // namespace internal

std::string calls_manual() {
  std::string text;
  for (const internal::Call& call : internal::Calls::table()) {
    text += fmt::format("{:<5}{}\n  {}\n", call.method, call.path, call.says);
    for (const internal::Call::Field& field : call.fields)
      text += fmt::format("    {:<12}{}{}; {}\n", field.name,
                          field.type == "value" ? "number or text" : field.type,
                          field.required ? ", required" : "", field.says);
  }
  return text;
}

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
    const bool in_query = call.method == "GET" || call.takes_bytes;
    for (const internal::Call::Field& field : call.fields) {
      json schema{{"type", field.type}};
      if (field.type == "value")
        schema = {{"oneOf", {{{"type", "number"}}, {{"type", "string"}}, {{"type", "boolean"}}}}};
      if (field.type == "texts") schema = {{"type", "array"}, {"items", {{"type", "string"}}}};
      if (in_query) {
        json parameter{{"name", field.name},
                       {"in", "query"},
                       {"required", field.required},
                       {"description", field.says},
                       {"schema", schema}};
        if (field.type == "texts") parameter.update({{"style", "form"}, {"explode", false}});
        parameters.push_back(std::move(parameter));
      }
      properties[field.name] = schema;
      properties[field.name]["description"] = field.says;
      if (field.required) required.push_back(field.name);
    }
    json one{
        {"summary", call.says},
        {"parameters", parameters},
        {"responses",
         {{"200", {{"description", "as asked"}}}, {"default", {{"description", "error: field, text"}}}}}};
    if (call.takes_bytes) {
      one["requestBody"] = {
          {"content",
           {{"application/octet-stream", {{"schema", {{"type", "string"}, {"format", "binary"}}}}}}}};
    } else if (call.method == "POST") {
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
