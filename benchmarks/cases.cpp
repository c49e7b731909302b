// Whole cases with converters as they run: plant, control, sensors, recorder. What a step takes over the step
// itself is what counts: median, 99.9 % and the worst, behind a second in which breakers have moved. A run is
// the same each time, so that the least that each step took in several of them is its own work; what one of
// them took holds what the computer did beside it. Baseline: a loop that only asks the clock, how often that
// was held up and for how long, and the share of the time that the host of a virtual machine took.
#include <algorithm>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <numeric>
#include <set>
#include <string>
#include <vector>

#include "zavrek/bench/run.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/pace/machine.hpp"

namespace {

using namespace zavrek;
constexpr double warm_s = 1, measured_s = 1;
constexpr int passes = 5;

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
  const int processor = pace::processors_allowed().back();
  const auto begun = std::chrono::steady_clock::now();
  const std::int64_t stolen = pace::system_clock().stolen_ns();
  std::vector<float> own = times_of(all, name);
  if (own.empty()) return;
  float ran_999 = 1e9F;
  for (int pass = 1; pass < passes; ++pass) {
    std::vector<float> times = times_of(all, name);
    std::transform(own.begin(), own.end(), times.begin(), own.begin(),
                   [](float a, float b) { return std::min(a, b); });
    ran_999 = std::min(ran_999, quantile(times, 0.999));
  }
  const double stolen_s = 1e-9 * static_cast<double>(pace::system_clock().stolen_ns() - stolen);
  const double took_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  const pace::HeldUp held = pace::measure_processor(processor, 1);
  const double step_us = 1e6 * measured_s / static_cast<double>(own.size());
  const double sum_us = std::accumulate(own.begin(), own.end(), 0.0);
  const float median = quantile(own, 0.5), most_of_999 = quantile(own, 0.999), worst = own.back();
  std::printf("%-13s %5.1f us %8.2f %7.2f %7.2f %9.2f %9.2f %7.1f %10.2f %8.0f %9.0f %7.1f %%\n",
              name.c_str(), step_us, median, most_of_999, worst, most_of_999 / step_us, worst / step_us,
              1e6 * measured_s / sum_us, ran_999, held.per_second(),
              1e-3 * static_cast<double>(held.longest_ns()), 100 * stolen_s / took_s);
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
