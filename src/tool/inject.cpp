#include <algorithm>
#include <cmath>

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

void print_report(const trial::InjectionReport& report) {
  std::string function;
  for (const trial::InjectedPoint& p : report.points) {
    if (p.function != function) fmt::print("{}\n", p.function);
    function = p.function;
    fmt::print("     {:<4} {:<12} {:<34} expected {:<10} {:<10} measured {:<10} allowed {}{}\n",
               !p.judged  ? ""
               : p.passed ? "pass"
                          : "FAIL",
               p.test, p.quantity, report::shown(p.expected, p.unit),
               p.by == p.function ? ""
               : p.by.empty()     ? ""
                                  : "(" + p.by + ")",
               report::shown(p.measured, p.unit), report::shown_band(p.low, p.high, p.unit),
               p.judged && p.at_edge() ? ", at the edge" : "");
  }
  for (const trial::Boundary& b : report.boundaries) {
    const auto passed =
        std::count_if(b.rays.begin(), b.rays.end(), [](const auto& ray) { return ray.passed; });
    fmt::print("{}\n     {:<4} boundary {:<37} {} of {} rays within tolerance, worst {} of it\n", b.function,
               b.passed() ? "pass" : "FAIL", b.plane, passed, b.rays.size(),
               std::isfinite(b.worst) ? fmt::format("{:.0f} %", 100 * b.worst) : "beyond the search");
  }
  for (const std::string& warning : report.warnings) fmt::print("note: {}\n", warning);
  print_causes(report.causes, "observations");
  if (!report.failure.empty()) fmt::print("{}\n", report.failure);
}

nlohmann::json report_json(const trial::InjectionReport& report) {
  const auto number = [](double v) { return std::isfinite(v) ? nlohmann::json(v) : nlohmann::json(nullptr); };
  nlohmann::json points = nlohmann::json::array(), boundaries = nlohmann::json::array();
  for (const auto& p : report.points) {
    points.push_back({{"function", p.function},
                      {"test", p.test},
                      {"quantity", p.quantity},
                      {"by", p.by},
                      {"unit", p.unit},
                      {"expected", number(p.expected)},
                      {"low", number(p.low)},
                      {"high", number(p.high)},
                      {"measured", number(p.measured)},
                      {"uncertain", p.uncertain},
                      {"at_edge", p.at_edge()},
                      {"judged", p.judged},
                      {"passed", p.passed}});
  }
  for (const auto& b : report.boundaries)
    boundaries.push_back({{"function", b.function},
                          {"plane", b.plane},
                          {"rays", b.rays.size()},
                          {"worst", number(b.worst)},
                          {"passed", b.passed()}});
  return {{"relay", report.settings.name},
          {"passed", report.passed()},
          {"failure", report.failure},
          {"points", points},
          {"boundaries", boundaries},
          {"interrupted", report.interrupted},
          {"injected_s", report.injected_s},
          {"causes", causes_json(report.causes)},
          {"warnings", report.warnings},
          {"ports", ports_json(report.accounts)},
          {"real_time", punctuality_json(report.kept)}};
}

std::vector<report::JunitCase> junit_cases(const trial::InjectionReport& report) {
  std::vector<report::JunitCase> cases;
  for (const auto& p : report.points) {
    if (!p.judged) continue;
    cases.push_back({p.function, p.test + " " + p.quantity, p.passed,
                     fmt::format("expected {}, measured {}", report::shown_band(p.low, p.high, p.unit),
                                 report::shown(p.measured, p.unit)),
                     p.unit == "s" && std::isfinite(p.measured) ? p.measured : 0});
  }
  for (const auto& b : report.boundaries)
    cases.push_back({b.function, "boundary " + b.plane, b.passed(),
                     fmt::format("worst {:.2f} of the tolerance", b.worst), 0});
  return cases;
}

/// Currents at which relays are compared: from the least pickup to ten times the highest.
std::vector<double> compared_currents(const std::vector<protection::RelaySettings>& relays,
                                      const std::string& quantity) {
  double least = INFINITY, most = 0;
  for (const auto& relay : relays) {
    for (const auto* stage : relay.all<protection::Stage>()) {
      if (stage->quantity != quantity) continue;
      least = std::min(least, stage->pickup_A / relay.current_scale());
      most = std::max(most, stage->pickup_A / relay.current_scale());
    }
  }
  std::vector<double> currents;
  if (!(most > 0)) return currents;
  for (int k = 0; k <= 12; ++k) currents.push_back(1.2 * least * std::pow(8.0 * most / least, k / 12.0));
  return currents;
}

