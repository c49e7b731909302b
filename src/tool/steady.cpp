#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "tool/json.hpp"
#include "tool/verbs.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt/flow.hpp"

namespace zavrek::tool {
namespace {

constexpr std::string_view letters = "abc";

double degrees(std::complex<double> phasor) { return std::arg(phasor) * 180 / std::numbers::pi; }

/// Thousands with two digits behind the point, without the sign of nothing.
std::string kilo(double value) {
  const double rounded = std::round(value / 10) / 100;
  return fmt::format("{:.2f}", rounded == 0 ? 0.0 : rounded);
}

/// The three phases of a row beside each other; where one is missing, a gap.
template <class Cell>
std::string by_phase(const std::string& phases, int width, Cell&& cell) {
  std::string text;
  for (const char letter : letters) {
    const std::size_t k = phases.find(letter);
    text += fmt::format("{:>{}}", k == std::string::npos ? std::string() : cell(k), width);
  }
  return text;
}

int longest(const std::vector<std::string>& names, std::string_view heading) {
  std::size_t most = heading.size();
  for (const std::string& name : names) most = std::max(most, name.size());
  return static_cast<int>(most);
}

/// A bus as one row: voltages in columns of their own, told by the letter that they begin with.
struct BusRow {
  std::string letters;
  std::vector<std::complex<double>> volts;
  double nominal_V;
};

BusRow row_of(const emt::BusFlow& bus, bool between_phases) {
  if (!between_phases) return {bus.phases, bus.volts, bus.nominal_V};
  BusRow row{{}, {}, bus.nominal_V * std::numbers::sqrt3};
  for (const auto& [pair, volts] : bus.between_phases()) {
    row.letters += pair[0];
    row.volts.push_back(volts);
  }
  return row;
}

void print_buses(const emt::Flow& flow, bool between_phases) {
  std::vector<std::string> names;
  for (const emt::BusFlow& bus : flow.buses) names.push_back(bus.bus);
  const int width = longest(names, "bus");
  fmt::print("  {:<{}}  {:^46}{:^27}{:>11}\n", "bus", width,
             between_phases ? "a-b, b-c, c-a: kV and degrees" : "a, b, c to ground: kV and degrees",
             "per unit of nominal", "unbalance");
  for (const emt::BusFlow& bus : flow.buses) {
    const BusRow row = row_of(bus, between_phases);
    const auto volts = [&](std::size_t k) {
      return fmt::format("{:.4f} {:>6.1f}", std::abs(row.volts[k]) / 1e3, degrees(row.volts[k]));
    };
    const auto per_unit = [&](std::size_t k) {
      return fmt::format("{:.4f}", std::abs(row.volts[k]) / row.nominal_V);
    };
    fmt::print("  {:<{}}{}{}{:>11}\n", bus.bus, width, by_phase(row.letters, 16, volts),
               by_phase(row.letters, 9, per_unit),
               bus.phases == "abc" ? fmt::format("{:.2f} %", 100 * bus.unbalance()) : "");
  }
}

/// As signals count: into an element, but out of what supplies.
std::string way_of(const emt::EndFlow& end) { return end.supplies ? "out of" : "into"; }
double sign_of(const emt::EndFlow& end) { return end.supplies ? -1 : 1; }

void print_ends(const emt::Flow& flow) {
  std::vector<std::string> elements, buses;
  for (const emt::EndFlow& end : flow.ends) {
    elements.push_back(fmt::format("{:<6} {}", way_of(end), end.element));
    buses.push_back(end.bus);
  }
  const int width = longest(elements, ""), at = longest(buses, "at");
  fmt::print("\n  {:<{}}  {:<{}}{:^48}{:>11}{:>11}{:>11}\n", "", width, "at", at, "current, A and degrees",
             "kW", "kvar", "lost kW");
  for (std::size_t k = 0; k < flow.ends.size(); ++k) {
    const emt::EndFlow& end = flow.ends[k];
    const auto amperes = [&](std::size_t p) {
      const std::complex<double> rms = sign_of(end) * end.amperes[p];
      return fmt::format("{:.2f} {:>6.1f}", std::abs(rms), degrees(rms));
    };
    const bool more = k + 1 < flow.ends.size() && flow.ends[k + 1].element == end.element;
    const bool last_of_several = !more && k > 0 && flow.ends[k - 1].element == end.element;
    fmt::print("  {:<{}}  {:<{}}{}{:>11}{:>11}{:>11}\n", elements[k], width, end.bus, at,
               by_phase(end.phases, 16, amperes), kilo(sign_of(end) * end.volt_amperes.real()),
               kilo(sign_of(end) * end.volt_amperes.imag()),
               last_of_several ? kilo(flow.taken_by(end.element).real()) : "");
  }
}

nlohmann::json phasor_json(std::complex<double> rms) {
  return {{"rms", std::abs(rms)}, {"degrees", degrees(rms)}};
}

nlohmann::json to_json(const network::Network& network, const emt::Flow& flow) {
  nlohmann::json out{
      {"title", network.title}, {"buses", nlohmann::json::array()}, {"ends", nlohmann::json::array()}};
  for (const emt::BusFlow& bus : flow.buses) {
    nlohmann::json row{{"bus", bus.bus}, {"nominal_V", bus.nominal_V}, {"unbalance", bus.unbalance()}};
    for (std::size_t k = 0; k < bus.phases.size(); ++k)
      row["v"][bus.phases.substr(k, 1)] = phasor_json(bus.volts[k]);
    for (const auto& [pair, volts] : bus.between_phases()) row["v"][pair] = phasor_json(volts);
    out["buses"].push_back(std::move(row));
  }
  for (const emt::EndFlow& end : flow.ends) {
    nlohmann::json row{{"element", end.element},
                       {"bus", end.bus},
                       {"counts", way_of(end)},
                       {"active_W", sign_of(end) * end.volt_amperes.real()},
                       {"reactive_var", sign_of(end) * end.volt_amperes.imag()}};
    for (std::size_t k = 0; k < end.phases.size(); ++k)
      row["i"][end.phases.substr(k, 1)] = phasor_json(sign_of(end) * end.amperes[k]);
    out["ends"].push_back(std::move(row));
  }
  for (const auto& [signal, value] : flow.taps) out["taps"][signal] = value;
  return out;
}

}  // namespace

int steady(const SteadyOptions& options) {
  trial::Case all = casefile::read_case(options.folder);
  bench::open_laws(all);
  const emt::Flow flow = emt::flow_of(all.network, emt::compile(all.network));
  if (options.json) {
    fmt::print("{}\n", printed("steady", to_json(all.network, flow)));
    return done;
  }
  fmt::print("{}: the state that runs start in, rms\n\n",
             all.network.title.empty() ? all.folder.string() : all.network.title);
  if (all.network.start == "zero") {
    fmt::print("  everything is at rest (start = \"zero\" in network.toml)\n");
    return done;
  }
  print_buses(flow, options.between_phases);
  print_ends(flow);
  if (!flow.taps.empty()) fmt::print("\n");
  for (const auto& [signal, value] : flow.taps) fmt::print("  {} {:g}\n", signal, value);
  return done;
}

}  // namespace zavrek::tool
