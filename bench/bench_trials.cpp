// Unattended trials with their relays in the same process: trials per second and times real time on one core.
// Baseline: the same plants stepped with no relay, stream, record or verdict; floor: one step of each plant,
// by its median, times the steps.
#include <algorithm>
#include <chrono>
#include <cstdio>
#include <vector>

#include "zavrek/casefile.hpp"
#include "zavrek/trial/programme.hpp"

namespace {

using namespace zavrek;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begun) {
  return std::chrono::duration<double>(Clock::now() - begun).count();
}

struct Work {
  double trials = 0, simulated_s = 0, spent_s = 0, bare_s = 0, floor_s = 0;
};

/// The plant of a trial alone, as long as the trial took.
void bare(const trial::Case& all, const trial::Trial& one, double duration_s, Work& work) {
  emt::Plant plant = emt::compile(trial::struck(all, one));
  std::vector<double> steps;
  const auto begun = Clock::now();
  while (plant.time_s() < duration_s) {
    const auto at = Clock::now();
    if (plant.step() == emt::Status::diverged) break;
    steps.push_back(seconds_since(at));
  }
  work.bare_s += seconds_since(begun);
  std::nth_element(steps.begin(), steps.begin() + static_cast<std::ptrdiff_t>(steps.size() / 2), steps.end());
  work.floor_s += steps[steps.size() / 2] * static_cast<double>(steps.size());
}

void add(const trial::Case& all, const trial::Trial& one, Work& work) {
  const auto begun = Clock::now();
  const trial::TrialResult result =
      trial::run_trial(all, one, {.place = "plant", .interface = {}, .free = true, .relay_program = {}});
  work.spent_s += seconds_since(begun);
  work.trials += 1;
  work.simulated_s += result.record.time_s.back();
  bare(all, one, result.record.time_s.back(), work);
}

void print(const char* name, const Work& w) {
  std::printf("%-34s %6.0f trials %7.1f /s %7.1f times real time; plant alone %6.1f, its median step %6.1f\n",
              name, w.trials, w.trials / w.spent_s, w.simulated_s / w.spent_s, w.simulated_s / w.bare_s,
              w.simulated_s / w.floor_s);
}

}  // namespace

int main() {
  std::puts("unattended trials, relays in the same process, one core");
  const trial::Case quay = casefile::read_case(ZAVREK_DEMO "/veskar");
  Work work;
  for (int round = 0; round < 3; ++round) {
    for (const trial::Trial& one : quay.trials) add(quay, one, work);
  }
  print("demo/veskar, overcurrent", work);
  const trial::Case line = casefile::read_case(ZAVREK_DEMO "/line");
  trial::Sweep sweep = line.sweeps.at(0);
  sweep.combine = "random";
  work = {};
  for (std::size_t k = 0; k < 40; ++k) {
    const trial::SweptTrial one = trial::swept_trial(line, sweep, k);
    add(one.all, one.trial, work);
  }
  print("demo/line, distance, saturable CT", work);
  return 0;
}
