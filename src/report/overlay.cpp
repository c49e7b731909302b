// Several calculations of one case over each other.
#include <algorithm>
#include <cmath>
#include <numeric>

#include <fmt/format.h>

#include "report/gnuplot.hpp"
#include "zavrek/report.hpp"

namespace zavrek::report {

using internal::colours;
using internal::quoted;

void draw_calculations(const std::vector<Calculation>& calculations, const std::vector<std::string>& signals,
                       const std::string& title, double from_s, const std::filesystem::path& path) {
  internal::require_figure(path, calculations.front().record.time_s.size());
  std::string s = internal::terminal(path, 90 + 300 * static_cast<double>(signals.size()));
  for (std::size_t c = 0; c < calculations.size(); ++c) {
    const record::Record& r = calculations[c].record;
    s += fmt::format("$data{} << EOD\n", c);
    for (std::size_t k = 0; k < r.time_s.size(); ++k) {
      if (r.time_s[k] < from_s) continue;
      s += fmt::format("{:.9g}", r.time_s[k]);
      for (const std::string& name : signals) s += fmt::format(" {:.7g}", r.find_analog(name)->samples[k]);
      s += '\n';
    }
    s += "EOD\n";
  }
  s += fmt::format("set multiplot layout {},1 title {} noenhanced font ',14'\n", signals.size(),
                   quoted(title));
  s += internal::frame + std::string("set rmargin 26\n");
  s += fmt::format("set xrange [{:.7g}:{:.7g}]\n", std::max(from_s, calculations[0].record.time_s.front()),
                   calculations[0].record.time_s.back());
  for (std::size_t k = 0; k < signals.size(); ++k) {
    if (k + 1 == signals.size()) s += "set xlabel 'time (s)'\n";
    const record::Analog& first = *calculations[0].record.find_analog(signals[k]);
    const double peak = std::accumulate(first.samples.begin(), first.samples.end(), 0.0,
                                        [](double most, double x) { return std::max(most, std::abs(x)); });
    const bool kilo = !first.unit.empty() && peak >= 1000;
    s += "set ylabel " + quoted(signals[k] + ", " + (kilo ? "k" : "") + first.unit) + " noenhanced\nplot ";
    for (std::size_t c = 0; c < calculations.size(); ++c) {
      s += fmt::format("{}$data{} using 1:(${}*{}) with lines lw {} lc rgb '{}' title {}", c ? ", " : "", c,
                       k + 2, kilo ? 1e-3 : 1.0, c == 0 ? 3.2 : 1.2,
                       c == 0 ? "#b9c3c9" : colours[(c - 1) % std::size(colours)],
                       quoted(calculations[c].name));
    }
    s += "\n";
  }
  internal::run_gnuplot(s + "unset multiplot\n", path);
}

}  // namespace zavrek::report
