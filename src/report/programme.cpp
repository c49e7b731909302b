// The report of a programme: what a manager reads in a minute, then every verdict that failed.
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "report/gnuplot.hpp"
#include "report/markup.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::badge;
using internal::colours;
using internal::escaped;
using internal::frame;
using trial::StoredTrial;
using trial::Verdict;

namespace {

constexpr std::size_t most_listed = 200;
constexpr std::size_t most_panels = 4;
constexpr std::size_t most_series = 6;
constexpr std::size_t worst_listed = 15;
constexpr std::size_t likeliest = 5;  // explanations shown
constexpr double beside = 1.1;        // between series, in units of the axis

const std::string* value_of(const StoredTrial& trial, const std::string& field) {
  for (const auto& [name, value] : trial.fields) {
    if (name == field) return &value;
  }
  return nullptr;
}

/// In SI units; empty for a text that is no quantity.
std::optional<double> number_of(const std::string* text) {
  if (!text) return std::nullopt;
  try {
    return parse_quantity(*text).value;
  } catch (const Error&) {
    return std::nullopt;
  }
}

/// The fields that are varied with numbers, the place of the fault first, its resistance next.
std::vector<std::string> numeric_fields(const std::vector<const StoredTrial*>& trials) {
  std::map<std::string, std::set<double>> values;
  for (const StoredTrial* trial : trials) {
    for (const auto& [field, text] : trial->fields) {
      if (const auto number = number_of(&text)) values[field].insert(*number);
    }
  }
  std::vector<std::string> fields;
  for (const auto& [field, several] : values) {
    if (several.size() > 1) fields.push_back(field);
  }
  const auto rank = [](const std::string& f) {
    return f == "fault.at" ? 0 : f == "fault.resistance" ? 1 : 2;
  };
  std::stable_sort(fields.begin(), fields.end(),
                   [&](const auto& a, const auto& b) { return rank(a) < rank(b); });
  return fields;
}

/// Places on several elements one behind the other, in the order in which they first appear.
struct PlaceAxis {
  std::vector<std::string> elements;
  [[nodiscard]] double offset(const StoredTrial& trial) {
    const std::string* on = value_of(trial, "fault.on");
    if (!on) return 0;
    auto at = std::find(elements.begin(), elements.end(), *on);
    if (at == elements.end()) at = elements.insert(elements.end(), *on);
    return static_cast<double>(at - elements.begin());
  }
};

struct Dot {
  double x, y;
  long long trial;  // number
};
struct Scatter {
  std::string title, x_label;
  std::vector<std::pair<std::string, std::vector<Dot>>> series;
};

/// Measured times of one expectation over the first varied field, one series for each value of the second.
Scatter panel_of(const std::string& expectation, const std::vector<const StoredTrial*>& trials,
                 const std::vector<std::string>& fields) {
  Scatter panel{expectation, fields.empty() ? "trial" : fields.front(), {}};
  PlaceAxis places;
  std::map<std::string, std::size_t> known;
  for (const StoredTrial* trial : trials) {
    for (const Verdict& v : trial->verdicts) {
      if (v.expectation != expectation || !std::isfinite(v.value)) continue;
      double x = static_cast<double>(trial->number);
      if (!fields.empty()) x = number_of(value_of(*trial, fields.front())).value_or(0);
      if (!fields.empty() && fields.front() == "fault.at") x = 100 * (x + places.offset(*trial));
      const std::string* second = fields.size() > 1 ? value_of(*trial, fields[1]) : nullptr;
      const std::string name = second ? *second : "";
      if (!known.contains(name)) {
        known[name] = panel.series.size();
        panel.series.push_back({fields.size() > 1 ? fields[1] + " " + name : "", {}});
      }
      panel.series[known[name]].second.push_back({x, v.value, trial->number});
    }
  }
  if (!fields.empty() && fields.front() == "fault.at") {
    panel.x_label = "fault place (%)";
    if (places.elements.size() > 1) {
      panel.x_label += ": " + places.elements.front();
      for (std::size_t k = 1; k < places.elements.size(); ++k)
        panel.x_label += fmt::format(", from {} on {}", 100 * k, places.elements[k]);
    }
  }
  // Too many values of a continuous field are drawn as one cloud.
  if (panel.series.size() > most_series) {
    std::vector<Dot> together;
    for (const auto& [name, points] : panel.series)
      together.insert(together.end(), points.begin(), points.end());
    panel.series = {{"", std::move(together)}};
  }
  return panel;
}

std::vector<std::pair<std::string, long long>> expectations_of(
    const std::vector<const StoredTrial*>& trials) {
  std::vector<std::pair<std::string, long long>> counts;
  for (const StoredTrial* trial : trials) {
    for (const Verdict& v : trial->verdicts) {
      if (!std::isfinite(v.value)) continue;
      const auto at =
          std::find_if(counts.begin(), counts.end(), [&](const auto& c) { return c.first == v.expectation; });
      if (at == counts.end()) {
        counts.emplace_back(v.expectation, 1);
      } else {
        ++at->second;
      }
    }
  }
  return counts;
}

std::vector<const StoredTrial*> of_sweep(const std::vector<StoredTrial>& trials, const std::string& sweep) {
  std::vector<const StoredTrial*> found;
  for (const StoredTrial& trial : trials) {
    if (sweep.empty() || trial.sweep == sweep) found.push_back(&trial);
  }
  return found;
}

std::vector<std::string> sweeps_of(const std::vector<StoredTrial>& trials) {
  std::vector<std::string> names;
  for (const StoredTrial& trial : trials) {
    if (std::find(names.begin(), names.end(), trial.sweep) == names.end()) names.push_back(trial.sweep);
  }
  return names;
}

std::vector<Scatter> panels_of(const std::vector<StoredTrial>& trials) {
  std::vector<Scatter> panels;
  for (const std::string& sweep : sweeps_of(trials)) {
    const auto those = of_sweep(trials, sweep);
    for (const auto& [expectation, count] : expectations_of(those)) {
      if (panels.size() == most_panels || count <= 2) continue;
      panels.push_back(panel_of(expectation, those, numeric_fields(those)));
      panels.back().title = expectation + ": " + sweep;
    }
  }
  return panels;
}

/// How near the verdicts came to the edge of their tolerances: per cent left in the middle of each bin, and
/// how many lie in it.
std::vector<std::pair<double, long long>> margins_of(const std::vector<StoredTrial>& trials) {
  constexpr int bins = 30;
  std::vector<long long> counts(bins + 1, 0);
  for (const StoredTrial& trial : trials) {
    for (const Verdict& v : trial.verdicts) {
      if (!std::isfinite(v.left)) continue;
      // From -50 % (beyond the edge) to 100 % (in the middle).
      const double clipped = std::clamp(v.left, -0.5, 1.0);
      ++counts[static_cast<std::size_t>((clipped + 0.5) / 1.5 * bins)];
    }
  }
  std::vector<std::pair<double, long long>> margins;
  for (int k = 0; k <= bins; ++k)
    margins.emplace_back(100 * (-0.5 + 1.5 * (k + 0.5) / bins), counts[static_cast<std::size_t>(k)]);
  return margins;
}

/// What the page's charts show.
std::string chart_data(const std::vector<StoredTrial>& trials) {
  using nlohmann::json;
  json panels = json::array();
  for (const Scatter& panel : panels_of(trials)) {
    json series = json::array();
    for (const auto& [name, dots] : panel.series) {
      json points = json::array();
      for (const Dot& dot : dots) points.push_back({dot.x, dot.y, dot.trial});
      series.push_back({{"name", name}, {"points", std::move(points)}});
    }
    panels.push_back({{"title", panel.title}, {"x", panel.x_label}, {"series", std::move(series)}});
  }
  json names = json::object();
  for (const StoredTrial& trial : trials) names[std::to_string(trial.number)] = trial.name;
  json at = json::array(), counts = json::array();
  for (const auto& [middle, count] : margins_of(trials)) {
    at.push_back(middle);
    counts.push_back(count);
  }
  return json{{"panels", panels}, {"names", names}, {"margins", {{"at", at}, {"counts", counts}}}}.dump();
}

std::string listed(const StoredTrial& trial) {
  std::string why = trial.failure;
  for (const Verdict& v : trial.verdicts) {
    if (v.passed) continue;
    if (!why.empty()) why += "; ";
    why += fmt::format("{}: expected {}, measured {}", v.expectation, v.expected, v.measured);
  }
  return why;
}

}  // namespace

