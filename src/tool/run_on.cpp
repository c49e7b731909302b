#include <cstdio>

#include <fmt/format.h>

#include "tool/engine_client.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/error.hpp"
#include "zavrek/record.hpp"

namespace zavrek::tool {

using nlohmann::json;

/// The case goes there where it is not yet, runs for its time, and its record comes back.
int run_on(const RunOptions& options) {
  if (!options.at.empty() || !options.captures.empty() || !options.figure.empty() || !options.signals.empty())
    throw Error(
        "--on: what is operated, captured, drawn or chosen beside the bench's record is not sent along");
  EngineClient client(target_called(options.on));
  const std::string name = send_case(client, options.folder, "");
  json body = json::object();
  if (!options.until_stopped) body["for"] = options.duration;
  if (!options.place.empty()) body["place"] = options.place;
  if (options.pace == "free") body["free"] = true;
  print_run_state(client.call("/api/v1/cases/" + in_a_path(name) + "/start", &body));
  json last;
  client.watch("", [&](const std::string& kind, const json& data) {
    if (kind == "events") {
      for (const json& one : data)
        fmt::print("{:12.4f} s  {}\n", one["time_s"].get<double>(), one["text"].get<std::string>());
      std::fflush(stdout);
    }
    if (kind == "status") last = data;
    return kind != "status" || data["state"] != "ended";
  });
  if (stop_on_signal()) {
    const json none = json::object();
    last = client.call("/api/v1/run/stop", &none);
  }
  if (last.is_null()) throw Error("the engine no longer answers");
  print_run_state(last);
  if (!options.record.empty()) {
    const record::Record record =
        record::from_csv(client.call("/api/v1/run/record")["csv"].get<std::string>(), "the engine's record");
    record::write_record(record, options.record, record::Encoding::binary);
  }
  return last["failure"] == "" ? done : failed_verdict;
}

}  // namespace zavrek::tool
