#include <cmath>
#include <numbers>
#include <string>
#include <vector>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt/frequency_line.hpp"
#include "zavrek/emt/line_constants.hpp"
#include "zavrek/emt/phase_line.hpp"
#include "zavrek/report.hpp"

namespace zavrek::tool {
namespace {

bool is_three_phase(const emt::LineConstants& c) {
  return c.phases == std::vector<std::string>{"a", "b", "c"};
}

void print(const emt::LineConstants& c, const emt::LineGeometry& geometry) {
  const double omega = 2 * std::numbers::pi * c.frequency_Hz;
  const std::size_t n = c.phases.size();
  const bool cables = !geometry.cores.empty();
  fmt::print("{} {} at {}, earth of {}, {}\n", cables ? geometry.cores.size() : geometry.wires.size(),
             cables ? "cables" : "wires", print_quantity(c.frequency_Hz, "Hz"),
             print_quantity(geometry.earth_resistivity_ohm_m, "ohm m"),
             cables ? "screens bonded " + geometry.bonding : "return by " + geometry.earth);
  const auto matrix = [&](std::string_view title, auto&& entry) {
    fmt::print("\n{}\n", title);
    for (std::size_t row = 0; row < n; ++row) {
      std::string line = fmt::format("  {:<3}", c.phases[row]);
      for (std::size_t column = 0; column < n; ++column)
        line += fmt::format("  {:>20}", entry(row * n + column));
      fmt::print("{}\n", line);
    }
  };
  matrix("series impedance, ohm/km", [&](std::size_t k) {
    const auto z = 1e3 * c.series_ohm_per_m[k];
    return fmt::format("{:.5f} + j{:.5f}", z.real(), z.imag());
  });
  matrix("capacitance, nF/km",
         [&](std::size_t k) { return fmt::format("{:.4f}", 1e12 * c.capacitance_F_per_m[k]); });
  if (!is_three_phase(c)) return;
  fmt::print("\nas a transposed line, ready for a [line.NAME] table\n");
  const auto row = [](std::string_view name, double value, std::string_view unit) {
    fmt::print("  {} = \"{:.6g} {}\"\n", name, value, unit);
  };
  row("r1", 1e3 * c.z1_ohm_per_m.real(), "ohm/km");
  row("x1", 1e3 * c.z1_ohm_per_m.imag(), "ohm/km");
  row("c1", 1e12 * c.c1_F_per_m, "nF/km");
  row("r0", 1e3 * c.z0_ohm_per_m.real(), "ohm/km");
  row("x0", 1e3 * c.z0_ohm_per_m.imag(), "ohm/km");
  row("c0", 1e12 * c.c0_F_per_m, "nF/km");
  const double l1 = c.z1_ohm_per_m.imag() / omega;
  fmt::print("  surge impedance {}, waves travel 1 km in {}\n",
             print_rounded(std::sqrt(l1 / c.c1_F_per_m), "ohm"),
             print_rounded(1e3 * std::sqrt(l1 * c.c1_F_per_m), "s"));
}

nlohmann::json to_json(const emt::LineConstants& c) {
  nlohmann::json out{
      {"phases", c.phases}, {"frequency_Hz", c.frequency_Hz}, {"capacitance_F_per_m", c.capacitance_F_per_m}};
  for (const auto& z : c.series_ohm_per_m) {
    out["resistance_ohm_per_m"].push_back(z.real());
    out["reactance_ohm_per_m"].push_back(z.imag());
  }
  if (is_three_phase(c)) {
    out["r1_ohm_per_m"] = c.z1_ohm_per_m.real();
    out["x1_ohm_per_m"] = c.z1_ohm_per_m.imag();
    out["c1_F_per_m"] = c.c1_F_per_m;
    out["r0_ohm_per_m"] = c.z0_ohm_per_m.real();
    out["x0_ohm_per_m"] = c.z0_ohm_per_m.imag();
    out["c0_F_per_m"] = c.c0_F_per_m;
  }
  return out;
}

nlohmann::json to_json(const emt::FrequencyLine& fit) {
  nlohmann::json out{{"passive", fit.passive()}};
  for (const emt::FittedMode& m : fit.modes) {
    out["modes"].push_back({{"delay_s", m.delay_s},
                            {"admittance_error", m.admittance.error},
                            {"propagation_error", m.propagation.error},
                            {"least_real_S", m.least_real_S},
                            {"largest_propagation", m.largest_propagation}});
  }
  return out;
}

void print(const emt::FrequencyLine& fit, const std::string& length, int poles) {
  fmt::print("\nfit over frequency, {} with {} poles: {}\n", length, poles,
             fit.passive() ? "passive" : "NOT PASSIVE");
  fmt::print("  mode      delay   admittance error   propagation error\n");
  for (std::size_t k = 0; k < fit.modes.size(); ++k) {
    fmt::print("  {:<4}{:>11}{:>17.3f}%{:>19.3f}%\n", k + 1, print_rounded(fit.modes[k].delay_s, "s"),
               100 * fit.modes[k].admittance.error, 100 * fit.modes[k].propagation.error);
  }
}

nlohmann::json to_json(const emt::PhaseLine& fit) {
  nlohmann::json out{{"passive", fit.passive()},
                     {"admittance_error", fit.admittance_error},
                     {"propagation_error", fit.propagation_error},
                     {"least_conductance", fit.least_conductance}};
  for (const emt::WaveFront& front : fit.fronts)
    out["fronts"].push_back({{"delay_s", front.delay_s}, {"poles", front.propagation.poles.size()}});
  return out;
}

void print(const emt::PhaseLine& fit, const std::string& length, int poles) {
  fmt::print("\nfit in phases over frequency, {} with {} poles a front: {}\n", length, poles,
             fit.passive() ? "passive" : "NOT PASSIVE");
  fmt::print("  error of the admittance {:.3f} %, of what arrives {:.4f} %\n", 100 * fit.admittance_error,
             100 * fit.propagation_error);
  for (const emt::WaveFront& front : fit.fronts)
    fmt::print("  waves arrive after {}\n", print_rounded(front.delay_s, "s"));
}

}  // namespace

int line(const LineOptions& options) {
  const emt::LineGeometry geometry = casefile::read_line_geometry(options.geometry);
  const emt::LineConstants constants = emt::line_constants(geometry);
  const bool fits = !options.length.empty() || !options.figure.empty() || options.in_phases;
  const std::string length = options.length.empty() ? "10 km" : options.length;
  const emt::FrequencyLineOptions how{.length_m = parse_quantity_as(length, "m"), .poles = options.poles};
  if (!(how.length_m > 0)) throw Error("a length above zero is wanted");
  if (options.in_phases && !options.figure.empty())
    throw Error("--figure draws the fit in modes; leave --in-phases out");
  emt::FrequencyLine fit;
  emt::PhaseLine in_phases;
  if (fits && options.in_phases) in_phases = emt::fit_line_in_phases(geometry, how);
  if (fits && !options.in_phases) fit = emt::fit_line(geometry, how);
  if (!options.figure.empty()) report::draw_line(geometry, fit, how, options.geometry, options.figure);
  if (options.json) {
    nlohmann::json out = to_json(constants);
    if (fits) out["fit"] = options.in_phases ? to_json(in_phases) : to_json(fit);
    fmt::print("{}\n", printed("line", out));
    return done;
  }
  print(constants, geometry);
  if (fits && options.in_phases) print(in_phases, length, options.poles);
  if (fits && !options.in_phases) print(fit, length, options.poles);
  return done;
}

}  // namespace zavrek::tool