void draw_programme(const std::vector<StoredTrial>& trials, const std::string& title,
                    const std::filesystem::path& path) {
  internal::require_figure(path, trials.size() + 1);
  const std::vector<Scatter> panels = panels_of(trials);
  const std::size_t rows = (panels.size() + 2) / 2;
  std::string s = internal::terminal(path, 60 + 350 * static_cast<double>(rows));
  for (std::size_t p = 0; p < panels.size(); ++p) {
    for (std::size_t k = 0; k < panels[p].series.size(); ++k) {
      s += fmt::format("$p{}_{} << EOD\n", p, k);
      // Side by side, so that no series hides another.
      const double aside =
          beside * (static_cast<double>(k) - static_cast<double>(panels[p].series.size() - 1) / 2);
      for (const Dot& dot : panels[p].series[k].second)
        s += fmt::format("{:.6g} {:.6g}\n", dot.x + aside, dot.y);
      s += "EOD\n";
    }
  }
  s += "$margins << EOD\n";
  for (const auto& [middle, count] : margins_of(trials)) s += fmt::format("{:.4f} {}\n", middle, count);
  s += "EOD\n";
  s += fmt::format("set multiplot layout {},2 title {} noenhanced font ',14'\n{}", rows,
                   internal::quoted(title), frame);
  s += "set rmargin 4\nset bmargin 6.5\nset key below center horizontal noenhanced font ',9'\n";
  for (std::size_t p = 0; p < panels.size(); ++p) {
    s += fmt::format(
        "set title {} noenhanced\nset xlabel {} noenhanced\nset ylabel 'measured (s)'\nset yrange "
        "[0:*]\nplot ",
        internal::quoted(panels[p].title), internal::quoted(panels[p].x_label));
    for (std::size_t k = 0; k < panels[p].series.size(); ++k) {
      s += fmt::format("{}$p{}_{} using 1:2 with points pt 7 ps 0.45 lc rgb '{}' {}", k ? ", " : "", p, k,
                       colours[k % std::size(colours)],
                       panels[p].series[k].first.empty()
                           ? "notitle"
                           : "title " + internal::quoted(panels[p].series[k].first));
    }
    s += "\n";
  }
  s += fmt::format(
      "set title 'margins of all verdicts with a tolerance'\nset xlabel 'left of the tolerance (%): 100 in "
      "its middle, "
      "below 0 failed'\nset ylabel 'verdicts'\nset yrange [0:*]\nset boxwidth 4.6\nset style fill solid "
      "0.6\nplot $margins using "
      "1:($1<0?$2:1/0) with boxes lc rgb '{}' notitle, $margins using 1:($1>=0?$2:1/0) with boxes lc rgb "
      "'{}' notitle\n",
      colours[0], colours[1]);
  internal::run_gnuplot(s + "unset multiplot\n", path);
}

