// Whole cases with converters as they run: plant, control, sensors, recorder. What a step takes over the step
// itself is what counts: median, 99.9 % and the worst, behind a second in which states of switches are met.
// Baseline: empty steps in the same time, and the share of it that the host of a virtual machine took.
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <set>
#include <string>

#include "zavrek/bench/run.hpp"
#include "zavrek/casefile.hpp"

namespace {

using namespace zavrek;
constexpr double warm_s = 1, measured_s = 2;
constexpr int stretches = 10;

/// Of all processors since the start: what was stolen, and all.
struct Ticks {
  double stolen = 0, all = 0;
};
Ticks ticks() {
  std::ifstream file("/proc/stat");
  std::string word;
  file >> word;
  Ticks sum;
  constexpr int fields = 8, stolen = 7;
  for (int k = 0; k < fields; ++k) {
    double count = 0;
    file >> count;
    sum.all += count;
    if (k == stolen) sum.stolen = count;
  }
  return sum;
}

/// Empty steps for about as long as the case took.
pace::Timing idle(std::int64_t step_ns, std::int64_t steps) {
  pace::Executive executive(pace::system_clock(), true);
  return executive.run(pace::Pace::free, step_ns, steps, [](std::int64_t) { return true; });
}

/// The quantile of several stretches' worst one, but for the median, which is that of the best.
struct Row {
  double median_us = 1e9, most_of_999_us = 1e9, worst_us = 0, took_s = 0, idle_999_us = 0, idle_worst_us = 0;
};

void measure(const std::filesystem::path& folder) {
  const trial::Case all = casefile::read_case(folder);
  bench::RunOptions how;
  how.place = "plant";
  how.free = true;
  network::Network network = all.network;
  network.faults.clear();
  bench::Run run(all, network, how);
  if (run.plant()->gate_names().empty()) return;
  run.record(0, 1, {});
  if (const std::string why = run.start(); !why.empty()) {
    std::printf("%-22s %s\n", folder.filename().c_str(), why.c_str());
    return;
  }
  const auto us = [](std::int64_t ns) { return 1e-3 * static_cast<double>(ns); };
  (void)run.execute(warm_s);
  Row row;
  const Ticks before = ticks();
  const double step_s = run.exchange().step_s();
  for (int k = 0; k < stretches; ++k) {
    const pace::Timing timing = run.execute(measured_s / stretches);
    const double took_s = 1e-9 * static_cast<double>(timing.elapsed_ns);
    row.took_s += took_s;
    row.median_us = std::min(row.median_us, us(timing.compute.quantile_ns(0.5)));
    row.most_of_999_us = std::min(row.most_of_999_us, us(timing.compute.quantile_ns(0.999)));
    row.worst_us = std::max(row.worst_us, us(timing.compute.max_ns()));
    const pace::Timing empty = idle(static_cast<std::int64_t>(step_s * 1e9), timing.steps);
    row.idle_999_us = std::max(row.idle_999_us, us(empty.compute.quantile_ns(0.999)));
    row.idle_worst_us = std::max(row.idle_worst_us, us(empty.compute.max_ns()));
  }
  const Ticks after = ticks();
  const double step_us = 1e6 * step_s;
  std::printf("%-14s %6.1f us %8.2f %8.2f %9.1f %8.2f %8.1f %8.1f %10.2f %9.1f %7.1f %%\n",
              folder.filename().c_str(), step_us, row.median_us, row.most_of_999_us, row.worst_us,
              row.most_of_999_us / step_us, row.worst_us / step_us, measured_s / row.took_s, row.idle_999_us,
              row.idle_worst_us,
              100 * (after.stolen - before.stolen) / std::max(1.0, after.all - before.all));
}

}  // namespace

int main() {
  std::printf("whole cases, free pace, us; 99.9 %% in the quietest of %d stretches, the worst of all\n",
              stretches);
  std::printf("%-14s %9s %8s %8s %9s %8s %8s %8s %10s %9s %9s\n", "case", "step", "median", "99.9 %", "worst",
              "99.9/step", "worst/s.", "x real", "idle 99.9", "idle worst", "stolen");
  std::set<std::filesystem::path> folders;
  for (const auto& entry : std::filesystem::directory_iterator(ZAVREK_DEMO)) {
    if (std::filesystem::exists(entry.path() / "network.toml")) folders.insert(entry.path());
  }
  for (const auto& folder : folders) measure(folder);
}
