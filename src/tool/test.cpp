#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

record::Encoding encoding_of(const std::string& word) {
  if (word == "ascii") return record::Encoding::ascii;
  if (word == "binary32") return record::Encoding::binary32;
  if (word == "float32") return record::Encoding::float32;
  return record::Encoding::binary;
}

void print_result(const trial::TrialResult& result) {
  const bool judged = result.not_judged.empty();
  fmt::print("{} {}\n", result.passed() ? "pass" : judged ? "FAIL" : "void", result.name);
  if (!judged) fmt::print("     not judged: {}\n", result.not_judged);
  if (result.repeats > 0) fmt::print("     run {} times\n", result.repeats + 1);
  if (!result.failure.empty()) fmt::print("     {}\n", result.failure);
  for (const trial::Verdict& v : result.verdicts) {
    if (!judged) break;
    if (!result.failure.empty()) {  // said once, above
      fmt::print("     FAIL {}\n", v.expectation);
      continue;
    }
    fmt::print("     {:<4} {:<22} expected {:<34} measured {:<10} {}\n", v.passed ? "pass" : "FAIL",
               v.expectation, v.expected, v.measured, v.margin.empty() ? "" : "margin " + v.margin);
    if (!v.held_back.empty()) fmt::print("          {}\n", v.held_back);
    if (!v.doubt.empty()) fmt::print("          in doubt: {}\n", v.doubt);
  }
  for (std::size_t k = 0; k < result.findings.size() && k < 4; ++k)
    fmt::print("     {}\n", result.findings[k].words());
  for (const std::string& remark : result.remarks) fmt::print("     note: {}\n", remark);
  if (result.fault_current_A > 0)
    fmt::print("     fault current {} rms\n", print_rounded(result.fault_current_A, "A"));
  std::fflush(stdout);
}

/// The evidence of one trial: its record and its figure.
void keep_evidence(const trial::Case& all, const trial::TrialResult& result,
                   const std::filesystem::path& stem, const TestOptions& options) {
  if (result.record.time_s.size() < 2) return;
  record::write_comtrade(result.record, std::filesystem::path(stem) += ".cfg", encoding_of(options.encoding));
  if (options.csv) record::write_file(std::filesystem::path(stem) += ".csv", record::to_csv(result.record));
  if (!options.no_figures)
    report::draw_record(result.record, result.name, std::filesystem::path(stem) += ".png", 4,
                        report::judged_signals(all, result.name));
}

/// Of a trial's files, in its folder.
std::string stem_of(const trial::Case& all, const std::string& name) {
  for (std::size_t k = 0; k < all.trials.size(); ++k) {
    if (all.trials[k].name == name) return report::file_stem(k + 1, name);
  }
  return report::file_stem(0, name);
}

/// What cannot be written is said, and the trials go on. Returns whether it was written.
template <class Write>
bool try_to(Write&& write) {
  try {
    write();
    return true;
  } catch (const Error& error) {
    fmt::print(stderr, "{}\n", error.what());
    return false;
  }
}

std::vector<trial::TrialResult> run_all(const trial::Case& all, const TestOptions& options,
                                        const std::filesystem::path& out, bool& written) {
  trial::RunOptions run{options.place,          options.interface,
                        options.pace == "free", std::filesystem::read_symlink("/proc/self/exe"),
                        options.cores,          encoding_of(options.encoding)};
  run.stop = &stop_on_signal();
  run.most_repeats = options.repeats;
  std::vector<trial::TrialResult> results;
  for (std::size_t k = 0; k < all.trials.size(); ++k) {
    const trial::Trial& one = all.trials[k];
    if (one.name.find(options.only) == std::string::npos) continue;
    if (*run.stop) break;
    const std::filesystem::path stem = out / report::file_stem(k + 1, one.name);
    run.captures_in = stem;
    run.captures_afresh = true;
    results.push_back(trial::run_trial(all, one, run));
    run.listens = false;
    if (!options.json) print_result(results.back());
    written &= try_to([&] { keep_evidence(all, results.back(), stem, options); });
  }
  return results;
}

}  // namespace

