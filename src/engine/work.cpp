#include "engine/work.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "report/json.hpp"
#include "zavrek/pace/crew.hpp"
#include "zavrek/report.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::engine::internal {

using nlohmann::json;

namespace {

constexpr std::size_t most_listed = 200;  // results of a programme, the latest

}  // namespace

void Work::begin(std::shared_ptr<Session> session, const WorkAsked& asked) {
  const trial::Case& all = session->loaded();
  std::vector<const trial::Trial*> trials;
  for (const std::string& name : asked.trials) trials.push_back(&trial::find_trial(all, name));
  if (asked.trials.empty()) {
    for (const trial::Trial& one : all.trials) trials.push_back(&one);
  }
  if (asked.kind == "trials" && trials.empty()) throw Error("the case has no trials");
  if (asked.kind == "programme" && all.sweeps.empty())
    throw Error("the case has no sweeps, of which a programme is made");
  stop();
  stop_ = false;
  session_ = std::move(session);
  {
    const std::lock_guard lock(mutex_);
    status_ = {{"state", "running"}, {"kind", asked.kind},  {"case", session_->name()},
               {"done", 0},          {"of", trials.size()}, {"results", json::array()},
               {"result", nullptr},  {"failure", ""}};
  }
  thread_ = std::jthread([this, asked, trials] { carry_out(asked, trials); });
}

void Work::stop() {
  stop_ = true;
  if (thread_.joinable()) thread_.join();
}

bool Work::under_way() const {
  const std::lock_guard lock(mutex_);
  return status_["state"] == "running";
}

json Work::status() const {
  const std::lock_guard lock(mutex_);
  return status_;
}

/// Whatever goes wrong in it, the engine goes on.
void Work::carry_out(const WorkAsked& asked, const std::vector<const trial::Trial*>& trials) {
  std::string failure;
  try {
    if (asked.kind == "programme")
      run_programme(asked);
    else
      run_trials(asked, trials);
  } catch (const std::exception& error) {
    failure = error.what();
  }
  const std::lock_guard lock(mutex_);
  status_["state"] = "ended";
  status_["failure"] = failure;
}

void Work::note(json result, long long done, long long of) {
  const std::lock_guard lock(mutex_);
  json& results = status_["results"];
  results.push_back(std::move(result));
  if (results.size() > most_listed) results.erase(0);
  status_["done"] = done;
  status_["of"] = of;
}

void Work::run_trials(const WorkAsked& asked, const std::vector<const trial::Trial*>& trials) {
  const trial::Case& all = session_->loaded();
  const std::string id = store_.begin_result();
  const std::filesystem::path folder = store_.result_folder(id);
  trial::RunOptions how = session_->options();
  how.place = asked.place;
  how.free = asked.free;
  how.stop = &stop_;
  how.kept_as = record::Encoding::binary;
  how.captures_afresh = true;
  std::vector<trial::TrialResult> results;
  json list = json::array();
  for (const trial::Trial* one : trials) {
    if (stop_) break;
    const std::string stem = report::file_stem(results.size() + 1, one->name);
    how.captures_in = folder / stem;
    results.push_back(trial::run_trial(all, *one, how));
    how.listens = false;
    const trial::TrialResult& result = results.back();
    if (result.record.time_s.size() > 1)
      record::write_comtrade(result.record, folder / (stem + ".cfg"), record::Encoding::binary);
    json short_one{{"name", result.name},
                   {"passed", result.passed()},
                   {"failure", result.failure},
                   {"not_judged", result.not_judged},
                   {"verdicts", report::verdicts_json(result.verdicts)},
                   {"record", result.record.time_s.size() > 1 ? json(stem) : json()}};
    list.push_back(short_one);
    note(std::move(short_one), static_cast<long long>(results.size()), static_cast<long long>(trials.size()));
  }
  trial::RunOptions where;
  where.place = asked.place;
  trial::doubt_silent_devices(all, where, results);
  const std::vector<trial::Explanation> causes = trial::likely_causes(all, results);
  record::write_file(folder / "report.html",
                     report::html_report(all, results,
                                         {.causes = causes,
                                          .provenance = report::provenance_of(all, asked.place),
                                          .changes = {},
                                          .stems = {}}));
  const auto passed =
      std::count_if(results.begin(), results.end(), [](const auto& one) { return one.passed(); });
  store_.finish_result(id, {{"kind", "trials"},
                            {"case", session_->name()},
                            {"at_utc_ns", pace::utc_ns()},
                            {"passed", passed},
                            {"of", results.size()},
                            {"interrupted", stop_.load()},
                            {"trials", list},
                            {"causes", report::causes_json(causes)},
                            {"report", "report.html"}});
  const std::lock_guard lock(mutex_);
  status_["result"] = id;
}

void Work::run_programme(const WorkAsked& asked) {
  const trial::Case& all = session_->loaded();
  const std::string id = store_.begin_result();
  trial::ProgrammeOptions how;
  how.run = session_->options();
  how.run.place = asked.place;
  how.run.free = asked.free;
  how.run.stop = &stop_;
  how.workers = asked.free && asked.place == "plant" ? pace::Crew::processors() : 1;
  how.folder = store_.result_folder(id);
  long long failed = 0;
  (void)trial::run_programme(all, how, [&](const trial::Progress& now, const trial::StoredTrial& one) {
    failed = now.failed;
    note({{"name", one.name},
          {"passed", one.passed},
          {"failure", one.failure},
          {"not_judged", ""},
          {"verdicts", report::verdicts_json(one.verdicts)},
          {"record", one.record.empty() ? json() : json(one.record)}},
         now.before + now.done, now.total);
  });
  const trial::Results results(how.folder / "results.sqlite", "");
  const std::vector<trial::StoredTrial> trials = results.all();
  record::write_file(
      how.folder / "report.html",
      report::programme_page(all.network.title, trials, results.planned(), trial::findings_of(trials),
                             report::provenance_of(all, asked.place)));
  store_.finish_result(id, {{"kind", "programme"},
                            {"case", session_->name()},
                            {"at_utc_ns", pace::utc_ns()},
                            {"passed", static_cast<long long>(trials.size()) - failed},
                            {"of", trials.size()},
                            {"interrupted", stop_.load()},
                            {"report", "report.html"}});
  const std::lock_guard lock(mutex_);
  status_["result"] = id;
}

}  // namespace zavrek::engine::internal
