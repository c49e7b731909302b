// What a step costs, beside what it would cost otherwise and beside the floor of the machine.
//
//   plant          a step of the compiled network, everything included
//   solve          the nodal equations alone, as the plant solves them within it
//   klu solve      a general sparse solve with the same number of nodes and the same pattern, factors given
//   klu refactor   the same with a numerical refactorisation before it (what a switching would cost there)
//   floor          one pass over as many numbers as the plant's factors hold
//
// Transposed cables make balanced blocks, which are solved in symmetrical components; untransposed ones are
// solved in phases.
//
// Results are checked before anything is timed. Times are medians of repetitions of one run.
#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <klu.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <memory>
#include <numeric>
#include <random>

#include <Eigen/SparseCore>

#include "emt/compile/compile.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/pace/crew.hpp"

namespace {

using namespace zavrek;

/// The lower triangle, by rows, of what sequence values give per metre: as they say, or with phases that
/// differ a little, as an untransposed cable's do.
std::vector<double> per_metre(double positive, double zero, bool transposed) {
  const double own = (2 * positive + zero) / 3, mutual = (zero - positive) / 3;
  if (transposed) return {own, mutual, own, mutual, mutual, own};
  return {own, mutual * 1.02, own * 1.01, mutual * 0.97, mutual * 1.01, own * 0.99};
}

/// A district: a tree of `buses` three-phase buses joined by cables, a load at each, one source.
struct District {
  network::Network network;
  std::vector<std::pair<int, int>> edges;
};

District district(int buses, bool transposed = true) {
  District d;
  std::mt19937 random(1);
  for (int k = 0; k < buses; ++k) d.network.buses.push_back({fmt::format("b{}", k), 11e3});
  d.network.elements.emplace_back(network::Source{.name = "grid", .bus = "b0", .short_circuit_VA = 250e6});
  for (int k = 1; k < buses; ++k) {
    const int from = k - 1 - static_cast<int>(random() % static_cast<unsigned>(std::min(k, 4)));
    d.edges.emplace_back(from, k);
    d.network.elements.emplace_back(
        network::Cable{.name = fmt::format("c{}", k),
                       .between = {fmt::format("b{}", from), fmt::format("b{}", k)},
                       .length_m = 300,
                       .r_matrix_ohm_per_m = per_metre(1.6e-4, 9e-4, transposed),
                       .x_matrix_ohm_per_m = per_metre(1e-4, 3e-4, transposed),
                       .b_matrix_S_per_m = per_metre(1.13e-7, 1.13e-7, transposed)});
    d.network.elements.emplace_back(network::Load{.name = fmt::format("l{}", k),
                                                  .bus = fmt::format("b{}", k),
                                                  .active_W = 2e4,
                                                  .reactive_var = 5e3,
                                                  .connection = "grounded star"});
  }
  return d;
}

/// The same number of buses as four districts in a row, joined by travelling-wave lines.
network::Network areas(int buses) {
  constexpr int count = 4;
  network::Network whole;
  for (int area = 0; area < count; ++area) {
    network::Network one = district(buses / count).network;
    const auto renamed = [&](const std::string& name) { return fmt::format("a{}{}", area, name); };
    for (network::Bus& bus : one.buses) whole.buses.push_back({renamed(bus.name), bus.voltage_V});
    for (network::Element& element : one.elements) {
      std::visit(
          [&](auto& e) {
            e.name = renamed(e.name);
            if constexpr (requires { e.between; }) e.between = {renamed(e.between[0]), renamed(e.between[1])};
            if constexpr (requires { e.bus; }) e.bus = renamed(e.bus);
          },
          element);
      whole.elements.push_back(std::move(element));
    }
    if (area == 0) continue;
    whole.elements.emplace_back(network::Line{.name = fmt::format("tie{}", area),
                                              .between = {fmt::format("a{}b0", area - 1), renamed("b0")},
                                              .length_m = 20e3,
                                              .r1_ohm_per_m = 1e-4,
                                              .x1_ohm_per_m = 4e-4,
                                              .c1_F_per_m = 9e-12,
                                              .r0_ohm_per_m = 3e-4,
                                              .x0_ohm_per_m = 1.2e-3,
                                              .c0_F_per_m = 5e-12});
  }
  return whole;
}

/// The pattern of the nodal matrix of a district, with values of its order of magnitude.
Eigen::SparseMatrix<double> matrix_of(const District& d, int buses) {
  std::vector<Eigen::Triplet<double>> entries;
  const auto block = [&](int row, int column, double self, double mutual) {
    for (int a = 0; a < 3; ++a) {
      for (int b = 0; b < 3; ++b) entries.emplace_back(3 * row + a, 3 * column + b, a == b ? self : mutual);
    }
  };
  for (int k = 0; k < buses; ++k) block(k, k, 0.2, 0.01);
  for (const auto& [from, to] : d.edges) {
    block(from, from, 0.30, -0.05);
    block(to, to, 0.30, -0.05);
    block(from, to, -0.30, 0.05);
    block(to, from, -0.30, 0.05);
  }
  Eigen::SparseMatrix<double> matrix(3 * buses, 3 * buses);
  matrix.setFromTriplets(entries.begin(), entries.end());
  return matrix;
}

struct Klu {
  Eigen::SparseMatrix<double> matrix;
  klu_common common{};
  klu_symbolic* symbolic;
  klu_numeric* numeric;
  explicit Klu(Eigen::SparseMatrix<double> m) : matrix(std::move(m)) {
    klu_defaults(&common);
    symbolic = klu_analyze(n(), matrix.outerIndexPtr(), matrix.innerIndexPtr(), &common);
    numeric =
        klu_factor(matrix.outerIndexPtr(), matrix.innerIndexPtr(), matrix.valuePtr(), symbolic, &common);
  }
  Klu(const Klu&) = delete;
  Klu& operator=(const Klu&) = delete;
  ~Klu() {
    klu_free_numeric(&numeric, &common);
    klu_free_symbolic(&symbolic, &common);
  }
  [[nodiscard]] int n() const { return static_cast<int>(matrix.rows()); }
  void solve(Eigen::VectorXd& b) { klu_solve(symbolic, numeric, n(), 1, b.data(), &common); }
  void refactor() {
    klu_refactor(matrix.outerIndexPtr(), matrix.innerIndexPtr(), matrix.valuePtr(), symbolic, numeric,
                 &common);
  }
};

void require(bool truth, const char* what) {
  if (truth) return;
  fmt::print(stderr, "wrong result before timing: {}\n", what);
  std::exit(1);
}

void bench_plant(benchmark::State& state, const network::Network& network, int cores = 1) {
  emt::Plant plant = emt::compile(network);
  pace::Crew crew(cores);
  if (cores > 1) plant.share(&crew);
  const emt::SignalId signal = plant.signal(plant.signal_names().front());
  for (int k = 0; k < 400; ++k) require(plant.step() == emt::Status::running, "the plant diverged");
  const double expected =
      (plant.phasor(signal) * std::polar(1.0, 2 * 3.14159265358979 * 50 * plant.time_s())).real();
  require(std::abs(plant.value(signal) - expected) < 1e-6 * std::abs(plant.phasor(signal)),
          "the steady state was left");
  for (auto _ : state) benchmark::DoNotOptimize(plant.step());
}

/// The nodal equations alone, as the plant solves them in each step.
void bench_solve(benchmark::State& state, const network::Network& network) {
  const emt::internal::Compiled compiled = emt::internal::compile_parts(network, 0);
  auto& core = *compiled.core;
  for (auto& value : core.at.present) value = 1e-3;
  for (auto _ : state) {
    for (auto& partition : core.conductances.partitions)
      partition.solve(core.at.present.data(), core.at.present.data());
    benchmark::DoNotOptimize(core.at.present.data());
  }
}

void bench_klu(benchmark::State& state, int buses, bool refactor) {
  Klu klu(matrix_of(district(buses), buses));
  const Eigen::VectorXd b = Eigen::VectorXd::LinSpaced(klu.n(), -1, 1);
  Eigen::VectorXd x = b;
  klu.solve(x);
  require((klu.matrix * x - b).norm() < 1e-9 * b.norm(), "KLU's solution");
  for (auto _ : state) {
    if (refactor) klu.refactor();
    x = b;
    klu.solve(x);
    benchmark::DoNotOptimize(x.data());
  }
}

void bench_floor(benchmark::State& state, int numbers) {
  const Eigen::VectorXd values = Eigen::VectorXd::LinSpaced(numbers, 0, 1);
  for (auto _ : state) benchmark::DoNotOptimize(values.sum());
}

/// Steps around a three-phase fault that strikes between grid points again and again, medians in ns.
struct AroundFault {
  double median = 0;  // of all
  double two_ahead = 0, ahead = 0, strike = 0, behind = 0;
  double clearing = 0;  // a step in which a pole interrupts
  double at_once = 0;   // the strike, commanded only in the step that it falls in
  [[nodiscard]] double worst() const { return std::max({two_ahead, ahead, strike, behind, clearing}); }
};

AroundFault around_fault(network::Network network, const network::Fault& fault) {
  network.faults = {fault};
  emt::Plant plant = emt::compile(network);
  const emt::OperableId strikes = plant.operable(fault.name);
  auto& clock = pace::system_clock();
  std::map<std::string, std::vector<double>> times;
  const auto step = [&](const std::string& what) {
    const auto begun = clock.now_ns();
    benchmark::DoNotOptimize(plant.step());
    times[what].push_back(static_cast<double>(clock.now_ns() - begun));
  };
  std::vector<double> best(7, 1e300);
  for (int round = 0; round < 5; ++round) {  // the best of five, for the machine is not ours alone
    times.clear();
    for (int k = 0; k < 60; ++k) {
      const bool early = k % 4 != 0;
      for (int n = 0; n < 200; ++n) step("all");
      if (early) plant.close(strikes, plant.time_s() + 5.4 * plant.step_s());
      for (int n = 0; n < 3; ++n) (void)plant.step();
      for (const char* what : {"two ahead", "ahead"}) early ? step(what) : (void)plant.step();
      if (!early) plant.close(strikes, plant.time_s() + 0.4 * plant.step_s());
      step(early ? "strike" : "at once");
      early ? step("behind") : (void)plant.step();
      for (int n = 0; n < 200; ++n) (void)plant.step();
      plant.open(strikes, plant.time_s());
      for (int n = 0; n < 400; ++n) {
        const long long before = plant.discontinuities();
        const auto begun = clock.now_ns();
        benchmark::DoNotOptimize(plant.step());
        const auto took = static_cast<double>(clock.now_ns() - begun);
        if (plant.discontinuities() == before + 1) times["clearing"].push_back(took);
      }
    }
    std::size_t at = 0;
    for (const char* what : {"all", "two ahead", "ahead", "strike", "behind", "clearing", "at once"}) {
      std::vector<double>& all = times[what];
      const auto middle = all.begin() + static_cast<std::ptrdiff_t>(all.size() / 2);
      std::nth_element(all.begin(), middle, all.end());
      best[at] = std::min(best[at], *middle);
      ++at;
    }
  }
  return {best[0], best[1], best[2], best[3], best[4], best[5], best[6]};
}

/// Collects medians and prints them as tables in the end.
class TableReporter final : public benchmark::BenchmarkReporter {
 public:
  bool ReportContext(const Context&) override { return true; }
  void ReportRuns(const std::vector<Run>& runs) override {
    for (const Run& run : runs) {
      if (run.run_type == Run::RT_Aggregate && run.aggregate_name == "median")
        medians_[run.run_name.function_name] = run.GetAdjustedRealTime();  // manual time where it is used
    }
  }
  /// NaN for what a filter left out.
  double operator[](const std::string& name) const {
    const auto found = medians_.find(name);
    return found == medians_.end() ? std::numeric_limits<double>::quiet_NaN() : found->second;
  }

