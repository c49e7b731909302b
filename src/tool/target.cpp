#include <algorithm>
#include <chrono>
#include <cstdio>
#include <thread>

#include <fmt/format.h>

#include "tool/engine_client.hpp"
#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {
namespace {

using nlohmann::json;

class TargetVerb {
 public:
  explicit TargetVerb(const TargetOptions& options) : options_(options) {}

  int run() {
    const Action* action = nullptr;
    for (const Action& one : actions()) {
      if (one.name == options_.action) action = &one;
    }
    return (this->*action->act)();
  }

  struct Action {
    const char* name;
    const char* says;
    int (TargetVerb::*act)();
  };
  static const std::vector<Action>& actions() {
    static const std::vector<Action> all{
        {"list", "list: its cases, and what runs", &TargetVerb::list},
        {"known", "known: engines with a name", &TargetVerb::known},
        {"name", "name NAME ADDRESS: makes one known (with --token, --authority)", &TargetVerb::name},
        {"send", "send FOLDER [NAME]: a case", &TargetVerb::send},
        {"remove", "remove CASE: one that was sent", &TargetVerb::remove},
        {"start", "start CASE", &TargetVerb::start},
        {"restart", "restart: the same again", &TargetVerb::restart},
        {"stop", "stop", &TargetVerb::stop},
        {"set", "set WHAT VALUE", &TargetVerb::set},
        {"strike", "strike [PLACE [PHASES]]: a fault, by default that of the first trial",
         &TargetVerb::strike},
        {"clear", "clear: all faults", &TargetVerb::clear},
        {"back", "back TIME: goes through the run again up to there", &TargetVerb::back},
        {"watch", "watch [SIGNALS]", &TargetVerb::watch},
        {"record", "record FILE: of the run that has ended, as CSV", &TargetVerb::record},
        {"capture", "capture FILE: the latest seconds, as COMTRADE files in a .zip, or as .csv",
         &TargetVerb::capture},
        {"test", "test CASE [TRIAL ...]: carries out trials", &TargetVerb::test},
        {"results", "results: what is kept", &TargetVerb::results}};
    return all;
  }

 private:
  EngineClient& engine() {
    if (!client_) {
      KnownTarget target = target_called(options_.at);
      if (!options_.token.empty()) target.token = options_.token;
      if (!options_.authority.empty()) target.authority = options_.authority;
      client_ = std::make_unique<EngineClient>(target);
    }
    return *client_;
  }
  std::string word(std::size_t k, const char* what) const {
    if (k >= options_.words.size()) throw Error(fmt::format("{}: {} is wanted", options_.action, what));
    return options_.words[k];
  }
  template <class Print>
  int show(const json& answer, Print&& print) const {
    if (options_.json)
      fmt::print("{}\n", printed("target", answer));
    else
      print(answer);
    return done;
  }
  int show_run(const json& run) const {
    return show(run, [](const json& it) { print_run_state(it); });
  }
  json ask_for(const std::string& path, const json& body) { return engine().call(path, &body); }
  [[nodiscard]] json how() const {
    json body = json::object();
    if (!options_.place.empty()) body["place"] = options_.place;
    if (options_.pace == "free") body["free"] = true;
    return body;
  }

