#include <algorithm>
#include <atomic>
#include <cmath>
#include <csignal>
#include <cstdlib>
#include <thread>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/coverage.hpp"
#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/telling.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

std::filesystem::path folder_of(const ProgrammeOptions& options) {
  if (!options.out.empty()) return options.out;
  return std::filesystem::path("out") /
         (std::filesystem::canonical(options.folder).filename().string() + "-programme");
}

/// The shard that a job array of Slurm gives: its tasks are numbered from 1.
void take_array_task(trial::ProgrammeOptions& how) {
  const auto number = [](const char* name) {
    const char* text = std::getenv(name);
    return text ? std::strtoll(text, nullptr, 10) : 0;
  };
  how.shard = number("SLURM_ARRAY_TASK_ID");
  how.shards = number("SLURM_ARRAY_TASK_COUNT");
  if (how.shard < 1 || how.shard > how.shards)
    throw Error("--shard slurm goes with a job array that is numbered from 1, such as sbatch --array=1-8");
  how.folder /= fmt::format("shard-{}", how.shard);
}

/// The trial that a search found to have least left.
void print_searches(const trial::Case& all, const std::vector<trial::StoredTrial>& trials) {
  for (const trial::Sweep& sweep : all.sweeps) {
    if (sweep.search == "none") continue;
    const trial::StoredTrial* worst = nullptr;
    double least = 0;
    for (const trial::StoredTrial& t : trials) {
      const auto left = t.sweep == sweep.name ? trial::least_left(t) : std::nullopt;
      if (left && (!worst || *left < least)) {
        worst = &t;
        least = *left;
      }
    }
    if (worst)
      fmt::print("least margin: {:.0f} % of the tolerance in trial {}, {}{}\n", 100 * least, worst->number,
                 worst->name, worst->record.empty() ? "" : "; record: " + worst->record + ".cfg");
  }
}

void print_doubts(const std::vector<trial::StoredTrial>& trials) {
  long long doubted = 0;
  std::string first;
  for (const trial::StoredTrial& t : trials) {
    for (const trial::Verdict& v : t.verdicts) {
      if (!v.doubt.empty() && doubted++ == 0)
        first = fmt::format("{}, {}: {}", t.name, v.expectation, v.doubt);
    }
  }
  if (doubted > 0) fmt::print("{} verdicts are in doubt, the first: {}\n", doubted, first);
}

struct Written {
  bool passed = false;    // all that were run
  long long missing = 0;  // trials of the programme that were not
};
/// Writes every form of the report.
Written write_reports(const std::filesystem::path& folder, const std::string& title,
                      const std::optional<report::Provenance>& provenance, const ReportOptions& options) {
  const trial::Results results(folder / "results.sqlite", "");
  const std::vector<trial::StoredTrial> trials = results.all();
  const long long missing = results.planned() - static_cast<long long>(trials.size());
  if (!options.no_figures && !trials.empty()) {
    report::draw_programme(trials, title, folder / "programme.png");
    report::draw_programme(trials, title, folder / "programme.svg");
  }
  std::vector<trial::Finding> found = results.causes();
  if (found.empty()) found = trial::findings_of(trials);
  record::write_file(folder / "report.html",
                     report::programme_page(title, trials, results.planned(), found, provenance));
  record::write_file(folder / "trials.csv", report::programme_csv(trials));
  record::write_file(folder / "junit.xml", report::junit(title, report::programme_cases(trials)));
  if (options.pdf) report::print_page(folder / "report.html", folder / "report.pdf");
  const auto passed = std::count_if(trials.begin(), trials.end(), [](const auto& t) { return t.passed; });
  if (options.json) {
    fmt::print("{}\n", printed("programme", {{"trials", trials.size()},
                                             {"planned", results.planned()},
                                             {"passed", passed},
                                             {"folder", folder.string()}}));
  } else {
    for (std::size_t k = 0; k < found.size() && k < 3; ++k)
      fmt::print("{}\n", report::finding_words(found[k]));
    print_doubts(trials);
    fmt::print("{} of {} trials passed{}\nreport: {}\n", passed, trials.size(),
               missing > 0
                   ? fmt::format("; {} of the programme's {} were not run", missing, results.planned())
                   : std::string(),
               (folder / "report.html").string());
  }
  return {passed == static_cast<std::ptrdiff_t>(trials.size()), missing};
}

}  // namespace

