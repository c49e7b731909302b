// `programme --coverage` and `inject --coverage`: what they would find.
#include "tool/coverage.hpp"

#include <algorithm>
#include <memory>
#include <thread>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/stop.hpp"
#include "tool/telling.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {

trial::CoverageOptions coverage_options(int workers, const std::string& only, bool json) {
  trial::CoverageOptions how;
  how.workers = workers > 0 ? workers : static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
  how.only = only;
  how.stop = &stop_on_signal();
  how.report = [telling = std::make_shared<Telling>(json)](long long looked, long long all) {
    telling->tell(fmt::format("{} of {} settings and wires", looked, all));
  };
  return how;
}

namespace {

std::string shortened(const std::string& text, std::size_t most) {
  return text.size() <= most ? text : text.substr(0, most - 3) + "...";
}

}  // namespace

int write_coverage(const trial::Coverage& coverage, const std::filesystem::path& folder,
                   const std::string& title, double least, bool json) {
  record::write_file(folder / "coverage.html", report::coverage_page(coverage, title));
  record::write_file(folder / "coverage.csv", report::coverage_csv(coverage));
  if (json) {
    nlohmann::json rows = nlohmann::json::array();
    for (const trial::CoverageRow& row : coverage.rows)
      rows.push_back({{"device", row.device},
                      {"setting", row.what},
                      {"approved", row.before},
                      {"amounts", row.amounts},
                      {"found_from", row.found() ? nlohmann::json(row.from) : nlohmann::json()},
                      {"by", row.by}});
    fmt::print("{}\n", printed("coverage", {{"mistakes", coverage.mistakes()},
                                            {"found", coverage.found()},
                                            {"trials", coverage.trials},
                                            {"trials_in_all", coverage.of},
                                            {"left_out", coverage.left_out},
                                            {"rows", std::move(rows)}}));
  } else {
    std::string device;
    for (const trial::CoverageRow& row : report::coverage_rows(coverage)) {
      if (row.device != device) fmt::print("{}\n", device = row.device);
      fmt::print("     {:<30} {:<22} {:<36} {}\n", row.what, shortened(row.before, 22),
                 shortened(row.amounts.size() == 1 ? row.amounts[0] : report::found_words(row), 36),
                 !row.found()              ? "never found"
                 : row.amounts.size() == 1 ? "found by " + shortened(row.by, 60)
                                           : "by " + shortened(row.by, 60));
    }
    for (const std::string& name : coverage.left_out)
      fmt::print("left out, for it fails as the case stands: {}\n", name);
    if (coverage.trials < coverage.of)
      fmt::print("{} of {} trials were replayed\n", coverage.trials, coverage.of);
    fmt::print("{}\nreport: {}\n", report::coverage_summary(coverage), (folder / "coverage.html").string());
  }
  if (coverage.interrupted) return interrupted;
  if (coverage.share() >= least) return done;
  fmt::print(stderr, "less than the {} that are asked for\n", print_quantity(least, "%"));
  return failed_verdict;
}

int write_choice(const trial::Choice& choice, const trial::Case& all, const std::filesystem::path& folder,
                 bool json) {
  if (stop_on_signal()) return interrupted;
  const std::filesystem::path chosen = folder / "chosen";
  std::filesystem::create_directories(chosen);
  const std::filesystem::path base =
      std::filesystem::relative(std::filesystem::absolute(all.folder), std::filesystem::absolute(chosen));
  record::write_file(
      chosen / "case.toml",
      fmt::format("# Trials chosen among {}: they find {} of {} mistakes.\nbase = {}\n", choice.of,
                  choice.found, choice.of_found, nlohmann::json(base.string()).dump()));
  record::write_file(chosen / "trials.toml", casefile::trials_text(choice.trials, choice.sweeps));
  if (json) {
    fmt::print("{}\n", printed("choice", {{"chosen", choice.chosen},
                                          {"of", choice.of},
                                          {"found", choice.found},
                                          {"found_by_all", choice.of_found},
                                          {"paced_s", choice.paced_s},
                                          {"case", chosen.string()}}));
  } else {
    fmt::print(
        "{} of {} trials find {} of the {} mistakes that all replayed find, in {:.0f} s of real time\n",
        choice.chosen, choice.of, choice.found, choice.of_found, choice.paced_s);
    fmt::print("case: {}\n", chosen.string());
  }
  return done;
}

}  // namespace zavrek::tool