  int list() {
    return show(engine().call("/api/v1/engine"), [](const json& it) {
      for (const json& one : it["cases"])
        fmt::print("{:<24} {}{}\n", one["name"].get<std::string>(), one["title"].get<std::string>(),
                   one["sent"] == "" ? "" : " (sent)");
      print_run_state(it["run"]);
    });
  }
  int known() {
    json all = json::array();
    for (const KnownTarget& one : known_targets())
      all.push_back({{"name", one.name}, {"address", one.address}});
    return show(all, [](const json& it) {
      for (const json& one : it)
        fmt::print("{:<16} {}\n", one["name"].get<std::string>(), one["address"].get<std::string>());
      if (it.empty()) fmt::print("none; \"zavrek target name NAME ADDRESS\" makes one known\n");
    });
  }
  int name() {
    remember({word(0, "a name"), word(1, "its address"), options_.token, options_.authority});
    return known();
  }
  int send() {
    const std::string name = send_case(engine(), word(0, "the folder of a case"),
                                       options_.words.size() > 1 ? options_.words[1] : "");
    return show({{"name", name}}, [](const json& it) { fmt::print("{}\n", it["name"].get<std::string>()); });
  }
  int remove() {
    return show(ask_for("/api/v1/cases/" + in_a_path(word(0, "a case")) + "/remove", json::object()),
                [](const json& it) { fmt::print("removed {}\n", it["removed"].get<std::string>()); });
  }
  /// What is said to a run next finds it running; one that waits for others may take its time.
  json once_begun(json run) {
    using namespace std::chrono;
    const auto patience = steady_clock::now() + seconds(30);
    while (run["state"] == "starting" && steady_clock::now() < patience && !stop_on_signal()) {
      std::this_thread::sleep_for(milliseconds(20));
      run = engine().call("/api/v1/run");
    }
    return run;
  }
  int start() {
    json body = how();
    if (!options_.duration.empty()) body["for"] = options_.duration;
    return show_run(once_begun(ask_for("/api/v1/cases/" + in_a_path(word(0, "a case")) + "/start", body)));
  }
  int restart() {
    json body = json::object();
    if (!options_.duration.empty()) body["for"] = options_.duration;
    return show_run(once_begun(ask_for("/api/v1/run/restart", body)));
  }
  int stop() { return show_run(ask_for("/api/v1/run/stop", json::object())); }
  int back() { return show_run(ask_for("/api/v1/run/back", {{"to", word(0, "a time such as \"2.5 s\"")}})); }

  int outcome(const json& answer) const {
    if (options_.json)
      fmt::print("{}\n", printed("target", answer));
    else
      fmt::print("{}{}\n", answer["outcome"].get<std::string>(),
                 answer.contains("text") ? ": " + answer["text"].get<std::string>() : "");
    return answer["outcome"] == "done" ? done : failed_verdict;
  }
  int set() {
    const std::string value = word(1, "a value");
    const json number = json::parse(value, nullptr, false);
    json body{{"what", word(0, "what is operated or set")},
              {"value", number.is_number() ? number : json(value)}};
    if (!options_.over.empty()) body["over"] = options_.over;
    return outcome(ask_for("/api/v1/run/ask", body));
  }
  int strike() {
    json body = json::object();
    if (!options_.words.empty()) {
      const std::size_t colon = options_.words[0].find(':');
      body["on"] = options_.words[0].substr(0, colon);
      if (colon != std::string::npos) body["at"] = options_.words[0].substr(colon + 1);
    }
    if (options_.words.size() > 1) body["phases"] = options_.words[1];
    if (!options_.resistance.empty()) body["resistance"] = options_.resistance;
    if (!options_.angle.empty()) body["angle"] = options_.angle;
    if (!options_.lasts.empty()) body["lasts"] = options_.lasts;
    return show(ask_for("/api/v1/run/strike", body), [](const json& it) {
      fmt::print("{} on {} at {:.4f} s, {:.1f} deg\n", it["phases"].get<std::string>(),
                 it["on"].get<std::string>(), it["inception_s"].get<double>(), it["angle_deg"].get<double>());
    });
  }
  int clear() { return outcome(ask_for("/api/v1/run/clear", json::object())); }

