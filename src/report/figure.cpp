#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <functional>
#include <numbers>
#include <tuple>

#include <fmt/format.h>

#include "report/gnuplot.hpp"
#include "zavrek/emt/line_constants.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::colours;
using internal::frame;
using internal::quoted;
using internal::require_figure;
using internal::run_gnuplot;
using internal::terminal;

namespace {

constexpr double panel_height = 230;

/// What stands before the phase letter, and the title of the panel.
std::string group_of(const std::string& name) {
  std::string stem = name;
  if (stem.ends_with("_far")) stem.resize(stem.size() - 4);
  const std::size_t dot = stem.rfind('.');
  if (dot != std::string::npos && stem.size() >= dot + 3 &&
      std::string("abcpmn").find(stem.back()) != std::string::npos) {
    stem.pop_back();
  }
  return stem;
}

/// Names of the states of a state machine, in the order of their numbers; empty for any other signal.
std::vector<std::string> names_of_states(const record::Record& record, const std::string& signal) {
  std::vector<std::string> names;
  const std::string fact = record.fact("states of " + signal);
  for (std::size_t at = 0; at < fact.size();) {
    const std::size_t end = std::min(fact.find(' ', at), fact.size());
    names.push_back(fact.substr(at, end - at));
    at = end + 1;
  }
  return names;
}

bool is_state(const record::Analog& analog) {
  return analog.unit.empty() &&
         std::all_of(analog.samples.begin(), analog.samples.end(), [](double x) { return x == 0 || x == 1; });
}

std::vector<record::Binary> changing(const record::Record& record) {
  std::vector<record::Binary> found;
  for (record::Binary& binary : states_of(record)) {
    const auto& x = binary.samples;
    if (std::adjacent_find(x.begin(), x.end(), std::not_equal_to<>()) != x.end())
      found.push_back(std::move(binary));
  }
  return found;
}

double unit_scale(const Panel& panel) {
  if (panel.unit.empty()) return 1;  // plain numbers, as they are
  double peak = 0;
  for (const record::Analog* analog : panel.analogs) {
    for (const double sample : analog->samples) peak = std::max(peak, std::abs(sample));
  }
  return peak >= 1000 ? 1e-3 : 1;
}

std::string data_block(const record::Record& record, const std::vector<Panel>& panels,
                       const std::vector<record::Binary>& binaries) {
  std::string block = "$data << EOD\n";
  for (std::size_t k = 0; k < record.time_s.size(); ++k) {
    block += fmt::format("{:.7g}", record.time_s[k]);
    for (const Panel& panel : panels) {
      for (const record::Analog* analog : panel.analogs) block += fmt::format(" {:.6g}", analog->samples[k]);
    }
    for (const record::Binary& binary : binaries) block += binary.samples[k] ? " 1" : " 0";
    block += '\n';
  }
  return block + "EOD\n";
}

/// Whether anything stands behind the trigger: a run that nothing disturbs ends with it.
bool is_disturbed(const record::Record& record) {
  const double span = record.time_s.back() - record.time_s.front();
  return record.trigger_s < record.time_s.back() - 1e-3 * span;
}

std::string event_marks(const record::Record& record) {
  std::string script;
  if (is_disturbed(record)) {
    script =
        fmt::format("set arrow from {0:.7g}, graph 0 to {0:.7g}, graph 1 nohead lc rgb '#b8860b' lw 1.5\n",
                    record.trigger_s);
  }
  for (const record::Event& event : record.events) {
    if (event.text.ends_with(" off")) continue;
    script += fmt::format(
        "set arrow from {0:.7g}, graph 0 to {0:.7g}, graph 1 nohead lc rgb '#9aa3a8' dt 3\n", event.time_s);
  }
  return script;
}

bool strikes(const record::Record& record) {
  return std::any_of(record.analogs.begin(), record.analogs.end(),
                     [](const auto& analog) { return analog.name.starts_with("fault.i"); });
}

/// Names of the events above the first panel, on rows so that close ones do not overlap.
std::string event_labels(const record::Record& record) {
  constexpr int rows = 3;
  constexpr double character = 0.0062;  // of the panel's width
  std::string script;
  std::array<double, rows> free{};
  const double first = record.time_s.front();
  const double span = record.time_s.back() - first;
  const auto add = [&](double time_s, const std::string& text) {
    const double at = (time_s - first) / span;
    for (int row = 0; row < rows; ++row) {
      if (at < free[static_cast<std::size_t>(row)]) continue;
      script += fmt::format(
          "set label {} at {:.7g}, graph {} left noenhanced font ',9' tc rgb '#5b6770' offset 0.4,0\n",
          quoted(text), time_s, 0.95 - 0.085 * row);
      free[static_cast<std::size_t>(row)] = at + character * static_cast<double>(text.size() + 2);
      return;
    }
  };
  // Without a fault the times of what is expected count from here.
  if (is_disturbed(record)) add(record.trigger_s, strikes(record) ? "inception" : "t = 0");
  for (const record::Event& event : record.events) {
    if (!event.text.ends_with(" off")) add(event.time_s, event.text);
  }
  return script;
}

/// Room for the largest magnitude and marks at zero and at either bound: low panels have no place for more.
std::string three_tics(double largest) {
  const double decade = std::pow(10, std::floor(std::log10(std::max(largest, 1e-6))));
  double bound = 10 * decade;
  for (const double step : {1.0, 2.0, 5.0}) {
    if (largest <= step * decade) {
      bound = step * decade;
      break;
    }
  }
  return fmt::format("set yrange [{0:.4g}:{1:.4g}]\nset ytics ({0:.4g}, 0, {1:.4g})\n", -bound, bound);
}

/// Room beside the panels for the longest name and its line.
std::string key_margin(const std::vector<Panel>& panels) {
  std::size_t longest = 9;
  for (const Panel& panel : panels) {
    for (const record::Analog* analog : panel.analogs) longest = std::max(longest, analog->name.size());
  }
  return fmt::format("set rmargin {}\n", longest + 9);
}

std::string script_of(const record::Record& record, const std::string& title,
                      const std::filesystem::path& path, const std::vector<Panel>& panels,
                      const std::vector<record::Binary>& binaries, std::size_t left_out) {
  const std::vector<NamedStates> named = named_states_of(record);
  const std::size_t lanes = binaries.size() + named.size();
  const std::size_t rows = panels.size() + (lanes == 0 ? 0 : 1);
  const std::string axis =
      quoted(fmt::format("{}{}",
                         !is_disturbed(record) ? "time (s)"
                         : strikes(record)     ? "time from inception (s)"
                                               : "time from t = 0 (s)",
                         left_out == 0 ? ""
                                       : fmt::format("; {} more group{} of signals in the record", left_out,
                                                     left_out == 1 ? "" : "s")));
  const double height = 90 + panel_height * static_cast<double>(rows);
  std::string s = terminal(path, height) + data_block(record, panels, binaries);
  s += fmt::format("set multiplot layout {},1 title {} noenhanced font ',14'\n", rows, quoted(title));
  s += frame + key_margin(panels);
  s += fmt::format("set xrange [{:.7g}:{:.7g}]\n", record.time_s.front(), record.time_s.back());
  s += event_marks(record) + event_labels(record);
  std::size_t column = 2;
  for (const Panel& panel : panels) {
    s += &panel == &panels.front() ? "set offsets 0,0,graph 0.3,0\n"
                                   : "unset label\nunset offsets\n";  // room for the labels
    const double scale = unit_scale(panel);
    if (lanes == 0 && &panel == &panels.back()) s += "set xlabel " + axis + "\n";
    s += "set ylabel " + quoted((scale < 1 ? "k" : "") + panel.unit) + " noenhanced\n";
    std::string plots;
    for (std::size_t k = 0; k < panel.analogs.size(); ++k) {
      plots +=
          fmt::format("{}$data using 1:(${}*{}) with lines lw 1.3 lc rgb '{}' title {}", k ? ", " : "plot ",
                      column++, scale, colours[k % std::size(colours)], quoted(panel.analogs[k]->name));
    }
    s += plots + "\n";
  }
  if (lanes > 0) {
    s += fmt::format("set xlabel {}\nset ylabel ''\nset yrange [0:{}]\nunset ytics\n", axis, lanes);
    if (!panels.empty()) s += "unset label\n";
    std::string plots;
    for (std::size_t k = 0; k < binaries.size(); ++k) {
      const std::size_t lane = lanes - 1 - k;
      s += fmt::format("set label {} at graph 0.006, first {} left front noenhanced font ',9'\n",
                       quoted(binaries[k].name), static_cast<double>(lane) + 0.4);
      plots += fmt::format(
          "{0}$data using 1:({2}):(${1}*0.8+{2}) with filledcurves fc rgb '{3}' fs solid 0.35 notitle, "
          "$data using 1:(${1}*0.8+{2}) with steps lw 1.3 lc rgb '{3}' notitle",
          k ? ", " : "plot ", column, lane, colours[k % std::size(colours)]);
      ++column;
    }
    // A state's name stands in its stretch where that has room for it; the machine's own, beside the panel.
    constexpr double character = 0.0075;  // of the panel's width
    const double span = record.time_s.back() - record.time_s.front();
    for (std::size_t k = 0; k < named.size(); ++k) {
      const double lane = static_cast<double>(named.size() - 1 - k);
      s += fmt::format("set label {} at graph 1.008, first {} left front noenhanced font ',9'\n",
                       quoted(named[k].name), lane + 0.4);
      plots += fmt::format("{}{} with lines lw 1.3 lc rgb '#9aa3a8' notitle", plots.empty() ? "plot " : ", ",
                           lane + 0.02);
      const auto& from = named[k].from;
      for (std::size_t n = 0; n < from.size(); ++n) {
        const auto& [from_s, state] = from[n];
        const double until_s = n + 1 < from.size() ? from[n + 1].first : record.time_s.back();
        if (n > 0)
          s +=
              fmt::format("set arrow from {0:.7g}, first {1} to {0:.7g}, first {2} nohead lc rgb '#5b6770'\n",
                          from_s, lane + 0.02, lane + 0.8);
        if (until_s - from_s < character * static_cast<double>(state.size() + 1) * span) continue;
        s += fmt::format(
            "set label {} at {:.7g}, first {} left front noenhanced font ',9' offset 0.4,0 tc rgb "
            "'#2b5fa8'\n",
            quoted(state), from_s, lane + 0.4);
      }
    }
    s += plots + "\n";
  }
  return s + "unset multiplot\n";
}

/// How far the peak behind the trigger exceeds the one before it.
double change_in(const Panel& panel, const record::Record& record) {
  double before = 0;
  double after = 0;
  for (const record::Analog* analog : panel.analogs) {
    for (std::size_t k = 0; k < record.time_s.size(); ++k) {
      double& peak = record.time_s[k] < record.trigger_s ? before : after;
      peak = std::max(peak, std::abs(analog->samples[k]));
    }
  }
  return before > 0 ? after / before : after;
}

}  // namespace

