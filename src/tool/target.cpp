#include <cstdio>

#include <fmt/format.h>
#include <httplib.h>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

using nlohmann::json;

class Target {
 public:
  explicit Target(const TargetOptions& options) : client_(options.at), at_(options.at) {
    client_.set_connection_timeout(2);
    client_.set_read_timeout(30);
    if (!client_.is_valid())
      throw Error(fmt::format("--at: \"{}\" is no address such as http://127.0.0.1:41234", options.at));
    if (options.token.empty()) return;
    std::string token = record::read_file(options.token);
    token.erase(std::min(token.find_first_of("\r\n"), token.size()));
    client_.set_bearer_token_auth(token);
  }
  /// With a body: POST. Throws Error with what the engine says.
  json call(const std::string& path, const json* body = nullptr) {
    const auto result = body ? client_.Post(path, body->dump(), "application/json") : client_.Get(path);
    if (!result)
      throw Error(fmt::format("no engine answers at {} ({}); \"zavrek serve CASE\" starts one", at_,
                              httplib::to_string(result.error())));
    json answer = json::parse(result->body, nullptr, false);
    if (answer.is_discarded()) throw Error(fmt::format("{} is no engine", at_));
    if (result->status == 200) return answer;
    const json& error = answer["error"];
    const std::string field = error.value("field", "");
    throw Error(fmt::format("{}{}", field.empty() ? "" : field + ": ", error.value("text", "")));
  }
  /// Events of the stream until it ends, `take` says so, or the tool is interrupted.
  void watch(const std::string& signals,
             const std::function<bool(const std::string& kind, const json& data)>& take) {
    std::string text;
    (void)client_.Get(
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

 private:
  httplib::Client client_;
  std::string at_;
};

/// RFC 3986, 2.1
std::string in_a_path(const std::string& text) {
  std::string out;
  for (const char c : text) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       c == '-' || c == '_' || c == '.';
    out += plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

void print_state(const json& run) {
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

/// Curves, events and states as they come, until the run has ended.
int watch(Target& target, const TargetOptions& options) {
  std::string state;
  target.watch(options.words.empty() ? "" : options.words[0], [&](const std::string& kind, const json& data) {
    if (options.json) fmt::print("{}\n", json{{kind, data}}.dump());
    if (kind == "events" && !options.json) {
      for (const json& one : data)
        fmt::print("{:12.4f} s  {}\n", one["time_s"].get<double>(), one["text"].get<std::string>());
    }
    if (kind == "traces" && !options.json && !data["time_s"].empty()) {
      std::string line = fmt::format("{:12.4f} s ", data["time_s"].back().get<double>());
      for (const json& curve : data["curves"])
        line += fmt::format("  {} {:.4g} to {:.4g} {}", curve["name"].get<std::string>(),
                            curve["least"].back().get<double>(), curve["greatest"].back().get<double>(),
                            curve["unit"].get<std::string>());
      fmt::print("{}\n", line);
    }
    if (kind == "status" && data.value("state", "") != state) {
      state = data.value("state", "");
      if (!options.json) print_state(data);
    }
    std::fflush(stdout);
    return state != "ended" && state != "stopped";
  });
  return done;
}

}  // namespace

int target(const TargetOptions& options) {
  Target target(options);
  const auto word = [&](std::size_t k, const char* what) {
    if (k >= options.words.size()) throw Error(fmt::format("{}: {} is wanted", options.action, what));
    return options.words[k];
  };
  const auto show = [&](const json& answer, const auto& print) {
    if (options.json)
      fmt::print("{}\n", printed(answer));
    else
      print(answer);
    return done;
  };
  if (options.action == "list") {
    return show(target.call("/api/v1/engine"), [](const json& engine) {
      for (const json& one : engine["cases"])
        fmt::print("{:<24} {}\n", one["name"].get<std::string>(), one["title"].get<std::string>());
      print_state(engine["run"]);
    });
  }
  if (options.action == "watch") return watch(target, options);
  if (options.action == "record") {
    const json record = target.call("/api/v1/run/record");
    record::write_file(word(0, "a file such as run.csv"), record["csv"].get<std::string>());
    return done;
  }
  json body = json::object();
  std::string path = "/api/v1/run/stop";
  if (options.action == "start") {
    path = "/api/v1/cases/" + in_a_path(word(0, "a case")) + "/start";
    if (!options.duration.empty()) body["for"] = options.duration;
    if (!options.place.empty()) body["place"] = options.place;
    if (options.free) body["free"] = true;
  } else if (options.action == "set" || options.action == "strike" || options.action == "clear") {
    path = "/api/v1/run/ask";
    const bool set = options.action == "set";
    body["what"] = set ? word(0, "what is operated or set") : "fault";
    const std::string value = set ? word(1, "a value") : options.action == "strike" ? "1" : "0";
    const json number = json::parse(value, nullptr, false);
    body["value"] = number.is_number() ? number : json(value);
  }
  const json answer = target.call(path, &body);
  if (answer.contains("outcome")) {
    if (!options.json)
      fmt::print("{}{}\n", answer["outcome"].get<std::string>(),
                 answer.contains("text") ? ": " + answer["text"].get<std::string>() : "");
    if (options.json) fmt::print("{}\n", printed(answer));
    return answer["outcome"] == "done" ? done : failed_verdict;
  }
  return show(answer, [](const json& run) { print_state(run); });
}

}  // namespace zavrek::tool