int programme(const ProgrammeOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  bench::open_laws(all);
  if (options.coverage || options.choose > 0) {
    trial::check_trials(all);
    trial::CoverageOptions how = coverage_options(options.workers, options.mistakes, options.json);
    how.most_trials = options.most_trials;
    if (options.choose > 0)
      return write_choice(trial::choose_trials(all, options.choose, how), all, folder_of(options),
                          options.json);
    const double least = options.least_coverage.empty() ? all.least_coverage
                                                        : share("--least-coverage", options.least_coverage);
    return write_coverage(trial::coverage_of(all, how), folder_of(options), all.network.title, least,
                          options.json);
  }
  if (all.sweeps.empty()) throw Error("the case has no sweep; write one in trials.toml as [[sweep]]");
  const bool any = std::any_of(all.sweeps.begin(), all.sweeps.end(), [&](const trial::Sweep& sweep) {
    return sweep.name.find(options.only) != std::string::npos;
  });
  if (!any) throw Error(fmt::format("no sweep has \"{}\" in its name", options.only));
  trial::check_trials(all);
  trial::ProgrammeOptions how;
  how.run.place = options.place;
  how.run.free = options.pace == "free";
  how.run.relay_program = std::filesystem::read_symlink("/proc/self/exe");
  how.workers = options.workers > 0 ? options.workers : static_cast<int>(std::thread::hardware_concurrency());
  how.folder = folder_of(options);
  how.only = options.only;
  how.keep = options.keep;
  if (options.shard == "slurm") {
    take_array_task(how);
  } else if (!options.shard.empty()) {
    char rest = 0;
    if (std::sscanf(options.shard.c_str(), "%lld/%lld%c", &how.shard, &how.shards, &rest) != 2 ||
        how.shard < 1 || how.shard > how.shards)
      throw Error(fmt::format("\"{}\" is no shard; write it like 3/8, the third of eight", options.shard));
  }
  how.run.stop = &stop_on_signal();
  long long lost_records = 0;
  trial::Progress done_now;
  {
    Telling telling(options.json);
    done_now = trial::run_programme(all, how, [&](const trial::Progress& p, const trial::StoredTrial& t) {
      if (!t.unwritten.empty() && ++lost_records == 1) telling.say(t.unwritten);
      if (!t.passed && !options.json && p.failed <= 20) {
        telling.say(fmt::format("FAIL {} {}", t.number, t.name));
        if (p.failed == 20) telling.say("     further failures stand in the report");
      }
      telling.tell(fmt::format("{} of {} trials, {} failed, {} left", p.before + p.done, p.total, p.failed,
                               duration(p.left_s())));
    });
  }
  if (!options.json) {
    if (done_now.before > 0) fmt::print("{} trials were there already\n", done_now.before);
    if (done_now.done > 0)
      fmt::print("{} trials in {}: {:.0f} a second, {:.0f} times real time with {} at a time\n",
                 done_now.done, duration(done_now.spent_s),
                 static_cast<double>(done_now.done) / done_now.spent_s,
                 done_now.simulated_s / done_now.spent_s, how.workers);
  }
  if (done_now.done > 0) {
    trial::Results results(how.folder / "results.sqlite", "");
    results.put_causes(trial::causes_of_programme(all, results.all(), how.folder));
  }
  if (!options.json) print_searches(all, trial::Results(how.folder / "results.sqlite", "").all());
  const bool complete = done_now.before + done_now.done == done_now.total;
  const bool well = write_reports(how.folder, all.network.title, report::provenance_of(all, options.place),
                                  {options.json, options.no_figures, options.pdf})
                        .passed;
  if (!complete) fmt::print(stderr, "stopped early; the same command goes on\n");
  if (stop_on_signal()) return interrupted;
  if (lost_records > 0) {
    fmt::print(stderr, "{} records could not be written; their results are kept\n", lost_records);
    return incomplete;
  }
  return well && complete ? done : failed_verdict;
}

int merge(const MergeOptions& options) {
  const std::filesystem::path folder = options.out;
  {
    trial::Results into(folder / "results.sqlite", "");
    for (const std::string& name : options.from) {
      std::filesystem::path file = name;
      if (std::filesystem::is_directory(file)) file /= "results.sqlite";
      const long long taken = into.merge(file);
      if (!options.json) fmt::print("{} trials from {}\n", taken, file.string());
      const auto records = file.parent_path() / "records";
      if (std::filesystem::is_directory(records) && !std::filesystem::equivalent(file.parent_path(), folder))
        std::filesystem::copy(
            records, folder / "records",
            std::filesystem::copy_options::recursive | std::filesystem::copy_options::skip_existing);
    }
  }
  const Written whole = write_reports(folder, options.title.empty() ? "Programme" : options.title, {},
                                      {options.json, options.no_figures, options.pdf});
  if (!whole.passed) return failed_verdict;
  return whole.missing > 0 ? incomplete : done;
}

}  // namespace zavrek::tool