std::vector<record::Binary> states_of(const record::Record& record) {
  std::vector<record::Binary> states = record.binaries;
  const auto known = [&](const std::string& name) {
    return std::any_of(states.begin(), states.end(), [&](const auto& state) { return state.name == name; });
  };
  for (const record::Analog& analog : record.analogs) {
    if (!is_state(analog) || known(analog.name) || !names_of_states(record, analog.name).empty()) continue;
    record::Binary state;
    state.name = analog.name;
    for (const double x : analog.samples) state.samples.push_back(x == 1);
    states.push_back(std::move(state));
  }
  return states;
}

std::vector<NamedStates> named_states_of(const record::Record& record) {
  std::vector<NamedStates> all;
  for (const record::Analog& analog : record.analogs) {
    const std::vector<std::string> names = names_of_states(record, analog.name);
    if (names.empty() || analog.samples.size() != record.time_s.size()) continue;
    NamedStates states{analog.name, {}};
    for (std::size_t k = 0; k < analog.samples.size(); ++k) {
      const double x = analog.samples[k];
      const bool known = x >= 0 && x < static_cast<double>(names.size());
      const std::string& now = known ? names[static_cast<std::size_t>(x)] : "?";
      if (states.from.empty() || states.from.back().second != now)
        states.from.emplace_back(record.time_s[k], now);
    }
    all.push_back(std::move(states));
  }
  return all;
}

