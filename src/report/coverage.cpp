// What a programme, or element tests, would find.
#include <fmt/format.h>

#include "report/markup.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {
namespace {

using internal::escaped;

std::string setting_of(const trial::CoverageRow& row) {
  return row.device.empty() ? row.what : row.device + " " + row.what;
}

std::string joined(const std::vector<std::string>& texts) {
  std::string all;
  for (const std::string& text : texts) all += (all.empty() ? "" : ", ") + text;
  return all;
}

}  // namespace

std::vector<trial::CoverageRow> coverage_rows(const trial::Coverage& coverage) {
  std::vector<trial::CoverageRow> rows;
  for (const trial::CoverageRow& row : coverage.rows) {
    if (row.amounts.empty()) continue;
    const bool same = !rows.empty() && !rows.back().found() && !row.found() &&
                      rows.back().device == row.device && rows.back().what == row.what;
    if (!same) {
      rows.push_back(row);
      continue;
    }
    rows.back().amounts.insert(rows.back().amounts.end(), row.amounts.begin(), row.amounts.end());
    rows.back().found_from = rows.back().amounts.size();
  }
  return rows;
}

std::string found_words(const trial::CoverageRow& row) {
  if (!row.found()) return joined(row.amounts);
  return row.amounts.size() == 1 ? "found" : "found from " + row.from + " on";
}

std::string coverage_summary(const trial::Coverage& coverage) {
  return fmt::format("{} of {} mistakes are found: {:.1f} %", coverage.found(), coverage.mistakes(),
                     100 * coverage.share());
}

std::string coverage_page(const trial::Coverage& coverage, const std::string& title) {
  std::string s = internal::page_head("Coverage of " + title);
  s += fmt::format(
      "<header><h1>Coverage of {}</h1><p class=\"facts\">{}; {} of {} trials, replayed with each setting and "
      "each "
      "wire made wrong until one of them fails.</p><p class=\"verdict {}\">{}</p></header>\n<main>\n",
      escaped(title), internal::now_text(), coverage.trials, coverage.of,
      coverage.found() == coverage.mistakes() ? "pass" : "fail", escaped(coverage_summary(coverage)));
  if (!coverage.left_out.empty())
    s += "<p class=\"facts\">left out, for they fail as the case stands: " +
         escaped(joined(coverage.left_out)) + "</p>\n";
  s += "<table><thead><tr><th>setting or wire</th><th>approved</th><th>made wrong by</th><th>found</th>"
       "<th>first found by</th></tr></thead><tbody>\n";
  const std::vector<trial::CoverageRow> rows = coverage_rows(coverage);
  // What nothing finds stands first: it is what to write trials for.
  for (const bool found : {false, true}) {
    for (const trial::CoverageRow& row : rows) {
      if (row.found() != found) continue;
      s += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td><td>{}</td><td>{}</td></tr>\n",
                       escaped(setting_of(row)), escaped(row.before), escaped(joined(row.amounts)),
                       found ? escaped(found_words(row)) : "<span class=\"badge fail\">never</span>",
                       escaped(row.by));
    }
  }
  return s + "</tbody></table>\n</main>\n" + internal::page_end();
}

std::string coverage_csv(const trial::Coverage& coverage) {
  std::string s = "device,setting,approved,amounts,found_from,by\n";
  for (const trial::CoverageRow& row : coverage.rows)
    s += fmt::format("{},{},{},{},{},{}\n", internal::csv_field(row.device), internal::csv_field(row.what),
                     internal::csv_field(row.before), internal::csv_field(joined(row.amounts)),
                     internal::csv_field(row.found() ? row.from : "never"), internal::csv_field(row.by));
  return s;
}

}  // namespace zavrek::report