namespace {

/// Where the run's evidence goes: a run of some trials has a folder of its own, so that it takes nothing from
/// a whole one.
std::filesystem::path folder_of(const TestOptions& options) {
  if (!options.out.empty()) return options.out;
  std::string name = std::filesystem::canonical(options.folder).filename().string();
  if (!options.only.empty()) name += "-" + report::file_stem(0, options.only).substr(3);
  return std::filesystem::path("out") / name;
}

nlohmann::json read_results(const std::filesystem::path& path) {
  const std::filesystem::path file = std::filesystem::is_directory(path) ? path / "results.json" : path;
  nlohmann::json read = nlohmann::json::parse(record::read_file(file), nullptr, false);
  if (read.is_discarded()) throw Error(file.string() + ": is no JSON");
  return read;
}

/// Takes away what an earlier run left in its folder and this one did not write anew.
void clear_stale(const std::filesystem::path& out, const std::set<std::string>& earlier,
                 const std::set<std::string>& written, const TestOptions& options) {
  std::error_code ignored;
  const auto remove = [&](const std::string& stem, const char* end) {
    std::filesystem::remove(out / (stem + end), ignored);
  };
  for (const std::string& stem : earlier) {
    const bool again = written.contains(stem);
    if (!again || options.no_figures) remove(stem, ".png");
    if (!again || !options.csv) remove(stem, ".csv");
    if (again) continue;
    for (const char* end : {".cfg", ".dat", ".inf", ".hdr"}) remove(stem, end);
    std::filesystem::remove_all(out / stem, ignored);
  }
  if (!options.pdf) std::filesystem::remove(out / "report.pdf", ignored);
}

std::set<std::string> stems_in(const std::filesystem::path& out) {
  std::set<std::string> stems;
  if (!std::filesystem::exists(out / "results.json")) return stems;
  try {
    const nlohmann::json earlier = read_results(out);
    for (const auto& trial : earlier.at("trials")) {
      const std::string stem = trial.value("evidence", "");
      // A name from a file leads nowhere else.
      if (!stem.empty() && stem.find('/') == std::string::npos && stem.front() != '.') stems.insert(stem);
    }
  } catch (const std::exception&) {
    // Whatever it is, it is not ours to clear.
  }
  return stems;
}

/// A run of some trials would take the records of the others, and the report of all, from a folder that has
/// them.
void refuse_part_in_whole(const trial::Case& all, const std::filesystem::path& out,
                          const std::set<std::string>& there, const TestOptions& options) {
  if (options.only.empty()) return;
  for (const trial::Trial& one : all.trials) {
    if (one.name.find(options.only) == std::string::npos && there.contains(stem_of(all, one.name)))
      throw Error(
          fmt::format("--out: {} has the evidence of further trials, such as \"{}\"; take another folder for "
                      "a run of some",
                      out.string(), one.name));
  }
}

void print_changes(const std::vector<report::Change>& changes) {
  constexpr std::size_t most = 12;
  fmt::print("\nsince the earlier run: {}\n", changes.empty() ? "nothing changed" : "");
  for (std::size_t k = 0; k < changes.size() && k < most; ++k)
    fmt::print("  {:<12} {}, {}: {} -> {}\n", report::words(changes[k].kind), changes[k].trial,
               changes[k].expectation, changes[k].before.empty() ? "-" : changes[k].before,
               changes[k].now.empty() ? "-" : changes[k].now);
  if (changes.size() > most) fmt::print("  ... and {} more, in the report\n", changes.size() - most);
}

}  // namespace

