// The step of switched converters: two-level and three-level bridge behind LC filter, transformer and grid,
// once per microsecond of plant time, and a drive (rectifier, d.c. link, inverter, filter, machine), every 2
// us: all steps, and those in which a valve changes over (every other gate edge finds a diode conducting and
// changes nothing), and those just before them, which look ahead. Beside it the plain way, a dense matrix
// solved in each step and factored again at each switching, and the floor, one pass over the numbers that a
// kept state of the same size holds. Times are read around each step, the least of five passes; the clock's
// own cost is measured and taken off. Then the same locked to the clock, with the controller that fires the
// gates, beside steps that do nothing: what the computer itself takes away.
#include <algorithm>
#include <cmath>
#include <optional>
#include <vector>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "emt/converters.hpp"
#include "zavrek/zavrek.hpp"

namespace {

using namespace zavrek;
using namespace zavrek::network;

Network drive() {
  Network n;
  n.step_s = 2e-6;
  n.buses = {{"grid", 400}, {"rectifier", 400}, {"dc", 560, "pn"}, {"ac", 400}, {"motor", 400}};
  n.elements = {
      Source{.name = "quay", .bus = "grid", .short_circuit_VA = 6e6, .x_over_r = 4},
      Branch{
          .name = "choke", .between = {"grid", "rectifier"}, .resistance_ohm = 5e-3, .inductance_H = 0.2e-3},
      Bridge{.name = "R",
             .dc = "dc",
             .ac = "rectifier",
             .device = "diode",
             .on_resistance_ohm = 2e-3,
             .drop_V = 0.9},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 4e-3, .voltage_V = 560, .earth_ohm = 1e5},
      Bridge{.name = "B", .dc = "dc", .ac = "ac", .on_resistance_ohm = 4e-3, .drop_V = 1.2},
      Branch{.name = "L1", .between = {"ac", "motor"}, .resistance_ohm = 5e-3, .inductance_H = 0.3e-3},
      Capacitor{.name = "C1", .bus = "motor", .reactive_var = 2e3, .connection = "star"},
      InductionMachine{.name = "hoist",
                       .bus = "motor",
                       .stator_resistance_ohm = 0.08,
                       .stator_leakage_ohm = 0.25,
                       .magnetizing_ohm = 8,
                       .rotor_leakage_ohm = 0.25,
                       .rotor_resistance_ohm = 0.06,
                       .inertia_kgm2 = 1.6,
                       .start = "standstill"}};
  return n;
}

double quantile(std::vector<double>& times, double share) {
  const auto at = times.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(times.size() - 1));
  std::nth_element(times.begin(), at, times.end());
  return *at;
}

struct Times {
  std::vector<double> plain, before, commutating;  // `before` among the plain ones too
};

/// The least that each step took in several passes, which are alike: its own work.
Times run(const Network& network, bool three_levels, double clock_ns) {
  constexpr int passes = 5;
  constexpr long long warm = 50'000, steps = 400'000;
  constexpr auto measured = static_cast<std::size_t>(steps - warm);
  std::vector<double> least(measured, 1e18);
  std::vector<char> plain(measured, 1);
  auto& clock = pace::system_clock();
  for (int pass = 0; pass < passes; ++pass) {
    emt::Plant plant = emt::compile(network);
    test::CarrierFeeder feed(plant, three_levels);
    for (long long k = 0; k < steps; ++k) {
      feed(plant, k);
      const long long events = plant.discontinuities();
      const auto begun = clock.now_ns();
      if (plant.step() != emt::Status::running) throw Error("the converter diverged");
      const auto took = static_cast<double>(clock.now_ns() - begun) - clock_ns;
      if (k < warm) continue;
      const auto at = static_cast<std::size_t>(k - warm);
      least[at] = std::min(least[at], took);
      plain[at] = plant.discontinuities() == events ? 1 : 0;
    }
  }
  Times times;
  for (std::size_t k = 0; k < measured; ++k) {
    if (plain[k] == 0 && k > 0 && plain[k - 1] != 0) times.before.push_back(least[k - 1]);
    (plain[k] != 0 ? times.plain : times.commutating).push_back(least[k]);
  }
  return times;
}

/// A dense symmetric matrix of n nodes: solved, or factored and solved, median of many.
double dense_ns(int n, bool factor) {
  const Eigen::MatrixXd a = Eigen::MatrixXd::Random(n, n);
  const Eigen::MatrixXd g = a * a.transpose() + n * Eigen::MatrixXd::Identity(n, n);
  const Eigen::VectorXd b = Eigen::VectorXd::LinSpaced(n, -1, 1);
  Eigen::LDLT<Eigen::MatrixXd> ldlt(g);
  Eigen::VectorXd x = b;
  std::vector<double> times;
  auto& clock = pace::system_clock();
  constexpr int batch = 50;
  for (int k = 0; k < 400; ++k) {
    const auto begun = clock.now_ns();
    for (int j = 0; j < batch; ++j) {
      if (factor) ldlt.compute(g);
      x = ldlt.solve(b + 1e-12 * x);
    }
    times.push_back(static_cast<double>(clock.now_ns() - begun) / batch);
  }
  return quantile(times, 0.5);
}