 private:
  std::map<std::string, double> medians_;
};

}  // namespace

int main(int argc, char** argv) {
  benchmark::Initialize(&argc, argv);
  const std::vector<int> sizes{10, 33, 100, 333, 1000, 3333};
  const trial::Case quay = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  const auto add = [](const std::string& name, auto&& work) {
    benchmark::RegisterBenchmark(name.c_str(), work)
        ->Repetitions(7)
        ->ReportAggregatesOnly(true)
        ->MinTime(0.05)
        ->Unit(benchmark::kNanosecond);
  };
  for (const int buses : sizes) {
    const std::string of = "/" + std::to_string(buses);
    const network::Network network = district(buses).network;
    add("plant" + of, [network](benchmark::State& s) { bench_plant(s, network); });
    const network::Network untransposed = district(buses, false).network;
    add("plant untransposed" + of, [untransposed](benchmark::State& s) { bench_plant(s, untransposed); });
    add("own untransposed" + of, [untransposed](benchmark::State& s) { bench_solve(s, untransposed); });
    const network::Network joined = areas(buses);
    if (buses >= 33) {
      add("one" + of, [joined](benchmark::State& s) { bench_plant(s, joined); });
      add("two" + of, [joined](benchmark::State& s) { bench_plant(s, joined, 2); });
    }
    add("own" + of, [network](benchmark::State& s) { bench_solve(s, network); });
    add("solve" + of, [buses](benchmark::State& s) { bench_klu(s, buses, false); });
    add("refactor" + of, [buses](benchmark::State& s) { bench_klu(s, buses, true); });
    const auto add_floor = [&](const std::string& which, const network::Network& whose) {
      const int entries = emt::compile(whose).summary().factor_entries;
      add("floor" + which + of, [entries](benchmark::State& s) { bench_floor(s, entries); });
    };
    add_floor("", network);
    add_floor(" untransposed", untransposed);
  }
  add("demo", [&](benchmark::State& s) { bench_plant(s, quay.network); });
  TableReporter table;
  benchmark::RunSpecifiedBenchmarks(&table);

  const auto print_steps = [&](const std::string& which) {
    fmt::print("{:>6} {:>11} {:>11} {:>13} {:>13} {:>11} {:>11} {:>11} {:>11}\n", "buses", "step ns",
               "solve ns", "klu solve ns", "refactor ns", "floor ns", "klu/solve", "klu/step", "step/floor");
    for (const int buses : sizes) {
      const auto of = [&](const std::string& name) { return table[fmt::format("{}/{}", name, buses)]; };
      const double plant = of("plant" + which), own = of("own" + which), klu = of("solve");
      fmt::print("{:>6} {:>11.0f} {:>11.0f} {:>13.0f} {:>13.0f} {:>11.0f} {:>11.2f} {:>11.2f} {:>11.2f}\n",
                 buses, plant, own, klu, of("refactor"), of("floor" + which), klu / own, klu / plant,
                 plant / of("floor" + which));
    }
  };
  fmt::print("transposed cables:\n");
  print_steps("");
  fmt::print("\nuntransposed cables:\n");
  print_steps(" untransposed");
  fmt::print("\nthe same buses in four areas joined by lines:\n{:>6} {:>13} {:>13} {:>7}\n", "buses",
             "one core ns", "two cores ns", "ratio");
  for (const int buses : sizes) {
    if (buses < 33) continue;
    const double one = table[fmt::format("one/{}", buses)], two = table[fmt::format("two/{}", buses)];
    fmt::print("{:>6} {:>13.0f} {:>13.0f} {:>7.2f}\n", buses, one, two, one / two);
  }
  fmt::print(
      "\ngrowth from {} to {} buses: exponent {:.3f}\n", sizes[1], sizes.back(),
      std::log(table[fmt::format("plant/{}", sizes.back())] / table[fmt::format("plant/{}", sizes[1])]) /
          std::log(static_cast<double>(sizes.back()) / sizes[1]));
  fmt::print("\nVeskar quay: {:.0f} ns a step\n", table["demo"]);
  fmt::print(
      "\nsteps around a three-phase fault, in times the median step; commanded ahead, but for the last:\n"
      "{:<14} {:>10} {:>10} {:>7} {:>8} {:>8} {:>10} {:>7} {:>9}\n",
      "", "median ns", "two ahead", "ahead", "strike", "behind", "clearing", "worst", "at once");
  const auto print_fault = [](const std::string& of, const AroundFault& t) {
    const auto times = [&](double ns) { return ns / t.median; };
    fmt::print("{:<14} {:>10.0f} {:>10.2f} {:>7.2f} {:>8.2f} {:>8.2f} {:>10.2f} {:>7.2f} {:>9.2f}\n", of,
               t.median, times(t.two_ahead), times(t.ahead), times(t.strike), times(t.behind),
               times(t.clearing), times(t.worst()), times(t.at_once));
  };
  print_fault("Veskar quay", around_fault(quay.network, quay.trials[0].fault->fault));
  for (const int buses : {100, 1000}) {
    for (const bool transposed : {true, false}) {
      const network::Fault fault{
          .on = fmt::format("b{}", buses / 2), .phases = "ABC", .resistance_ohm = 0.05};
      print_fault(fmt::format("{}{}", buses, transposed ? "" : " untrans."),
                  around_fault(district(buses, transposed).network, fault));
    }
  }
}