std::vector<std::string> judged_signals(const trial::Case& all, const std::string& trial) {
  std::vector<std::string> names;
  for (const trial::Trial& one : all.trials) {
    if (one.name != trial) continue;
    for (const trial::Expectation& e : one.expect) {
      if (!e.signal.empty() && std::find(names.begin(), names.end(), e.signal) == names.end())
        names.push_back(e.signal);
    }
  }
  return names;
}

std::vector<Panel> panels_of(const record::Record& record, const std::vector<std::string>& first) {
  std::vector<Panel> panels;
  for (const record::Analog& analog : record.analogs) {
    const bool any =
        std::any_of(analog.samples.begin(), analog.samples.end(), [](double v) { return std::isfinite(v); });
    if (is_state(analog) || !any || !names_of_states(record, analog.name).empty()) continue;
    const std::string group = group_of(analog.name);
    Panel* panel = nullptr;
    for (Panel& known : panels) {
      if (known.title == group && known.unit == analog.unit) panel = &known;
    }
    if (!panel) panel = &panels.emplace_back(Panel{group, analog.unit, {}});
    panel->analogs.push_back(&analog);
  }
  const auto place = [&](const Panel& panel) {
    std::size_t k = 0;
    while (k < first.size() && group_of(first[k]) != panel.title) ++k;
    return k;
  };
  std::vector<std::tuple<std::size_t, double, Panel>> ranked;
  for (Panel& panel : panels) ranked.emplace_back(place(panel), -change_in(panel, record), std::move(panel));
  std::stable_sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) {
    return std::tie(std::get<0>(a), std::get<1>(a)) < std::tie(std::get<0>(b), std::get<1>(b));
  });
  panels.clear();
  for (auto& [order, change, panel] : ranked) panels.push_back(std::move(panel));
  return panels;
}

