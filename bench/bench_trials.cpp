// Unattended trials with their relays in the same process: trials per second and times real time on one core.
// Baseline: the same plants alone, by single steps; floor: the same by leaps from sample to sample where they
// can, with no relay, stream, record or verdict.
#include <chrono>
#include <cmath>
#include <cstdio>

#include "zavrek/casefile.hpp"
#include "zavrek/trial/programme.hpp"

namespace {

using namespace zavrek;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begun) {
  return std::chrono::duration<double>(Clock::now() - begun).count();
}

struct Work {
  double trials = 0, simulated_s = 0, spent_s = 0, stepped_s = 0, leapt_s = 0;
};

/// The plant of a trial alone, as long as the trial took; the fault strikes as it does there and stays.
double bare(const trial::Case& all, const trial::Trial& one, double duration_s, bool leaps) {
  emt::Plant plant = emt::compile(trial::struck(all, one));
  for (const trial::Stream& stream : all.bench.streams) {
    for (const char* quantity : {"ia", "ib", "ic"}) plant.watch(plant.signal(stream.ct + "." + quantity));
    for (const char* quantity : {"va", "vb", "vc"}) plant.watch(plant.signal(stream.vt + "." + quantity));
  }
  const auto together = static_cast<int>(std::lround(1 / (80 * all.network.frequency_Hz * plant.step_s())));
  if (leaps) (void)plant.ready_leaps(together);
  plant.close(plant.operable("fault"), one.prefault_s);
  const auto begun = Clock::now();
  while (plant.time_s() < duration_s) {
    if (leaps && plant.leap()) continue;
    for (int k = 0; k < together; ++k) {
      if (plant.step() == emt::Status::diverged) throw Error("the plant diverged");
    }
  }
  return seconds_since(begun);
}

void add(const trial::Case& all, const trial::Trial& one, Work& work) {
  const auto begun = Clock::now();
  const trial::TrialResult result =
      trial::run_trial(all, one, {.place = "plant", .interface = {}, .free = true, .relay_program = {}});
  work.spent_s += seconds_since(begun);
  work.trials += 1;
  const double duration_s = result.record.time_s.back();
  work.simulated_s += duration_s;
  work.stepped_s += bare(all, one, duration_s, false);
  work.leapt_s += bare(all, one, duration_s, true);
}

void print(const char* name, const Work& w) {
  std::printf("%-34s %6.0f trials %7.1f /s %7.1f times real time; plant alone %6.1f, by leaps %6.1f\n", name,
              w.trials, w.trials / w.spent_s, w.simulated_s / w.spent_s, w.simulated_s / w.stepped_s,
              w.simulated_s / w.leapt_s);
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