/// From the relay nearest to the load to the one behind all: each behind the one before it.
void print_grading(const std::vector<protection::RelaySettings>& relays, const std::string& quantity,
                   double least_margin_s) {
  const std::vector<double> currents = compared_currents(relays, quantity);
  if (currents.empty()) return;
  fmt::print("\n{:<14}", quantity + " current");
  for (const auto& relay : relays) fmt::print(" {:>12}", relay.name);
  for (std::size_t r = 1; r < relays.size(); ++r)
    fmt::print(" {:>16}", relays[r].name + " - " + relays[r - 1].name);
  fmt::print("\n");
  std::vector<double> worst(relays.size(), INFINITY), worst_at(relays.size(), 0);
  for (const double current : currents) {
    fmt::print("{:<14}", print_rounded(current, "A", 3));
    std::vector<double> times;
    for (const auto& relay : relays) {
      times.push_back(protection::composite_time_s(relay, quantity, current));
      fmt::print(" {:>12}", report::shown(times.back(), "s"));
    }
    for (std::size_t r = 1; r < relays.size(); ++r) {
      const double margin = times[r] - times[r - 1];
      fmt::print(" {:>16}", std::isfinite(margin) ? fmt::format("{:+.3f} s", margin) : "");
      if (std::isfinite(times[r - 1]) && margin < worst[r]) {
        worst[r] = margin;
        worst_at[r] = current;
      }
    }
    fmt::print("\n");
  }
  for (std::size_t r = 1; r < relays.size(); ++r) {
    if (!std::isfinite(worst[r])) continue;
    fmt::print(
        "{} grades over {} in {} current with {:+.3f} s at least, at {}{}\n", relays[r].name,
        relays[r - 1].name, quantity, worst[r], print_rounded(worst_at[r], "A", 3),
        worst[r] < least_margin_s ? fmt::format(": LESS than the {:.3f} s wanted", least_margin_s) : "");
  }
}

std::string setting_line(const protection::FunctionSettings& function) {
  std::string line;
  std::visit(
      [&](const auto& f) {
        const auto& fields = protection::table(&f);
        line = fmt::format("  {:<16} {:<14}", fields.kind, f.name);
        for (const network::Field& field : fields.fields) {
          const network::Value value = field.read(&f);
          std::string text;
          if (field.shape == network::Shape::quantity) {
            const double number = std::get<double>(value);
            if (network::is_set(number)) text = print_quantity(number, field.unit);
          } else if (field.shape == network::Shape::text) {
            text = std::get<std::string>(value);
          }
          if (text.empty() || text == field.standard) continue;
          line += fmt::format(" {} {},", field.name, text);
        }
        if (line.back() == ',') line.pop_back();
      },
      function);
  return line;
}

std::filesystem::path folder_of(const InjectOptions& options, const protection::RelaySettings& approved) {
  if (!options.out.empty()) return options.out;
  // What is tried in part or otherwise has a folder of its own.
  std::string name = "inject-" + approved.name;
  for (const std::string& part : {std::filesystem::path(options.plan).stem().string(),
                                  std::filesystem::path(options.record).stem().string(), options.only}) {
    if (!part.empty()) name += "-" + report::file_stem(0, part).substr(3);
  }
  return std::filesystem::path("out") / name;
}

}  // namespace

namespace {

/// Where the relay runs, and how to have it elsewhere: here it is as fast as this process.
std::string where_words(const InjectOptions& options, const std::string& name) {
  if (options.place == "plant")
    return name +
           " runs in this process, as fast as it goes (--place process: in one of its own, outside: yours)";
  return fmt::format("{} is {}, at its own pace", name, report::place_words(options.place));
}

report::Provenance provenance_of(const InjectOptions& options, const trial::InjectionOptions& how,
                                 const std::string& name) {
  const std::string approved = options.approved == options.settings ? "" : options.approved;
  std::string times = "times:";
  for (const std::string& one : how.tolerance) times += " " + one;
  return report::provenance_of({name, options.model, options.serial, report::place_words(options.place),
                                options.settings, "", approved},
                               options.site, options.tested_by,
                               {times, "values: " + print_quantity(how.value_tolerance, "%")});
}

trial::InjectionReport inject_or_play(const InjectOptions& options, const protection::RelaySettings& settings,
                                      const protection::RelaySettings& approved,
                                      trial::InjectionOptions how) {
  Telling telling(options.json);
  how.report = [&](const trial::InjectionProgress& p) {
    telling.tell(fmt::format("{}, {} of {}: {} points, {} failed, {:.0f} s injected{}", p.at, p.done + 1,
                             p.total, p.points, p.failed, p.injected_s,
                             p.done > 0 ? ", " + duration(p.left_s()) + " left" : std::string()));
  };
  if (options.record.empty()) return trial::inject(settings, approved, options.settings, how);
  trial::Playback playback =
      trial::playback_of(record::read_record(options.record), options.currents, options.voltages);
  playback.name = std::filesystem::path(options.record).stem().string();
  playback.repeat(options.loops);
  return trial::play_back(playback, settings, approved, options.settings, how);
}

}  // namespace