namespace {

/// More samples than this show no more on a page.
constexpr std::size_t most_drawn = 12'000;

/// The least and the greatest of each of `count` stretches, in the order in which they come.
template <class Samples>
Samples envelope(const Samples& samples, std::size_t count) {
  Samples kept;
  for (std::size_t k = 0; k < count; ++k) {
    const auto from = samples.begin() + static_cast<std::ptrdiff_t>(k * samples.size() / count);
    const auto until = samples.begin() + static_cast<std::ptrdiff_t>((k + 1) * samples.size() / count);
    const auto [least, greatest] = std::minmax_element(from, until, [](const auto& a, const auto& b) {
      return !(a >= b) && !std::isnan(static_cast<double>(b));
    });
    kept.push_back(*std::min(least, greatest));
    kept.push_back(*std::max(least, greatest));
  }
  return kept;
}

record::Record thinned(const record::Record& record) {
  constexpr std::size_t stretches = most_drawn / 4;
  record::Record thin = record::part_of(record, record.time_s.front(), record.time_s.front());
  thin.events = record.events;
  thin.time_s.clear();
  for (std::size_t k = 0; k < stretches; ++k) {
    const std::size_t from = k * record.time_s.size() / stretches;
    const std::size_t until = (k + 1) * record.time_s.size() / stretches;
    thin.time_s.push_back(record.time_s[from]);
    thin.time_s.push_back(record.time_s[(from + until) / 2]);
  }
  for (std::size_t c = 0; c < record.analogs.size(); ++c)
    thin.analogs[c].samples = envelope(record.analogs[c].samples, stretches);
  for (std::size_t c = 0; c < record.binaries.size(); ++c)
    thin.binaries[c].samples = envelope(record.binaries[c].samples, stretches);
  return thin;
}

}  // namespace

void draw_record(const record::Record& record, const std::string& title, const std::filesystem::path& path,
                 std::size_t most_panels, const std::vector<std::string>& first) {
  if (record.time_s.size() > most_drawn) return draw_record(thinned(record), title, path, most_panels, first);
  require_figure(path, record.time_s.size());
  std::vector<Panel> panels = panels_of(record, first);
  if (panels.empty() && record.binaries.empty())
    throw Error("nothing can be drawn: no signal of the record has a value");
  const std::size_t left_out = panels.size() - std::min(panels.size(), most_panels);
  panels.resize(panels.size() - left_out);
  // Times count from where those of verdicts do.
  record::Record shifted;
  if (is_disturbed(record) && record.trigger_s != 0) {
    shifted = record;
    for (double& time_s : shifted.time_s) time_s -= record.trigger_s;
    for (record::Event& event : shifted.events) event.time_s -= record.trigger_s;
    shifted.trigger_s = 0;
  }
  const record::Record& drawn = shifted.time_s.empty() ? record : shifted;
  run_gnuplot(script_of(drawn, title, path, panels, changing(drawn), left_out), path);
}

