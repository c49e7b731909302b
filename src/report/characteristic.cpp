// Figures of relay characteristics, and of what injection found about them.
#include <algorithm>
#include <cctype>
#include <cmath>
#include <map>
#include <numbers>

#include <fmt/format.h>

#include "report/gnuplot.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::colours;
using internal::frame;
using internal::quoted;
using protection::Phasor;
using protection::RelaySettings;
using protection::Stage;

namespace {

constexpr double row_height = 560;
constexpr int curve_points = 400;
constexpr double slowest_s = 100;
constexpr double fastest_s = 0.01;

/// One curve or set of marks of a panel.
struct Plot {
  std::vector<std::string> rows;  // "x y", or "x y low high"; empty rows break the curve
  std::string style;              // of gnuplot
  std::string title;
};
struct Axes {
  std::string title, x, y, settings;
  std::vector<Plot> plots;
};

const char* colour(std::size_t k) { return colours[k % std::size(colours)]; }

std::string lines(std::size_t k, bool dashed = false) {
  return fmt::format("with lines lw 2 lc rgb '{}'{}", colour(k), dashed ? " dt 2" : "");
}

void draw(const std::vector<Axes>& panels, const std::string& title, const std::filesystem::path& path) {
  internal::require_figure(path, panels.empty() ? 0 : curve_points);
  const std::size_t columns = panels.size() > 1 ? 2 : 1;
  const std::size_t rows = (panels.size() + columns - 1) / columns;
  std::string s = internal::terminal(path, 60 + row_height * static_cast<double>(rows));
  std::size_t block = 0;
  for (const Axes& panel : panels) {
    for (const Plot& plot : panel.plots) {
      s += fmt::format("$data{} << EOD\n", block++);
      for (const std::string& row : plot.rows) s += row + "\n";
      s += "EOD\n";
    }
  }
  s += fmt::format("set multiplot layout {},{} title {} noenhanced font ',14'\n", rows, columns,
                   quoted(title));
  s += frame;
  s += "set rmargin 4\nset bmargin 6.5\nset key below center horizontal noenhanced font ',9' samplen 2\n";
  block = 0;
  for (const Axes& panel : panels) {
    s += "unset logscale\nset autoscale\nset size noratio\n";
    s += fmt::format("set title {} noenhanced\nset xlabel {} noenhanced\nset ylabel {} noenhanced\n{}\nplot ",
                     quoted(panel.title), quoted(panel.x), quoted(panel.y), panel.settings);
    for (std::size_t k = 0; k < panel.plots.size(); ++k) {
      const Plot& plot = panel.plots[k];
      s += fmt::format("{}$data{} {} {}", k ? ", " : "", block++, plot.style,
                       plot.title.empty() ? "notitle" : "title " + quoted(plot.title));
    }
    s += "\n";
  }
  internal::run_gnuplot(s + "unset multiplot\n", path);
}

/// A curve of times over current; empty where there is none. The step down to a faster stage is drawn, and
/// the curve begins at the top.
template <class TimeAt>
std::vector<std::string> time_rows(double least_A, double most_A, TimeAt&& time_at) {
  std::vector<std::string> rows;
  for (int k = 0; k <= curve_points; ++k) {
    const double amperes = least_A * std::pow(most_A / least_A, static_cast<double>(k) / curve_points);
    const double time = time_at(amperes);
    if (!std::isfinite(time)) continue;
    if (rows.empty()) rows.push_back(fmt::format("{:.6g} {:.6g}", amperes, slowest_s));
    rows.push_back(fmt::format("{:.6g} {:.6g}", amperes, std::max(time, fastest_s)));
  }
  return rows;
}

Axes time_panel(const std::vector<RelaySettings>& relays) {
  Axes panel{"operating time over current",
             "primary current (A)",
             "time (s)",
             fmt::format("set logscale xy\nset yrange [{}:{}]", fastest_s, slowest_s),
             {}};
  double least = INFINITY, most = 0;
  for (const RelaySettings& relay : relays) {
    for (const Stage* stage : relay.all<Stage>()) {
      least = std::min(least, stage->pickup_A / relay.current_scale());
      most = std::max(most, stage->pickup_A / relay.current_scale());
    }
  }
  if (!(most > 0)) return panel;
  least *= 0.7;
  most *= 8;
  for (std::size_t r = 0; r < relays.size(); ++r) {
    for (const char* quantity : {"phase", "earth", "negative"}) {
      Plot plot{time_rows(least, most,
                          [&](double amperes) {
                            return protection::composite_time_s(relays[r], quantity, amperes);
                          }),
                "using 1:2 " + lines(r, quantity != std::string("phase")), relays[r].name + " " + quantity};
      if (!plot.rows.empty()) panel.plots.push_back(std::move(plot));
    }
    // What a condition can hold back stands apart, thin.
    for (const Stage* stage : relays[r].all<Stage>()) {
      if (!stage->trips || stage->blocked_by.empty()) continue;
      Plot plot{time_rows(least, most,
                          [&](double amperes) {
                            return stage->operate_time_s(amperes * relays[r].current_scale());
                          }),
                fmt::format("using 1:2 with lines lw 1 lc rgb '{}' dt 3", colour(r)),
                fmt::format("{} {}, unless {}", relays[r].name, stage->name, stage->blocked_by)};
      if (!plot.rows.empty()) panel.plots.push_back(std::move(plot));
    }
  }
  return panel;
}

std::string row(const Phasor& p) { return fmt::format("{:.6g} {:.6g}", p.real(), p.imag()); }

void zone_panels(const RelaySettings& relay, std::vector<Axes>& panels) {
  const auto zones = relay.all<protection::Zone>();
  for (const bool earth : {false, true}) {
    Axes panel{relay.name + (earth ? " zones, loops to earth" : " zones, loops between phases"),
               "resistance (ohm, " + relay.values + ")",
               "reactance (ohm)",
               "set size ratio -1\nset zeroaxis",
               {}};
    for (std::size_t k = 0; k < zones.size(); ++k) {
      if (zones[k]->loops == (earth ? "phase" : "earth")) continue;
      Plot plot{{},
                "using 1:2 " + lines(k),
                fmt::format("{} {}", zones[k]->name, print_rounded(zones[k]->delay_s, "s"))};
      for (const Phasor& p : protection::outline(*zones[k], earth)) plot.rows.push_back(row(p));
      panel.plots.push_back(std::move(plot));
    }
    if (!panel.plots.empty()) panels.push_back(std::move(panel));
  }
}

Plot threshold(const protection::Differential& d, double to, std::size_t k) {
  Plot plot{{}, "using 1:2 " + lines(k), d.name};
  for (int j = 0; j <= curve_points; ++j) {
    const double restraint = to * j / curve_points;
    plot.rows.push_back(fmt::format("{:.6g} {:.6g}", restraint, d.threshold(restraint)));
  }
  return plot;
}

Axes differential_panel(const protection::Differential& d, const std::string& name) {
  return {name + " differential",
          "restraint (of rated)",
          "differential current (of rated)",
          "",
          {threshold(d, 2.5 * d.knee + 1, 0)}};
}

}  // namespace