  /// Curves, events and states as they come, until the run has ended.
  int watch() {
    std::string state;
    engine().watch(
        options_.words.empty() ? "" : options_.words[0], [&](const std::string& kind, const json& data) {
          if (options_.json) fmt::print("{}\n", json{{kind, data}}.dump());
          if (kind == "events" && !options_.json) {
            for (const json& one : data)
              fmt::print("{:12.4f} s  {}\n", one["time_s"].get<double>(), one["text"].get<std::string>());
          }
          if (kind == "traces" && !options_.json && !data["time_s"].empty()) {
            std::string line = fmt::format("{:12.4f} s ", data["time_s"].back().get<double>());
            for (const json& curve : data["curves"])
              line += fmt::format("  {} {:.4g} to {:.4g} {}", curve["name"].get<std::string>(),
                                  curve["least"].back().get<double>(), curve["greatest"].back().get<double>(),
                                  curve["unit"].get<std::string>());
            if (data["lost"].get<long long>() > 0)
              line += fmt::format("  ({} rows lost)", data["lost"].get<long long>());
            fmt::print("{}\n", line);
          }
          if (kind == "status" && data.value("state", "") != state) {
            state = data.value("state", "");
            if (!options_.json) print_run_state(data);
          }
          std::fflush(stdout);
          return state != "ended" && state != "stopped";
        });
    return done;
  }
  int record() {
    const json answer = engine().call("/api/v1/run/record");
    record::write_file(word(0, "a file such as run.csv"), answer["csv"].get<std::string>());
    return done;
  }
  int capture() {
    const std::filesystem::path file = word(0, "a file such as capture.zip or capture.csv");
    const std::string as = file.extension() == ".csv" ? "csv" : "comtrade";
    record::write_file(file, engine().fetch("/api/v1/run/capture?as=" + as));
    return done;
  }
  int test() {
    json body = how();
    if (options_.words.size() > 1)
      body["trials"] = std::vector<std::string>(options_.words.begin() + 1, options_.words.end());
    (void)ask_for("/api/v1/cases/" + in_a_path(word(0, "a case")) + "/test", body);
    std::size_t told = 0;
    json work;
    engine().watch("", [&](const std::string& kind, const json& data) {
      if (kind != "work") return true;
      work = data;
      for (; told < work["results"].size() && !options_.json; ++told) {
        const json& one = work["results"][told];
        fmt::print("{} {}{}\n", one["passed"].get<bool>() ? "pass" : "FAIL", one["name"].get<std::string>(),
                   one["failure"] == "" ? "" : ": " + one["failure"].get<std::string>());
        std::fflush(stdout);
      }
      return work["state"] == "running";
    });
    if (work.is_null()) throw Error("the engine no longer answers");
    const json& results = work["results"];
    const auto passed = std::count_if(results.begin(), results.end(),
                                      [](const json& one) { return one["passed"].get<bool>(); });
    if (options_.json)
      fmt::print("{}\n", printed("target", work));
    else
      fmt::print("{} of {} trials passed; result {}{}\n", passed, results.size(),
                 work["result"].is_string() ? work["result"].get<std::string>() : "none",
                 work["failure"] == "" ? "" : ": " + work["failure"].get<std::string>());
    return passed == static_cast<std::ptrdiff_t>(results.size()) && work["failure"] == "" ? done
                                                                                          : failed_verdict;
  }
  int results() {
    return show(engine().call("/api/v1/results"), [](const json& it) {
      for (const json& one : it["results"]) {
        const std::string kind = one["kind"].get<std::string>();
        fmt::print(
            "{}  {:<10} {:<16} {}\n", one["id"].get<std::string>(), kind, one["case"].get<std::string>(),
            kind == "run"
                ? fmt::format("{:.3f} s{}{}", one["time_s"].get<double>(), one["failure"] == "" ? "" : ", ",
                              one["failure"].get<std::string>())
                : fmt::format("{} of {} passed", one["passed"].get<long long>(), one["of"].get<long long>()));
      }
    });
  }

  const TargetOptions& options_;
  std::unique_ptr<EngineClient> client_;
};

}  // namespace

std::vector<std::string> target_actions() {
  std::vector<std::string> names;
  for (const auto& one : TargetVerb::actions()) names.emplace_back(one.name);
  return names;
}
std::string target_actions_help() {
  std::string text;
  for (const auto& one : TargetVerb::actions()) text += (text.empty() ? "" : "; ") + std::string(one.says);
  return text;
}

int target(const TargetOptions& options) { return TargetVerb(options).run(); }

}  // namespace zavrek::tool