void draw_overlay(const record::Comparison& comparison, const std::string& first, const std::string& second,
                  const std::string& title, const std::filesystem::path& path, std::size_t most_signals) {
  require_figure(path, comparison.time_s.size());
  std::vector<const record::SignalComparison*> chosen;
  for (const auto& signal : comparison.signals) chosen.push_back(&signal);
  std::stable_sort(chosen.begin(), chosen.end(),
                   [](const auto* a, const auto* b) { return a->nrmse > b->nrmse; });
  // Signals that err alike (a breaker's and its cable's current) say it once.
  const auto alike = [](const auto* a, const auto* b) {
    return a->unit == b->unit && std::abs(a->rms - b->rms) <= 1e-3 * a->rms;
  };
  for (std::size_t k = 0; k < chosen.size(); ++k) {
    chosen.erase(std::remove_if(chosen.begin() + static_cast<std::ptrdiff_t>(k) + 1, chosen.end(),
                                [&](const auto* other) { return alike(chosen[k], other); }),
                 chosen.end());
  }
  if (chosen.size() > most_signals) chosen.resize(most_signals);
  std::string s =
      terminal(path, 90 + 1.6 * panel_height * static_cast<double>(chosen.size())) + "$data << EOD\n";
  for (std::size_t k = 0; k < comparison.time_s.size(); ++k) {
    s += fmt::format("{:.9g}", comparison.time_s[k]);
    for (const auto* signal : chosen) {
      const double peak = signal->peak > 0 ? signal->peak : 1;
      s += fmt::format(" {:.7g} {:.7g} {:.6g}", signal->first[k], signal->second[k],
                       100 * signal->difference[k] / peak);
    }
    s += '\n';
  }
  s += fmt::format("EOD\nset multiplot title {} noenhanced font ',14'\n", quoted(title)) + frame;
  s += fmt::format("set xrange [{:.7g}:{:.7g}]\n", comparison.time_s.front(), comparison.time_s.back());
  // Each signal has a tall panel for the curves and a low one for the difference.
  const double each = 0.93 / static_cast<double>(chosen.size());
  for (std::size_t k = 0; k < chosen.size(); ++k) {
    const double top = 0.95 - each * static_cast<double>(k);
    const double scale = chosen[k]->peak >= 1000 ? 1e-3 : 1;
    s += fmt::format(
        "set origin 0,{:.4f}\nset size 1,{:.4f}\nset format x ''\nset bmargin 0.6\nset tmargin 0.8\n",
        top - 0.66 * each, 0.66 * each);
    s += "unset object\nset autoscale y\nset ytics autofreq\nset xlabel ''\nset ylabel " +
         quoted((scale < 1 ? "k" : "") + chosen[k]->unit) + " noenhanced\n";
    s += fmt::format(
        "plot $data using 1:(${}*{}) with lines lw 2.4 lc rgb '#b9c3c9' title {}, $data using 1:(${}*{}) "
        "with lines lw 1.1 lc rgb '{}' title {}\n",
        3 * k + 2, scale, quoted(chosen[k]->name + " " + first), 3 * k + 3, scale,
        colours[k % std::size(colours)], quoted(second));
    const bool last = k + 1 == chosen.size();
    s += fmt::format("set origin 0,{:.4f}\nset size 1,{:.4f}\nset format x{}\nset bmargin {}\n", top - each,
                     0.34 * each, last ? "" : " ''", last ? 3.4 : 2.0);
    const double band = chosen[k]->peak > 0 ? chosen[k]->band / chosen[k]->peak : 0;
    s += fmt::format(
        "set object 1 rectangle from graph 0,first {0:.4g} to graph 1,first {1:.4g} fc rgb '#2f7d5b' fs "
        "solid 0.12 noborder behind\nset ylabel '%'\n{2}",
        -100 * band, 100 * band, last ? "set xlabel 'time (s)'\n" : "");
    s += three_tics(chosen[k]->peak > 0 ? 100 * chosen[k]->largest / chosen[k]->peak : 0);
    s += fmt::format("plot $data using 1:{} with lines lw 1 lc rgb '{}' title 'difference'\n", 3 * k + 4,
                     colours[k % std::size(colours)]);
  }
  run_gnuplot(s + "unset multiplot\n", path);
}