void draw_characteristics(const std::vector<RelaySettings>& relays, const std::string& title,
                          const std::filesystem::path& path) {
  std::vector<Axes> panels;
  if (Axes times = time_panel(relays); !times.plots.empty()) panels.push_back(std::move(times));
  for (const RelaySettings& relay : relays) {
    zone_panels(relay, panels);
    for (const auto* d : relay.all<protection::Differential>())
      panels.push_back(differential_panel(*d, relay.name));
  }
  if (panels.empty()) throw Error("these settings have no characteristic to draw");
  draw(panels, title, path);
}

namespace {

/// "phase current" of "phase current 840 A", "flux" of "flux 1.1".
std::string without_value(const std::string& quantity) {
  std::size_t end = quantity.find_last_of(' ');
  if (end == std::string::npos) return quantity;
  if (std::isdigit(static_cast<unsigned char>(quantity[end + 1])) == 0)
    end = quantity.find_last_of(' ', end - 1);
  return quantity.substr(0, end);
}

}  // namespace

bool draw_injection(const trial::InjectionReport& report, const std::string& title,
                    const std::filesystem::path& path) {
  std::vector<Axes> panels;
  std::map<std::string, std::vector<const trial::InjectedPoint*>> by_probe;
  for (const trial::InjectedPoint& point : report.points) {
    const bool of_time = point.test == "time" || point.test == "no operation";
    // What stands in one phase or pair has no curve of its own.
    if (!of_time || point.quantity.find(" in ") != std::string::npos) continue;
    by_probe[without_value(point.quantity)].push_back(&point);
  }
  for (const auto& [quantity, points] : by_probe) {
    const auto function = std::find_if(
        report.settings.functions.begin(), report.settings.functions.end(),
        [&, p = points.front()](const auto& f) { return protection::base_of(f).name == p->function; });
    const auto probe = trial::probe_of(report.settings, *function, 50);
    if (!probe || !probe->operates_above || probe->unit == "Hz") continue;
    Axes panel{
        "operating time over " + quantity,
        quantity + (probe->unit.empty() ? "" : " (" + probe->unit + ", " + report.settings.values + ")"),
        "time (s)",
        "set logscale xy",
        {}};
    double least = INFINITY, most = 0;
    for (const auto* p : points) {
      least = std::min(least, p->value);
      most = std::max(most, p->value);
    }
    Plot curve{{}, "using 1:2 with lines lw 2 lc rgb '#9aa3a8'", "set, all stages together"};
    for (int k = 0; k <= 160; ++k) {
      const double value = 0.9 * least * std::pow(1.25 * most / least, k / 160.0);
      const double t = protection::expected_operation(report.settings, probe->before.measured,
                                                      probe->at(value).measured, slowest_s)
                           .time_s;
      curve.rows.push_back(std::isfinite(t) ? fmt::format("{:.6g} {:.6g}", value, std::max(t, fastest_s))
                                            : "");
    }
    panel.plots.push_back(std::move(curve));
    for (const bool passed : {true, false}) {
      Plot marks{{},
                 fmt::format("using 1:2:3:4 with yerrorbars pt 7 ps 0.9 lw 1.4 lc rgb '{}'",
                             passed ? colours[1] : colours[0]),
                 passed ? "measured, band of tolerance" : "failed"};
      for (const auto* p : points) {
        if (p->passed == passed && std::isfinite(p->measured))
          marks.rows.push_back(fmt::format("{:.6g} {:.6g} {:.6g} {:.6g}", p->value,
                                           std::max(p->measured, fastest_s),
                                           std::max(fastest_s, std::isfinite(p->low) ? p->low : p->measured),
                                           std::isfinite(p->high) ? p->high : p->measured));
      }
      if (!marks.rows.empty()) panel.plots.push_back(std::move(marks));
    }
    panels.push_back(std::move(panel));
  }
  for (const trial::Boundary& boundary : report.boundaries) {
    const bool differential = boundary.plane == "differential";
    Axes panel{boundary.function + ", " + boundary.plane,
               differential ? "restraint (of rated)" : "resistance (ohm, " + report.settings.values + ")",
               differential ? "differential current (of rated)" : "reactance (ohm)",
               differential ? "" : "set size ratio -1\nset zeroaxis",
               {}};
    Plot set{{}, "using 1:2 with lines lw 2 lc rgb '#5b6770'", "set"};
    for (const Phasor& p : boundary.outline) set.rows.push_back(row(p));
    const bool outlined = !boundary.outline.empty();
    // Its band as far as it is known all along.
    Plot low{{}, "using 1:2 with lines lw 1 dt 3 lc rgb '#9aa3a8'", "band of tolerance"};
    Plot high{{}, "using 1:2 with lines lw 1 dt 3 lc rgb '#9aa3a8'", ""};
    Plot good{{}, fmt::format("using 1:2 with points pt 7 ps 0.9 lc rgb '{}'", colours[1]), "measured"};
    Plot bad{{},
             fmt::format("using 1:2 with points pt 7 ps 0.9 lc rgb '{}'", colours[0]),
             "outside, or not found (at the set place)"};
    for (const auto& ray : boundary.rays) {
      if (!outlined) set.rows.push_back(row(ray.expected));
      if (boundary.inner.empty()) {
        low.rows.push_back(row(ray.low));
        high.rows.push_back(row(ray.high));
      }
      (ray.passed ? good : bad).rows.push_back(row(ray.found ? ray.measured : ray.expected));
    }
    if (boundary.rays.empty()) continue;
    for (const Phasor& p : boundary.inner) low.rows.push_back(row(p));
    for (const Phasor& p : boundary.outer) high.rows.push_back(row(p));
    if (!differential) {
      for (Plot* plot : {&low, &high}) plot->rows.push_back(plot->rows.front());
    }
    for (Plot* plot : {&set, &low, &high, &good, &bad}) {
      if (!plot->rows.empty()) panel.plots.push_back(std::move(*plot));
    }
    panels.push_back(std::move(panel));
  }
  if (panels.empty()) return false;
  draw(panels, title, path);
  return true;
}

}  // namespace zavrek::report
