// Verdicts as JUnit XML.
#include <algorithm>

#include <fmt/format.h>

#include "report/markup.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::escaped;

namespace {

std::string case_of(const JunitCase& c) {
  std::string s = fmt::format("  <testcase classname=\"{}\" name=\"{}\" time=\"{:.3f}\"", escaped(c.group),
                              escaped(c.name), c.seconds);
  if (c.passed && c.properties.empty()) return s + "/>\n";
  s += ">";
  if (!c.properties.empty()) {
    s += "<properties>";
    for (const auto& [name, value] : c.properties)
      s += fmt::format("<property name=\"{}\" value=\"{}\"/>", escaped(name), escaped(value));
    s += "</properties>";
  }
  if (!c.skipped.empty())
    s += fmt::format("<skipped message=\"{}\"/>", escaped(c.skipped));
  else if (!c.passed)
    s += fmt::format("<failure message=\"{}\"/>", escaped(c.failure));
  return s + "</testcase>\n";
}

}  // namespace

std::string junit(const std::string& suite, const std::vector<JunitCase>& cases) {
  const auto failed =
      std::count_if(cases.begin(), cases.end(), [](const auto& c) { return !c.passed && c.skipped.empty(); });
  double seconds = 0;
  for (const JunitCase& c : cases) seconds += c.seconds;
  std::string s = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuite name=\"{}\" tests=\"{}\" failures=\"{}\" "
      "time=\"{:.3f}\">\n",
      escaped(suite), cases.size(), failed, seconds);
  for (const JunitCase& c : cases) s += case_of(c);
  return s + "</testsuite>\n";
}

std::vector<std::pair<std::string, std::string>> properties_of(const pace::Punctuality& kept) {
  if (!kept.paced) return {};
  return {{"steps", fmt::format("{}", kept.steps)},
          {"late_steps", fmt::format("{}", kept.late_steps)},
          {"longest_late_s", fmt::format("{:.6g}", kept.longest_late_s)},
          {"worst_late_s", fmt::format("{:.6g}", kept.worst_late_s)},
          {"held_back_s", fmt::format("{:.6g}", kept.held_back_s)}};
}

std::vector<JunitCase> trial_cases(const std::vector<trial::TrialResult>& results) {
  std::vector<JunitCase> cases;
  for (const trial::TrialResult& result : results) {
    std::string why = result.failure;
    for (const trial::Verdict& v : result.verdicts) {
      if (v.passed || !result.failure.empty()) continue;
      why += fmt::format("{}{}: expected {}, measured {}", why.empty() ? "" : "; ", v.expectation, v.expected,
                         v.measured);
    }
    cases.push_back({"trials", result.name, result.passed(), std::move(why),
                     1e-9 * static_cast<double>(result.timing.elapsed_ns),
                     properties_of(pace::punctuality(result.timing)), result.not_judged});
  }
  return cases;
}

}  // namespace zavrek::report