int inject(const InjectOptions& options) {
  const protection::RelaySettings settings = casefile::read_relay_settings(options.settings);
  const protection::RelaySettings approved =
      options.approved.empty() ? settings : casefile::read_relay_settings(options.approved);
  trial::InjectionOptions how;
  how.place = options.place;
  how.interface = options.interface;
  how.medium = options.medium;
  how.relay_program = std::filesystem::read_symlink("/proc/self/exe");
  how.name = options.name.empty() ? approved.name : options.name;
  how.goose_appid = options.goose_appid;
  how.stream_appid = options.stream_appid;
  how.frequency_Hz = parse_quantity_as(options.frequency, "Hz");
  how.only = options.only;
  how.rays = options.rays;
  if (!options.tolerance.empty()) how.tolerance = options.tolerance;
  how.value_tolerance = share("--value-tolerance", options.value_tolerance, 0, 0.5);
  how.accurate_above = options.judged_from;
  how.stop = &stop_on_signal();
  if (!options.record.empty() && (!options.plan.empty() || options.coverage))
    throw Error("--record goes without --plan and --coverage");
  trial::InjectionPlan plan;
  if (!options.plan.empty()) {
    plan = casefile::read_injection_plan(options.plan, approved);
    how.plan = &plan;
  }
  if (options.coverage) {
    how.place = "plant";
    return write_coverage(
        trial::coverage_of(approved, how, coverage_options(0, "", options.json)),
        folder_of(options, approved), "the element tests of " + approved.name,
        options.least_coverage.empty() ? 0 : share("--least-coverage", options.least_coverage), options.json);
  }
  if (!options.json) fmt::print("{}\n", where_words(options, how.name));
  std::fflush(stdout);
  const trial::InjectionReport report = inject_or_play(options, settings, approved, how);
  if (report.points.empty() && report.failure.empty() && !how.plan)
    throw Error(fmt::format("no function with \"{}\" in its name can be tested by injection", options.only));
  const std::filesystem::path out = folder_of(options, approved);
  std::string figure;
  if (!options.no_figures && !report.points.empty() &&
      report::draw_injection(report, "Element tests of " + approved.name, out / "injection.png")) {
    (void)report::draw_injection(report, "Element tests of " + approved.name, out / "injection.svg");
    figure = record::read_file(out / "injection.svg");
  }
  const report::Provenance provenance = provenance_of(options, how, approved.name);
  record::write_file(out / "report.html", report::injection_page(report, figure, provenance));
  record::write_file(out / "points.csv", report::injection_csv(report));
  record::write_file(out / "junit.xml",
                     report::junit("element tests of " + approved.name, junit_cases(report)));
  if (options.json) {
    nlohmann::json told = report_json(report);
    told["provenance"] = report::provenance_json(provenance);
    fmt::print("{}\n", printed("inject", told));
  } else {
    print_report(report);
    const auto judged =
        std::count_if(report.points.begin(), report.points.end(), [](const auto& p) { return p.judged; });
    const auto passed = std::count_if(report.points.begin(), report.points.end(),
                                      [](const auto& p) { return p.judged && p.passed; });
    const auto boundaries = std::count_if(report.boundaries.begin(), report.boundaries.end(),
                                          [](const auto& b) { return b.passed(); });
    fmt::print("\n{} of {} points and {} of {} boundaries passed, {:.0f} s injected\nreport: {}\n", passed,
               judged, boundaries, report.boundaries.size(), report.injected_s,
               (out / "report.html").string());
  }
  if (report.interrupted) return interrupted;
  return report.passed() ? done : failed_verdict;
}

int curve(const CurveOptions& options) {
  std::vector<protection::RelaySettings> relays;
  for (const std::string& file : options.settings) relays.push_back(casefile::read_relay_settings(file));
  if (options.json) {
    nlohmann::json list = nlohmann::json::array();
    for (const auto& relay : relays) {
      nlohmann::json quantities;
      for (const char* quantity : {"phase", "earth", "negative"}) {
        for (const double current : compared_currents(relays, quantity)) {
          const double time = protection::composite_time_s(relay, quantity, current);
          quantities[quantity].push_back(
              {{"primary_A", current}, {"time_s", std::isfinite(time) ? nlohmann::json(time) : nullptr}});
        }
      }
      list.push_back({{"relay", relay.name}, {"times", quantities}});
    }
    fmt::print("{}\n", printed("curve", {{"relays", list}}));
  } else {
    for (const auto& relay : relays) {
      fmt::print("{} ({} values)\n", relay.name, relay.values);
      for (const auto& function : relay.functions) fmt::print("{}\n", setting_line(function));
    }
    for (const char* quantity : {"phase", "earth", "negative"})
      print_grading(relays, quantity, positive_time("--margin", options.margin));
  }
  if (!options.figure.empty()) {
    std::string title = "Characteristics of";
    for (const auto& relay : relays) title += (&relay == &relays.front() ? " " : ", ") + relay.name;
    report::draw_characteristics(relays, title, options.figure);
    if (!options.json) fmt::print("\nfigure: {}\n", options.figure);
  }
  return done;
}

}  // namespace zavrek::tool
