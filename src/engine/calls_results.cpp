// Trials and programmes under way, and results that are kept.
#include <algorithm>

#include <fmt/format.h>

#include "engine/bundle.hpp"
#include "engine/calls.hpp"
#include "record/archive_file.hpp"
#include "zavrek/record.hpp"

namespace zavrek::engine::internal {
namespace {

using nlohmann::json;

Reply work(House& house, const Asked&) { return house.work().status(); }

Reply stop_work(House& house, const Asked& asked) {
  house.stop_work();
  house.note(asked.who, "stopped the trials");
  return house.work().status();
}

Reply results(House& house, const Asked&) { return json{{"results", house.store().results()}}; }

json result_called(House& house, const std::string& id) {
  json about = house.store().result(id);
  if (about.is_null()) refuse(404, "id", "no such result; GET /api/v1/results lists them");
  return about;
}

Reply result(House& house, const Asked& asked) {
  const std::string& id = asked.parts.at("id");
  json about = result_called(house, id);
  json files = json::array();
  for (const auto& entry : std::filesystem::directory_iterator(house.store().result_folder(id))) {
    if (entry.is_regular_file()) files.push_back(entry.path().filename().string());
  }
  std::sort(files.begin(), files.end());
  about["files"] = files;
  return about;
}

const char* type_of(const std::string& extension) {
  if (extension == ".html") return "text/html; charset=utf-8";
  if (extension == ".json") return "application/json";
  if (extension == ".csv" || extension == ".cfg" || extension == ".inf") return "text/plain; charset=utf-8";
  return "application/octet-stream";
}

/// One of the plain files in its folder, by a name that is in the list: nothing else of the host.
Reply file(House& house, const Asked& asked) {
  const std::string &id = asked.parts.at("id"), &name = asked.parts.at("file");
  (void)result_called(house, id);
  for (const auto& entry : std::filesystem::directory_iterator(house.store().result_folder(id))) {
    if (entry.is_regular_file() && !entry.is_symlink() && entry.path().filename().string() == name)
      return {record::read_file(entry.path()), type_of(entry.path().extension().string()), name};
  }
  refuse(404, "file", "no such file of that result");
}

/// A record of it as one archive.
Reply record_of_result(House& house, const Asked& asked) {
  const std::string &id = asked.parts.at("id"), &stem = asked.parts.at("record");
  (void)result_called(house, id);
  std::vector<std::pair<std::string, std::string>> files;
  for (const auto& entry : std::filesystem::directory_iterator(house.store().result_folder(id))) {
    const std::string extension = entry.path().extension().string();
    const bool part = extension == ".cfg" || extension == ".dat" || extension == ".inf";
    if (part && entry.path().stem().string() == stem && entry.is_regular_file())
      files.emplace_back(entry.path().filename().string(), record::read_file(entry.path()));
  }
  if (files.empty()) refuse(404, "record", "no such record of that result");
  return {record::internal::packed(files, record::internal::Packing::zip), "application/zip", stem + ".zip"};
}

}  // namespace

std::vector<Call> calls_of_results() {
  return {
      {"GET",
       "/api/v1/work",
       "trials or a programme under way: how many are done, verdicts as they come",
       {},
       work},
      {"POST", "/api/v1/work/stop", "ends them; what is done is kept", {}, stop_work},
      {"GET", "/api/v1/results", "runs, trials and programmes that are kept, the latest first", {}, results},
      {"GET", "/api/v1/results/{id}", "one of them, and its files", {}, result},
      {"GET", "/api/v1/results/{id}/files/{file}", "a file of it: report.html, a record", {}, file},
      {"GET",
       "/api/v1/results/{id}/records/{record}",
       "a record of it, all its files in one archive",
       {},
       record_of_result},
  };
}

}  // namespace zavrek::engine::internal
