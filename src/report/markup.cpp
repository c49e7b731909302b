#include "report/markup.hpp"

#include <ctime>

#include <fmt/format.h>

#include "report/resources.hpp"

namespace zavrek::report::internal {

std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : text) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string badge(bool passed) {
  return passed ? "<span class=\"badge pass\">pass</span>" : "<span class=\"badge fail\">fail</span>";
}

std::string now_text() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02} UTC", parts.tm_year + 1900, parts.tm_mon + 1,
                     parts.tm_mday, parts.tm_hour, parts.tm_min);
}

namespace {

std::string row_of(std::string_view what, const std::string& value) {
  return value.empty() ? "" : fmt::format("<tr><th>{}</th><td>{}</td></tr>\n", what, value);
}

}  // namespace

std::string provenance_block(const std::optional<Provenance>& provenance) {
  if (!provenance) return {};
  const Provenance& p = *provenance;
  std::string allowed;
  for (const std::string& one : p.allowed) allowed += (allowed.empty() ? "" : "<br>") + escaped(one);
  std::string s = "<table class=\"provenance\"><tbody>\n" + row_of("tested", escaped(p.place)) +
                  row_of("by", escaped(p.tested_by)) + row_of("when", escaped(p.when)) +
                  row_of("with", "zavrek " + escaped(p.version)) + row_of("on", escaped(p.machine)) +
                  row_of("time", escaped(p.time_source)) + row_of("deviations allowed", allowed);
  for (const Provenance::Tested& one : p.tested) {
    std::string text = escaped(one.model.empty() ? one.where : one.model + ", " + one.where);
    if (!one.serial.empty()) text += ", serial number " + escaped(one.serial);
    text += "<br>settings " + escaped(one.settings);
    if (!one.sha256.empty()) text += fmt::format(" <code title=\"SHA-256\">{}</code>", one.sha256);
    if (!one.approved.empty()) text += "<br>judged by the settings in " + escaped(one.approved);
    s += row_of(escaped(one.name), text);
  }
  return s + "</tbody></table>\n";
}

std::string signatures(const std::optional<Provenance>& provenance) {
  if (!provenance) return {};
  return "<section class=\"signatures\"><p>Tested by</p><p>Witnessed by</p><p>Approved by</p></section>\n";
}

std::string causes_list(const std::vector<trial::Explanation>& causes, const std::string& of_what) {
  constexpr std::size_t likeliest = 5;
  if (causes.empty()) return {};
  std::string s = "<h2>What would explain it</h2>\n<ul>\n";
  for (std::size_t k = 0; k < causes.size() && k < likeliest; ++k)
    s += fmt::format("<li>{}: explains {} of {} {}</li>\n", escaped(causes[k].words()), causes[k].explained,
                     causes[k].of, of_what);
  return s + "</ul>\n";
}

std::string page_head(const std::string& title) {
  return "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n<meta name=\"viewport\" "
         "content=\"width=device-width, initial-scale=1\">\n<title>" +
         escaped(title) + "</title>\n<style>\n" + std::string(uplot_css) + std::string(report_css) +
         "</style></head><body>\n";
}

std::string figure_block(const std::string& svg) {
  // Its own markup, without the XML heading that may not stand inside a page.
  const std::size_t at = svg.find("<svg");
  if (at == std::string::npos) return "";
  return "<div class=\"figure\">" + svg.substr(at) +
         "</div>\n<p class=\"hint\">Drag a frame to look closer, or turn the wheel with Ctrl held; "
         "double-click "
         "for all.</p>\n";
}

std::string page_end(const std::string& data) {
  std::string s;
  if (!data.empty())
    s += "<script>\n" + std::string(uplot_js) +
         "\n</script>\n<script>\nconst programme = " + for_script(data) + ";\n</script>\n";
  return s + "<script>\n" + std::string(charts_js) + "</script>\n</body></html>\n";
}

std::string for_script(std::string json) {
  // "</" could end a script element early, "<!--" with "<script" make it go on to the end of the page.
  for (std::size_t at = 0; (at = json.find('<', at)) != std::string::npos; at += 6)
    json.replace(at, 1, "\\u003c");
  return json;
}

}  // namespace zavrek::report::internal