std::string finding_words(const trial::Finding& finding) {
  return finding.of > 0
             ? fmt::format("{}: explains {} of {} verdicts", finding.text, finding.explained, finding.of)
             : fmt::format("{}: explains {} of the trials that failed", finding.text, finding.explained);
}

std::string programme_page(const std::string& title, const std::vector<StoredTrial>& trials,
                           long long planned, const std::vector<trial::Finding>& found,
                           const std::optional<Provenance>& provenance) {
  const bool missing = static_cast<long long>(trials.size()) < planned;
  const auto passed = std::count_if(trials.begin(), trials.end(), [](const auto& t) { return t.passed; });
  const bool well = passed == static_cast<std::ptrdiff_t>(trials.size());
  const double simulated = std::accumulate(trials.begin(), trials.end(), 0.0,
                                           [](double sum, const auto& t) { return sum + t.simulated_s; });
  const double spent = std::accumulate(trials.begin(), trials.end(), 0.0,
                                       [](double sum, const auto& t) { return sum + t.spent_s; });
  std::string s = internal::page_head(title);
  s += fmt::format(
      "<header><h1>{}</h1><p class=\"facts\">Programme report, {}. {:.0f} s simulated in {:.0f} s of one "
      "core.</p><p "
      "class=\"verdict {}\">{} of {} trials passed{}</p></header>\n<main>\n",
      escaped(title), internal::now_text(), simulated, spent,
      !well     ? "fail"
      : missing ? "void"
                : "pass",
      passed, trials.size(), missing ? fmt::format("; {} planned", planned) : std::string());
  s += internal::provenance_block(provenance);
  s += "<table class=\"summary\"><thead><tr><th>sweep</th><th class=\"number\">trials</th><th "
       "class=\"number\">failed</th><th class=\"number\">least margin</th><th></th></tr></thead><tbody>\n";
  for (const std::string& sweep : sweeps_of(trials)) {
    const auto those = of_sweep(trials, sweep);
    const auto failed = std::count_if(those.begin(), those.end(), [](const auto* t) { return !t->passed; });
    double least = INFINITY;
    for (const StoredTrial* t : those) {
      for (const Verdict& v : t->verdicts) {
        if (std::isfinite(v.left)) least = std::min(least, v.left);
      }
    }
    s += fmt::format(
        "<tr><td>{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td "
        "class=\"number\">{}</td><td>{}</td></tr>\n",
        escaped(sweep), those.size(), failed,
        std::isfinite(least) ? fmt::format("{:.0f} % of the tolerance", 100 * least) : "",
        badge(failed == 0));
  }
  s += "</tbody></table>\n";
  s += "<div class=\"scatters\"></div>\n";

  struct Near {
    const StoredTrial* trial;
    const Verdict* verdict;
  };
  std::vector<Near> near;
  for (const StoredTrial& t : trials) {
    for (const Verdict& v : t.verdicts) {
      if (std::isfinite(v.left) && v.passed) near.push_back({&t, &v});
    }
  }
  std::stable_sort(near.begin(), near.end(),
                   [](const Near& a, const Near& b) { return a.verdict->left < b.verdict->left; });
  if (near.size() > worst_listed) near.resize(worst_listed);
  s += "<h2>Smallest margins that passed</h2>\n<table><thead><tr><th "
       "class=\"number\">trial</th><th>what</th><th>expectation</th><th>expected</th><th "
       "class=\"number\">measured</th><th class=\"number\">margin</th></tr></thead><tbody>\n";
  for (const Near& n : near) {
    s += fmt::format(
        "<tr><td class=\"number\">{}</td><td>{}</td><td>{}</td><td>{}</td><td class=\"number\">{}</td><td "
        "class=\"number\">{}</td></tr>\n",
        n.trial->number, escaped(n.trial->name), escaped(n.verdict->expectation),
        escaped(n.verdict->expected), escaped(n.verdict->measured), escaped(n.verdict->margin));
  }
  s += "</tbody></table>\n";
  if (!well) {
    if (!found.empty()) s += "<h2>What would explain it</h2>\n<ul>\n";
    for (std::size_t k = 0; k < found.size() && k < likeliest; ++k)
      s += fmt::format("<li>{}</li>\n", escaped(finding_words(found[k])));
    if (!found.empty()) s += "</ul>\n";
    s += "<h2>Failed</h2>\n<table><thead><tr><th "
         "class=\"number\">trial</th><th>what</th><th>why</th><th>record</th></tr></thead><tbody>\n";
    std::size_t count = 0;
    for (const StoredTrial& t : trials) {
      if (t.passed || ++count > most_listed) continue;
      const std::string link =
          t.record.empty() ? "" : fmt::format("<a href=\"{0}.cfg\">{0}</a>", escaped(t.record));
      s += fmt::format("<tr><td class=\"number\">{}</td><td>{}</td><td>{}</td><td>{}</td></tr>\n", t.number,
                       escaped(t.name), escaped(listed(t)), link);
    }
    s += "</tbody></table>\n";
    if (count > most_listed)
      s += fmt::format("<p class=\"facts\">{} more stand in the database and in trials.csv.</p>\n",
                       count - most_listed);
  }
  return s + internal::signatures(provenance) + "</main>\n" + internal::page_end(chart_data(trials));
}

