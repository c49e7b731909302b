#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "report/markup.hpp"
#include "report/resources.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {
namespace {

using internal::badge;
using internal::escaped;
using nlohmann::json;

std::string base64(std::string_view bytes) {
  constexpr char letters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  for (std::size_t k = 0; k < bytes.size(); k += 3) {
    const auto at = [&](std::size_t j) {
      return j < bytes.size() ? static_cast<unsigned char>(bytes[j]) : 0U;
    };
    const unsigned word = at(k) << 16 | at(k + 1) << 8 | at(k + 2);
    for (std::size_t j = 0; j < 4; ++j) {
      out += k + j <= bytes.size() ? letters[word >> (18 - 6 * j) & 63U] : '=';
    }
  }
  return out;
}

/// Sixteen bits a sample are plenty for the eye and keep the page small.
json packed(const record::Analog& analog) {
  double peak = 0;
  for (const double sample : analog.samples) peak = std::max(peak, std::abs(sample));
  const double scale = peak > 0 ? peak / 32767 : 1;
  std::string bytes;
  for (const double sample : analog.samples) {
    const auto units = static_cast<std::int16_t>(std::lround((std::isfinite(sample) ? sample : 0) / scale));
    bytes += static_cast<char>(units & 0xFF);
    bytes += static_cast<char>(units >> 8 & 0xFF);
  }
  return {{"name", analog.name}, {"scale", scale}, {"data", base64(bytes)}};
}

/// Times count from `zero_s`, as those of the verdicts do.
json waveforms(const record::Record& record, double zero_s, bool faulted,
               const std::vector<std::string>& first) {
  json out{{"rate", record.rate_Hz},
           {"count", record.time_s.size()},
           {"start", (record.time_s.empty() ? 0 : record.time_s.front()) - zero_s},
           {"zero", faulted ? "inception" : "t = 0"}};
  out["panels"] = json::array();
  for (const Panel& panel : panels_of(record, first)) {
    json signals = json::array();
    for (const record::Analog* analog : panel.analogs) signals.push_back(packed(*analog));
    out["panels"].push_back({{"title", panel.title}, {"unit", panel.unit}, {"signals", signals}});
  }
  out["binaries"] = json::array();
  for (const record::Binary& binary : states_of(record)) {
    json changes = json::array();
    for (std::size_t k = 1; k < binary.samples.size(); ++k) {
      if (binary.samples[k] != binary.samples[k - 1]) changes.push_back(record.time_s[k] - zero_s);
    }
    out["binaries"].push_back({{"name", binary.name},
                               {"first", !binary.samples.empty() && binary.samples[0]},
                               {"changes", changes}});
  }
  out["states"] = json::array();
  for (const NamedStates& named : named_states_of(record)) {
    json from = json::array();
    for (const auto& [time_s, state] : named.from) from.push_back({time_s - zero_s, state});
    out["states"].push_back({{"name", named.name}, {"from", from}});
  }
  out["events"] = json::array();
  for (const record::Event& event : record.events)
    out["events"].push_back({{"time", event.time_s - zero_s}, {"text", event.text}});
  return out;
}

std::string badge_of(const trial::TrialResult& result) {
  return result.not_judged.empty() ? badge(result.passed()) : "<span class=\"badge void\">not judged</span>";
}

std::string verdict_rows(std::size_t number, const trial::TrialResult& result) {
  std::string rows;
  for (std::size_t k = 0; k < result.verdicts.size(); ++k) {
    const trial::Verdict& v = result.verdicts[k];
    rows += fmt::format(
        "<tr id=\"verdict{0}.{1}\"><td class=\"number\">{0}.{1}</td><td>{2}</td><td>{3}</td><td>{4}</td><td "
        "class=\"number\">{5}</td><td>{6}</td></tr>\n",
        number, k + 1, escaped(v.expectation),
        escaped(v.expected) +
            (v.held_back.empty() ? "" : "<div class=\"muted\">" + escaped(v.held_back) + "</div>") +
            (v.doubt.empty() ? "" : "<div class=\"muted\">in doubt: " + escaped(v.doubt) + "</div>"),
        escaped(v.measured), escaped(v.margin),
        !result.not_judged.empty() ? badge_of(result)
        : v.at_edge()
            ? fmt::format("<span class=\"badge void\">{} at the edge</span>", v.passed ? "pass" : "fail")
            : badge(v.passed));
  }
  return rows;
}

std::string fault_text(const trial::Trial& trial) {
  if (!trial.fault) return "no fault";
  const network::Fault& fault = trial.fault->fault;
  std::string place = "on " + fault.on;
  if (network::is_set(fault.at)) place = fmt::format("at {} of {}", print_quantity(fault.at, "%"), fault.on);
  std::string joined;
  for (const trial::Disturbance& next : trial.evolves) {
    joined += fmt::format("; after {} {} for {}", print_quantity(next.after_s, "ms"), next.fault.phases,
                          print_quantity(next.lasts_s, "s"));
  }
  return fmt::format(
      "{} {}, {}, inception {}, lasts {}{}", fault.phases, place, print_quantity(fault.resistance_ohm, "ohm"),
      print_quantity(trial.fault->inception_rad, "deg"), print_quantity(trial.fault->lasts_s, "s"), joined);
}

std::string trial_section(std::size_t number, const trial::Trial& trial, const trial::TrialResult& result,
                          bool with_waves, const std::string& stem) {
  std::string s = fmt::format(
      "<section class=\"trial\" id=\"trial{0}\"><h2>{0}. {1} {2}</h2>\n<p class=\"facts\">{3}</p>\n", number,
      escaped(result.name), badge_of(result), escaped(fault_text(trial)));
  if (!result.not_judged.empty())
    s += "<p class=\"failure\">Not judged: " + escaped(result.not_judged) + "</p>\n";
  if (!result.failure.empty()) s += "<p class=\"failure\">" + escaped(result.failure) + "</p>\n";
  if (result.fault_current_A > 0) {
    s += fmt::format("<p class=\"facts\">Inception at {:.4f} s. Fault current {} rms.</p>\n",
                     result.inception_s, print_rounded(result.fault_current_A, "A"));
  }
  s += "<table><thead><tr><th "
       "class=\"number\">no.</th><th>expectation</th><th>expected</th><th>measured</th><th "
       "class=\"number\">margin</th><th></th></tr></thead><tbody>\n" +
       verdict_rows(number, result) + "</tbody></table>\n";
  if (!result.findings.empty()) {
    s += "<ul class=\"facts\">\n";
    for (const trial::Explanation& e : result.findings) s += "<li>" + escaped(e.words()) + "</li>\n";
    s += "</ul>\n";
  }
  if (with_waves)
    s += fmt::format("<div class=\"waves\" data-trial=\"{}\"></div>\n", number);
  else if (!stem.empty())
    s += fmt::format(
        "<p class=\"facts\">Waveforms: <a href=\"{0}.png\">figure</a>, <a href=\"{0}.cfg\">record</a></p>\n",
        escaped(stem));
  s += "<details><summary>Timing and wire</summary><pre>" +
       escaped(to_string(result.timing) +
               (result.accounts.empty() ? "" : "\n" + bench::to_string(result.accounts, result.step_s)));
  if (!result.medium.empty()) s += "\n  wire: " + escaped(result.medium);
  for (const auto* list : {&result.notes, &result.remarks}) {
    for (const std::string& note : *list) s += "\n  note: " + escaped(note);
  }
  return s + "</pre></details></section>\n";
}

std::string summary_table(const std::vector<trial::TrialResult>& results) {
  std::string s =
      "<table class=\"summary\"><thead><tr><th></th><th>trial</th><th>verdicts</th><th "
      "class=\"number\">fault current</th><th></th></tr></thead><tbody>\n";
  for (std::size_t k = 0; k < results.size(); ++k) {
    const auto& r = results[k];
    const auto passed =
        std::count_if(r.verdicts.begin(), r.verdicts.end(), [](const auto& v) { return v.passed; });
    s += fmt::format(
        "<tr><td class=\"number\">{0}</td><td><a href=\"#trial{0}\">{1}</a></td><td>{2} of {3}</td><td "
        "class=\"number\">{4}</td><td>{5}</td></tr>\n",
        k + 1, escaped(r.name), passed, r.verdicts.size(),
        r.fault_current_A > 0 ? print_rounded(r.fault_current_A, "A", 3) : "", badge_of(r));
  }
  return s + "</tbody></table>\n";
}

std::string changes_block(const std::vector<Change>& changes) {
  if (changes.empty()) return "<h2>Since the earlier run</h2>\n<p class=\"facts\">Nothing changed.</p>\n";
  std::string s =
      "<h2>Since the earlier "
      "run</h2>\n<table><thead><tr><th></th><th>trial</th><th>expectation</th><th>then</th>"
      "<th>now</th></tr></thead><tbody>\n";
  for (const Change& change : changes)
    s += fmt::format("<tr><td>{}</td><td>{}</td><td>{}</td><td>{}</td><td>{}</td></tr>\n", words(change.kind),
                     escaped(change.trial), escaped(change.expectation), escaped(change.before),
                     escaped(change.now));
  return s + "</tbody></table>\n";
}

/// A page of more trials than `all` opens at once only when the waveforms of a few stand in it: of the first,
/// and of those that did not pass.
constexpr std::size_t all_with_waves = 60, first_with_waves = 12;
bool shows_waves(std::size_t k, const std::vector<trial::TrialResult>& results, const TrialPage& with) {
  return with.stems.empty() || results.size() <= all_with_waves || k < first_with_waves ||
         !results[k].passed();
}

}  // namespace