void draw_line(const network::LineGeometry& geometry, const emt::FrequencyLine& fit,
               const emt::FrequencyLineOptions& options, const std::string& title,
               const std::filesystem::path& path) {
  constexpr int points = 240;
  require_figure(path, points);
  const bool sequences = fit.phases == 3;
  std::string s = terminal(path, 860) + "$data << EOD\n";
  for (int k = 0; k <= points; ++k) {
    const double f =
        options.from_Hz * std::pow(options.to_Hz / options.from_Hz, static_cast<double>(k) / points);
    const double omega = 2 * std::numbers::pi * f;
    const emt::LineConstants c = emt::line_constants_at(geometry, f);
    const auto z1 = sequences ? c.z1_ohm_per_m : c.series_ohm_per_m[0];
    const auto z0 = sequences ? c.z0_ohm_per_m : c.series_ohm_per_m[0];
    s += fmt::format("{:.6g} {:.6g} {:.6g} {:.6g} {:.6g}", f, 1e3 * z1.real(), 1e3 * z0.real(),
                     1e6 * z1.imag() / omega, 1e6 * z0.imag() / omega);
    for (std::size_t m = 0; m < fit.modes.size(); ++m) {
      const std::complex<double> fitted = fit.modes[m].propagation({0, omega});
      const std::complex<double> exact = emt::propagation_of(geometry, fit, m, options.length_m, f);
      s += fmt::format(" {:.6g} {:.6g}", std::abs(exact), std::abs(fitted));
    }
    s += '\n';
  }
  s += fmt::format("EOD\nset multiplot layout 3,1 title {} noenhanced font ',14'\n", quoted(title)) + frame;
  s += fmt::format("set logscale x\nset format x '%.0s %cHz'\nset xrange [{:.6g}:{:.6g}]\n", options.from_Hz,
                   options.to_Hz);
  const char* one = sequences ? "positive sequence" : "first phase";
  const auto pair = [&](const char* label, int column, bool log) {
    s += fmt::format(
        "set ylabel '{}'\n{} logscale y\nplot $data using 1:{} with lines lw 1.6 lc rgb '{}' title '{}'",
        label, log ? "set" : "unset", column, colours[2], one);
    if (sequences)
      s += fmt::format(", $data using 1:{} with lines lw 1.6 lc rgb '{}' title 'zero sequence'", column + 1,
                       colours[0]);
    s += "\n";
  };
  pair("resistance, ohm/km", 2, true);
  pair("inductance, mH/km", 4, false);
  s += fmt::format("set xlabel 'frequency'\nset ylabel 'propagation over {}'\nset yrange [0:1.05]\nplot ",
                   print_rounded(options.length_m, "m"));
  for (std::size_t m = 0; m < fit.modes.size(); ++m) {
    s += fmt::format(
        "{0}$data using 1:{1} with lines lw 3 lc rgb '#c9d1d6' title '{2}', $data using 1:{3} with lines lw "
        "1.3 lc rgb '{4}' title 'fit, mode {5}'",
        m ? ", " : "", 6 + 2 * m, m ? "" : "exact", 7 + 2 * m, colours[m % std::size(colours)], m + 1);
  }
  run_gnuplot(s + "\nunset multiplot\n", path);
}

std::string file_stem(std::size_t number, const std::string& name) {
  std::string stem = fmt::format("{:02}-", number);
  for (const char c : name) {
    if (std::isalnum(static_cast<unsigned char>(c))) {
      stem += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    } else if (stem.back() != '-') {
      stem += '-';
    }
  }
  constexpr std::size_t most_letters = 120;  // a file's name has 255 at most, endings included
  if (stem.size() > most_letters) stem.resize(most_letters);
  while (stem.back() == '-') stem.pop_back();
  return stem;
}

}  // namespace zavrek::report
