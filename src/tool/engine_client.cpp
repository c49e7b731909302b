#include "tool/engine_client.hpp"

#include <algorithm>
#include <cstdlib>

#include <fmt/format.h>
#include <httplib.h>
#define TOML_HEADER_ONLY 0
#include <toml++/toml.h>

#include "tool/stop.hpp"
#include "zavrek/engine.hpp"
#include "zavrek/error.hpp"
#include "zavrek/quantity.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {

using nlohmann::json;

namespace {

std::filesystem::path targets_file() {
  const char* config = std::getenv("XDG_CONFIG_HOME");
  const char* home = std::getenv("HOME");
  if (config && *config) return std::filesystem::path(config) / "zavrek" / "targets.toml";
  return std::filesystem::path(home && *home ? home : "/") / ".config" / "zavrek" / "targets.toml";
}

bool is_address(const std::string& text) { return text.find("://") != std::string::npos; }

}  // namespace

std::vector<KnownTarget> known_targets() {
  std::vector<KnownTarget> all;
  const std::filesystem::path file = targets_file();
  if (!std::filesystem::exists(file)) return all;
  try {
    const toml::table root = toml::parse(record::read_file(file));
    for (const auto& [key, value] : root) {
      const toml::table* one = value.as_table();
      if (!one) continue;
      const auto text = [&](const char* field) {
        return one->get(field) ? one->get(field)->value_or(std::string()) : std::string();
      };
      all.push_back({std::string(key.str()), text("address"), text("token"), text("authority")});
    }
  } catch (const toml::parse_error& error) {
    throw Error(Flaw{.file = file.string(),
                     .line = static_cast<int>(error.source().begin.line),
                     .place = {},
                     .field = {},
                     .text = std::string(error.description())});
  }
  return all;
}

void remember(const KnownTarget& target) {
  if (!is_address(target.address))
    throw Error(fmt::format("\"{}\" is no address such as https://bench3:41200", target.address));
  std::vector<KnownTarget> all = known_targets();
  std::erase_if(all, [&](const KnownTarget& one) { return one.name == target.name; });
  all.push_back(target);
  toml::table root;
  for (const KnownTarget& one : all) {
    toml::table body;
    body.insert("address", one.address);
    if (!one.token.empty()) body.insert("token", std::filesystem::absolute(one.token).string());
    if (!one.authority.empty()) body.insert("authority", std::filesystem::absolute(one.authority).string());
    root.insert(one.name, std::move(body));
  }
  std::ostringstream text;
  text << root << "\n";
  std::filesystem::create_directories(targets_file().parent_path());
  record::write_file(targets_file(), text.str());
}

KnownTarget target_called(const std::string& name) {
  if (is_address(name)) return {name, name, "", ""};
  std::vector<std::string> names;
  for (const KnownTarget& one : known_targets()) {
    if (one.name == name) return one;
    names.push_back(one.name);
  }
  throw Error(fmt::format("no target \"{}\"{}; \"zavrek target name {} ADDRESS\" makes it known", name,
                          suggestion(name, names), name));
}

struct EngineClient::Http {
  explicit Http(const std::string& address) : client(address) {}
  httplib::Client client;
};

EngineClient::EngineClient(const KnownTarget& target) : address_(target.address) {
  http_ = std::make_unique<Http>(target.address);
  httplib::Client& client = http_->client;
  if (!client.is_valid())
    throw Error(fmt::format("\"{}\" is no address such as http://127.0.0.1:41234", target.address));
  client.set_connection_timeout(2);
  client.set_read_timeout(60);
  if (!target.authority.empty()) client.set_ca_cert_path(target.authority);
  if (target.token.empty()) return;
  std::string token = record::read_file(target.token);
  token.erase(std::min(token.find_first_of("\r\n"), token.size()));
  client.set_bearer_token_auth(token);
}
EngineClient::~EngineClient() = default;

namespace {

json answer_of(const httplib::Result& result, const std::string& address) {
  if (!result)
    throw Error(fmt::format("no engine answers at {} ({}); \"zavrek serve CASE\" starts one", address,
                            httplib::to_string(result.error())));
  json answer = json::parse(result->body, nullptr, false);
  if (result->status == 200) return answer;
  if (answer.is_discarded() || !answer.contains("error"))
    throw Error(fmt::format("{} is no engine", address));
  const json& error = answer["error"];
  const std::string field = error.value("field", "");
  throw Error(fmt::format("{}{}", field.empty() ? "" : field + ": ", error.value("text", "")));
}

}  // namespace

json EngineClient::call(const std::string& path, const json* body) {
  const auto result =
      body ? http_->client.Post(path, body->dump(), "application/json") : http_->client.Get(path);
  json answer = answer_of(result, address_);
  if (answer.is_discarded()) throw Error(fmt::format("{} is no engine", address_));
  return answer;
}

std::string EngineClient::fetch(const std::string& path) {
  const auto result = http_->client.Get(path);
  (void)answer_of(result, address_);
  return result->body;
}

json EngineClient::send(const std::string& path, const std::string& bytes) {
  return answer_of(http_->client.Post(path, bytes, "application/octet-stream"), address_);
}

void EngineClient::watch(const std::string& signals,
                         const std::function<bool(const std::string& kind, const json& data)>& take) {
  std::string text;
  (void)http_->client.Get(
      httplib::append_query_params("/api/v1/run/stream", {{"signals", signals}}),
      [&](const char* data, std::size_t size) {
        text.append(data, size);
        for (std::size_t end; (end = text.find("\n\n")) != std::string::npos; text.erase(0, end + 2)) {
          const std::size_t line = text.find('\n');
          if (line > end || line < 7 || line + 7 > end) continue;
          const json content = json::parse(text.substr(line + 7, end - line - 7), nullptr, false);
          if (!content.is_discarded() && !take(text.substr(7, line - 7), content)) return false;
        }
        return !stop_on_signal().load();
      });
}

std::string in_a_path(const std::string& text) {
  std::string out;
  for (const char c : text) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       c == '-' || c == '_' || c == '.';
    out += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

std::string send_case(EngineClient& client, const std::filesystem::path& folder, const std::string& name) {
  const engine::Bundle bundle = engine::bundle_of(folder);
  std::string wanted = name.empty() ? bundle.name : name;
  for (const json& one : client.call("/api/v1/engine")["cases"]) {
    if (one["name"] == wanted && one["sent"] == bundle.sha256) return wanted;
  }
  return client.send("/api/v1/cases?name=" + in_a_path(wanted), bundle.bytes)["name"];
}

void print_run_state(const json& run) {
  if (run["case"].is_null()) {
    fmt::print("nothing runs\n");
    return;
  }
  fmt::print("{}: {}, {:.3f} s{}\n", run["case"].get<std::string>(), run["state"].get<std::string>(),
             run["time_s"].get<double>(), run["paced"].get<bool>() ? ", by the clock" : "");
  if (!run["failure"].get<std::string>().empty()) fmt::print("  {}\n", run["failure"].get<std::string>());
  if (!run.contains("timing")) return;
  const json& timing = run["timing"];
  fmt::print("  {} steps, {} ended late; computed in {:.3g} us, {:.3g} at most\n",
             timing["steps"].get<long long>(), timing["overruns"].get<long long>(),
             timing["compute_us"]["median"].get<double>(), timing["compute_us"]["most"].get<double>());
}

}  // namespace zavrek::tool