std::string html_report(const trial::Case& all, const std::vector<trial::TrialResult>& results,
                        const TrialPage& with) {
  const auto passed = std::count_if(results.begin(), results.end(), [](const auto& r) { return r.passed(); });
  const auto unjudged =
      std::count_if(results.begin(), results.end(), [](const auto& r) { return !r.not_judged.empty(); });
  const bool well = passed == static_cast<std::ptrdiff_t>(results.size());
  json data = json::array();
  std::string sections;
  for (std::size_t k = 0; k < results.size(); ++k) {
    const auto trial = std::find_if(all.trials.begin(), all.trials.end(),
                                    [&](const auto& t) { return t.name == results[k].name; });
    const bool waves = shows_waves(k, results, with);
    const bool faulted = trial != all.trials.end() && trial->fault;
    sections += trial_section(k + 1, trial == all.trials.end() ? trial::Trial{} : *trial, results[k], waves,
                              k < with.stems.size() ? with.stems[k] : "");
    data.push_back(waves ? waveforms(results[k].record, results[k].inception_s, faulted,
                                     judged_signals(all, results[k].name))
                         : json());
  }
  std::string page = internal::page_head(all.network.title);
  page += fmt::format(
      "<header><h1>{}</h1><p class=\"facts\">Trial report of {}, {}. Step {}.</p><p class=\"verdict {}\">{} "
      "of {} trials passed{}</p></header>\n",
      escaped(all.network.title), escaped(all.folder.filename().string()), internal::now_text(),
      print_rounded(all.network.step_s, "s"), well ? "pass" : "fail", passed, results.size(),
      unjudged > 0 ? fmt::format(", {} could not be judged", unjudged) : std::string());
  page += "<main>\n" + internal::provenance_block(with.provenance) + summary_table(results) +
          (with.changes ? changes_block(*with.changes) : std::string()) +
          internal::causes_list(with.causes, "verdicts") + sections + internal::signatures(with.provenance) +
          "</main>\n";
  page += "<script>\n" + std::string(internal::uplot_js) +
          "\n</script>\n<script>\nconst trials = " + internal::for_script(data.dump()) + ";\n" +
          std::string(internal::report_js) + "</script>\n</body></html>\n";
  return page;
}

}  // namespace zavrek::report
