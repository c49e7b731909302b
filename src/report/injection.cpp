// Element tests as a page and as CSV.
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "report/markup.hpp"
#include "report/resources.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::badge;
using internal::csv_field;
using internal::escaped;

std::string shown(double value, const std::string& unit) {
  if (!std::isfinite(value)) return "never";
  if (unit.empty()) return fmt::format("{:.4g}", value);
  return unit == "s" ? fmt::format("{:.3f} s", value) : print_rounded(value, unit, 4);
}

std::string shown_band(double low, double high, const std::string& unit) {
  if (!std::isfinite(low)) return "never";
  if (!std::isfinite(high)) return shown(low, unit) + " or later, or never";
  return low == high ? shown(low, unit) : shown(low, unit) + " to " + shown(high, unit);
}

std::string injection_csv(const trial::InjectionReport& report) {
  std::string out = "function,test,quantity,by,expected,low,high,measured,unit,judged,passed\n";
  const auto number = [](double v) { return std::isfinite(v) ? fmt::format("{:.6g}", v) : std::string(); };
  for (const auto& p : report.points) {
    out += fmt::format("{},{},{},{},{},{},{},{},{},{},{}\n", csv_field(p.function), p.test,
                       csv_field(p.quantity), csv_field(p.by), number(p.expected), number(p.low),
                       number(p.high), number(p.measured), p.unit, p.judged ? 1 : 0, p.passed ? 1 : 0);
  }
  for (const auto& b : report.boundaries) {
    for (const auto& ray : b.rays) {
      out +=
          fmt::format("{},boundary {},\"{:.5g} + j {:.5g}\",,,,,\"{}\",,1,{}\n", csv_field(b.function),
                      b.plane, ray.expected.real(), ray.expected.imag(),
                      ray.found ? fmt::format("{:.5g} + j {:.5g}", ray.measured.real(), ray.measured.imag())
                                : std::string(),
                      ray.passed ? 1 : 0);
    }
  }
  return out;
}

std::string injection_page(const trial::InjectionReport& report, const std::string& figure,
                           const std::optional<Provenance>& provenance) {
  const auto passed =
      std::count_if(report.points.begin(), report.points.end(), [](const auto& p) { return p.passed; });
  std::string s = internal::page_head("Element tests of " + report.settings.name);
  s += fmt::format(
      "<header><h1>Element tests of {}</h1><p class=\"facts\">{}, {:.0f} s injected{}.</p><p class=\"verdict "
      "{}\">{} of {} points passed, {} of {} boundaries</p></header>\n<main>\n",
      escaped(report.settings.name), internal::now_text(), report.injected_s,
      report.medium.empty() ? " into a relay in this process" : " over " + escaped(report.medium),
      report.passed() ? "pass" : "fail", passed, report.points.size(),
      std::count_if(report.boundaries.begin(), report.boundaries.end(),
                    [](const auto& b) { return b.passed(); }),
      report.boundaries.size());
  s += internal::provenance_block(provenance);
  if (!report.failure.empty()) s += "<p class=\"failure\">" + escaped(report.failure) + "</p>\n";
  s += internal::causes_list(report.causes, "observations");
  for (const std::string& warning : report.warnings) s += "<p class=\"facts\">" + escaped(warning) + "</p>\n";
  s += "<table><thead><tr><th>function</th><th>test</th><th>injected</th><th>operates first</th><th "
       "class=\"number\">expected</th><th class=\"number\">allowed</th><th "
       "class=\"number\">measured</th><th></th></tr></thead><tbody>\n";
  for (const auto& p : report.points) {
    s += fmt::format(
        "<tr><td>{}</td><td>{}</td><td>{}</td><td>{}</td><td class=\"number\">{}</td><td "
        "class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n",
        escaped(p.function), escaped(p.test), escaped(p.quantity), escaped(p.by), shown(p.expected, p.unit),
        shown_band(p.low, p.high, p.unit), shown(p.measured, p.unit),
        p.judged ? badge(p.passed) : "not judged");
  }
  for (const auto& b : report.boundaries) {
    s += fmt::format(
        "<tr><td>{}</td><td>boundary</td><td>{}, {} rays</td><td></td><td></td><td></td><td>worst {} "
        "of the tolerance</td><td>{}</td></tr>\n",
        escaped(b.function), escaped(b.plane), b.rays.size(),
        std::isfinite(b.worst) ? fmt::format("{:.0f} %", 100 * b.worst) : "beyond the search",
        badge(b.passed()));
  }
  s += "</tbody></table>\n";
  if (report.kept.paced) s += "<p class=\"facts\">" + escaped(to_string(report.kept)) + "</p>\n";
  if (!report.accounts.empty())
    s += "<pre>" + escaped(bench::to_string(report.accounts, report.step_s)) + "</pre>\n";
  return s + internal::figure_block(figure) + internal::signatures(provenance) + "</main>\n" +
         internal::page_end();
}

}  // namespace zavrek::report
