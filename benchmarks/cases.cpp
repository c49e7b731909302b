// Whole cases with converters as they run: plant, control, sensors, recorder. What a step takes over the step
// itself is what counts: median, 99.9 % and the worst, behind a second in which breakers have moved. A run is
// the same each time, so that the least that each step took in several of them is its own work; what one of
// them took holds what the computer did beside it. Baseline: a loop that only asks the clock, how often that
// was held up and for how long, and the share of the time that the host of a virtual machine took.
#include <algorithm>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <numeric>
#include <set>
#include <string>
#include <vector>

#include "zavrek/bench/run.hpp"
#include "zavrek/casefile.hpp"

namespace {

using namespace zavrek;
constexpr double warm_s = 1, measured_s = 1;
constexpr int passes = 5;

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

/// A loop that asks the clock: how often a second it was held up for more than 2 us, for how long at most.
struct HeldUp {
  int times = 0;
  double longest_us = 0;
};
HeldUp spin() {
  using Clock = std::chrono::steady_clock;
  HeldUp held;
  const auto begin = Clock::now();
  auto before = begin;
  while (before - begin < std::chrono::seconds(1)) {
    const auto now = Clock::now();
    const double us = std::chrono::duration<double, std::micro>(now - before).count();
    if (us > 2) ++held.times;
    held.longest_us = std::max(held.longest_us, us);
    before = now;
  }
  return held;
}

/// What each step of a run took, in us; empty when it does not start.
std::vector<float> times_of(const trial::Case& all, const std::string& name) {
  bench::RunOptions how;
  how.place = "plant";
  how.free = true;
  network::Network network = all.network;
  network.faults.clear();
  bench::Run run(all, network, how);
  if (run.plant()->gate_names().empty()) return {};
  run.record(0, 1, {});
  if (const std::string why = run.start(); !why.empty()) {
    std::printf("%-14s %s\n", name.c_str(), why.c_str());
    return {};
  }
  (void)run.execute(warm_s);
  const double step_s = run.exchange().step_s();
  std::vector<float> times(static_cast<std::size_t>(measured_s / step_s));
  constexpr double one_step = 0.999;  // which rounding does not make two
  for (float& us : times) us = 1e-3F * static_cast<float>(run.execute(one_step * step_s).compute.max_ns());
  return times;
}

/// Sorts what it is given.
float quantile(std::vector<float>& times, double share) {
  std::sort(times.begin(), times.end());
  return times[static_cast<std::size_t>(share * static_cast<double>(times.size() - 1))];
}

void measure(const std::filesystem::path& folder) {
  const trial::Case all = casefile::read_case(folder);
  const std::string name = folder.filename();
  const Ticks before = ticks();
  std::vector<float> own = times_of(all, name);
  if (own.empty()) return;
  float ran_999 = 1e9F;
  for (int pass = 1; pass < passes; ++pass) {
    std::vector<float> times = times_of(all, name);
    std::transform(own.begin(), own.end(), times.begin(), own.begin(),
                   [](float a, float b) { return std::min(a, b); });
    ran_999 = std::min(ran_999, quantile(times, 0.999));
  }
  const Ticks after = ticks();
  const HeldUp held = spin();
  const double step_us = 1e6 * measured_s / static_cast<double>(own.size());
  const double sum_us = std::accumulate(own.begin(), own.end(), 0.0);
  const float median = quantile(own, 0.5), most_of_999 = quantile(own, 0.999), worst = own.back();
  std::printf("%-13s %5.1f us %8.2f %7.2f %7.2f %9.2f %9.2f %7.1f %10.2f %8d %9.0f %7.1f %%\n", name.c_str(),
              step_us, median, most_of_999, worst, most_of_999 / step_us, worst / step_us,
              1e6 * measured_s / sum_us, ran_999, held.times, held.longest_us,
              100 * (after.stolen - before.stolen) / std::max(1.0, after.all - before.all));
}

}  // namespace

int main() {
  std::printf("whole cases, free pace, us: own work of each step (the least of %d runs), and as it ran\n",
              passes);
  std::printf("%-13s %8s %8s %7s %7s %9s %9s %7s %10s %8s %9s %9s\n", "case", "step", "median", "99.9 %",
              "worst", "99.9/step", "worst/st.", "x real", "ran 99.9 %", "held/s", "longest", "stolen");
  std::set<std::filesystem::path> folders;
  for (const auto& entry : std::filesystem::directory_iterator(ZAVREK_DEMO)) {
    if (std::filesystem::exists(entry.path() / "network.toml")) folders.insert(entry.path());
  }
  for (const auto& folder : folders) measure(folder);
}