std::string programme_csv(const std::vector<StoredTrial>& trials) {
  std::string s =
      "trial,sweep,name,passed,fault_current_A,late_steps,worst_late_s,expectation,expected,measured,margin,"
      "value,left,uncertain,verdict,doubt\n";
  for (const StoredTrial& t : trials) {
    const std::string late =
        t.kept.paced ? fmt::format("{},{:.6g}", t.kept.late_steps, t.kept.worst_late_s) : ",";
    const std::string front =
        fmt::format("{},{},{},{},{:.6g},{},", t.number, internal::csv_field(t.sweep),
                    internal::csv_field(t.name), t.passed ? 1 : 0, t.fault_current_A, late);
    if (t.verdicts.empty()) s += front + ",,,,,,,,\n";
    for (const Verdict& v : t.verdicts) {
      s += front + fmt::format("{},{},{},{},{},{},{},{},{}\n", internal::csv_field(v.expectation),
                               internal::csv_field(v.expected), internal::csv_field(v.measured),
                               internal::csv_field(v.margin),
                               std::isfinite(v.value) ? fmt::format("{:.6g}", v.value) : "",
                               std::isfinite(v.left) ? fmt::format("{:.4g}", v.left) : "",
                               std::isfinite(v.uncertain) ? fmt::format("{:.3g}", v.uncertain) : "",
                               v.passed ? 1 : 0, internal::csv_field(v.doubt));
    }
  }
  return s;
}

std::vector<JunitCase> programme_cases(const std::vector<StoredTrial>& trials) {
  std::vector<JunitCase> cases;
  for (const StoredTrial& t : trials)
    cases.push_back({t.sweep, fmt::format("{:06} {}", t.number, t.name), t.passed, listed(t), t.spent_s,
                     properties_of(t.kept)});
  return cases;
}

}  // namespace zavrek::report