double floor_ns(int numbers) {
  const Eigen::VectorXd values = Eigen::VectorXd::LinSpaced(numbers, 0, 1);
  std::vector<double> times;
  auto& clock = pace::system_clock();
  double sum = 0;
  for (int k = 0; k < 400; ++k) {
    const auto begun = clock.now_ns();
    for (int j = 0; j < 50; ++j) sum += values.sum() + sum * 1e-300;
    times.push_back(static_cast<double>(clock.now_ns() - begun) / 50);
  }
  return sum > 0 ? quantile(times, 0.5) : 0;
}

double clock_cost_ns() {
  auto& clock = pace::system_clock();
  std::vector<double> times;
  for (int k = 0; k < 10'000; ++k) {
    const auto begun = clock.now_ns();
    times.push_back(static_cast<double>(clock.now_ns() - begun));
  }
  return quantile(times, 0.5);
}

/// Steps of a plant and its feeder, or of nothing, locked to the clock.
void run_paced(const char* name, double step_s, const Network* network, bool three_levels) {
  constexpr double seconds = 2;
  std::optional<emt::Plant> plant;
  std::optional<test::CarrierFeeder> feed;
  if (network != nullptr) feed.emplace(plant.emplace(emt::compile(*network)), three_levels);
  const pace::RealtimeGrants grants = pace::acquire_realtime();
  const pace::Timing timing = pace::Executive(pace::system_clock(), grants.waiting())
                                  .run(pace::Pace::wall, std::llround(step_s * 1e9),
                                       std::llround(seconds / step_s), [&](std::int64_t step) {
                                         if (!plant) return true;
                                         (*feed)(*plant, step);
                                         return plant->step() == emt::Status::running;
                                       });
  pace::leave_realtime();
  if (timing.steps < std::llround(seconds / step_s)) throw Error("the converter diverged");
  fmt::print("{:<30}{:>10.3f}%{:>11}{:>11}{:>12.1f}{:>12.1f}\n", name,
             100 * static_cast<double>(timing.overruns) / static_cast<double>(timing.steps),
             timing.compute.quantile_ns(0.5), timing.compute.quantile_ns(0.999),
             static_cast<double>(timing.lateness.quantile_ns(0.999)) / 1e3,
             static_cast<double>(timing.lateness.max_ns()) / 1e3);
  for (const std::string& shortcoming : grants.shortcomings) fmt::print("  note: {}\n", shortcoming);
}

}  // namespace

int main() {
  const double clock_ns = clock_cost_ns();
  fmt::print(
      "converters, 10 kHz carrier, ns a step\n{:<20}{:>7}{:>9}{:>9}{:>13}{:>11}{:>13}{:>13}{:>10}{:>9}\n", "",
      "nodes", "median", "before", "commutating", "99.9 %", "dense solve", "and factor", "floor", "of them");
  struct Subject {
    const char* name;
    Network network;
    bool three;
  };
  const std::vector<Subject> subjects = {{"two-level, 1 us", test::filtered_converter(false), false},
                                         {"three-level, 1 us", test::filtered_converter(true), true},
                                         {"drive, 2 us", drive(), false}};
  for (const auto& [name, network, three] : subjects) {
    const int nodes = emt::compile(network).summary().nodes;
    Times times = run(network, three, clock_ns);
    const double share = static_cast<double>(times.commutating.size()) /
                         static_cast<double>(times.plain.size() + times.commutating.size());
    std::vector<double> all = times.plain;
    all.insert(all.end(), times.commutating.begin(), times.commutating.end());
    fmt::print("{:<20}{:>7}{:>9.0f}{:>9.0f}{:>13.0f}{:>11.0f}{:>13.0f}{:>13.0f}{:>10.0f}{:>8.1f}%\n", name,
               nodes, quantile(all, 0.5), quantile(times.before, 0.5), quantile(times.commutating, 0.5),
               quantile(all, 0.999), dense_ns(nodes, false), dense_ns(nodes, true), floor_ns(nodes * nodes),
               100 * share);
  }
  fmt::print("\npaced for 2 s{:>28}{:>11}{:>11}{:>12}{:>12}\n{:>41}{:>11}{:>11}{:>12}{:>12}\n", "overruns",
             "compute", "compute", "late start", "late start", "", "median ns", "99.9 % ns", "99.9 % us",
             "worst us");
  run_paced("nothing, 1 us", 1e-6, nullptr, false);
  for (const auto& [name, network, three] : subjects) run_paced(name, network.step_s, &network, three);
}