int test(const TestOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  bench::open_laws(all);
  const std::filesystem::path out = folder_of(options);
  const nlohmann::json earlier = options.against.empty() ? nlohmann::json() : read_results(options.against);
  const std::set<std::string> stale = stems_in(out);
  refuse_part_in_whole(all, out, stale, options);
  trial::check_trials(all);
  bool written = true;
  std::vector<trial::TrialResult> results = run_all(all, options, out, written);
  trial::RunOptions where;
  where.place = options.place;
  trial::doubt_silent_devices(all, where, results);
  if (results.empty() && stop_on_signal()) return interrupted;
  if (results.empty()) {
    throw Error(all.trials.empty() ? "the case has no trials; write some in trials.toml"
                                   : fmt::format("no trial has \"{}\" in its name", options.only));
  }
  report::TrialPage with{.causes = trial::likely_causes(all, results),
                         .provenance = report::provenance_of(all, options.place),
                         .changes = {},
                         .stems = {}};
  for (const trial::TrialResult& result : results) with.stems.push_back(stem_of(all, result.name));
  nlohmann::json told = report::results_json(all, results, with.causes, *with.provenance);
  for (std::size_t k = 0; k < results.size(); ++k) told["trials"][k]["evidence"] = with.stems[k];
  if (!earlier.is_null()) with.changes = report::changes_since(earlier, told);
  written &=
      try_to([&] { record::write_file(out / "report.html", report::html_report(all, results, with)); });
  written &= try_to([&] { record::write_file(out / "results.json", printed("results", told)); });
  if (options.pdf) written &= try_to([&] { report::print_page(out / "report.html", out / "report.pdf"); });
  if (!stop_on_signal()) clear_stale(out, stale, {with.stems.begin(), with.stems.end()}, options);
  written &= try_to([&] {
    record::write_file(out / "junit.xml", report::junit(all.network.title, report::trial_cases(results)));
  });
  const auto passed = std::count_if(results.begin(), results.end(), [](const auto& r) { return r.passed(); });
  const auto unjudged =
      std::count_if(results.begin(), results.end(), [](const auto& r) { return !r.not_judged.empty(); });
  const int repeats = std::accumulate(results.begin(), results.end(), 0,
                                      [](int sum, const auto& r) { return sum + r.repeats; });
  if (options.json) {
    if (with.changes) {
      told["changes"] = nlohmann::json::array();
      for (const report::Change& change : *with.changes)
        told["changes"].push_back({{"what", report::words(change.kind)},
                                   {"trial", change.trial},
                                   {"expectation", change.expectation},
                                   {"before", change.before},
                                   {"now", change.now}});
    }
    fmt::print("{}\n", printed("results", told));
  } else {
    if (!results.back().medium.empty()) fmt::print("\nwire: {}\n", results.back().medium);
    fmt::print("last trial: {}\n", to_string(results.back().timing));
    if (!results.back().accounts.empty())
      fmt::print("{}\n", bench::to_string(results.back().accounts, results.back().step_s));
    if (results.size() > 1) print_causes(with.causes, "verdicts");
    if (with.changes) print_changes(*with.changes);
    if (repeats > 0) fmt::print("\n{} runs were held back by this computer and repeated\n", repeats);
    fmt::print("\n{} of {} trials passed{}\nreport: {}\n", passed, results.size(),
               unjudged > 0 ? fmt::format(", {} could not be judged", unjudged) : std::string(),
               (out / "report.html").string());
  }
  if (stop_on_signal()) {
    const auto wanted = std::count_if(all.trials.begin(), all.trials.end(), [&](const trial::Trial& one) {
      return one.name.find(options.only) != std::string::npos;
    });
    const auto whole =
        std::count_if(results.begin(), results.end(), [](const auto& r) { return !r.interrupted; });
    fmt::print(stderr, "interrupted: {} of {} trials were run to their end\n", whole, wanted);
    return interrupted;
  }
  if (!written) {
    fmt::print(stderr, "not all evidence was written\n");
    return incomplete;
  }
  if (passed + unjudged < static_cast<std::ptrdiff_t>(results.size())) return failed_verdict;
  return unjudged > 0 ? incomplete : done;
}

int judge(const JudgeOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  bench::open_laws(all);
  record::Record record = record::read_record(options.record);
  const std::string name = options.trial.empty() ? record.fact("trial") : options.trial;
  if (name.empty()) throw Error("the record does not say of which trial it is; name it with --trial");
  const trial::TrialResult result = trial::judge_again(all, trial::find_trial(all, name), std::move(record));
  if (options.json)
    fmt::print("{}\n", printed("judge", report::result_json(result)));
  else
    print_result(result);
  return result.passed() ? done : failed_verdict;
}

}  // namespace zavrek::tool
