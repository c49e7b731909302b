// Unattended trials with their relays in the same process: trials per second and times real time on one core,
// each trial at its best of some rounds and, for what else the computer does, all of them together.
// Baseline: the same plants alone, by single steps; floor: the same by leaps from sample to sample where they
// can, with no relay, stream, record or verdict.
#include <algorithm>
#include <chrono>
#include <cmath>
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

/// Of one trial, at its best of all rounds; `all_s` is the time of all.
struct Spent {
  double simulated_s = 0, trial_s = 1e9, all_s = 0, stepped_s = 1e9, leapt_s = 1e9;
};
constexpr int rounds = 5;

/// The plant of a trial alone, as long as the trial took; the fault strikes as it does there and stays.
double bare(const trial::Case& all, const trial::Trial& one, double duration_s, bool leaps) {
  emt::Plant plant = emt::compile(trial::network_with_faults(all, one));
  for (const trial::Stream* stream_at : all.bench.all<trial::Stream>()) {
    const trial::Stream& stream = *stream_at;
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

void run(const trial::Case& all, const trial::Trial& one, Spent& spent) {
  const auto begun = Clock::now();
  const trial::TrialResult result =
      trial::run_trial(all, one, {.place = "plant", .interface = {}, .free = true, .relay_program = {}});
  const double took_s = seconds_since(begun);
  spent.trial_s = std::min(spent.trial_s, took_s);
  spent.all_s += took_s;
  spent.simulated_s = result.record.time_s.back();
  spent.stepped_s = std::min(spent.stepped_s, bare(all, one, spent.simulated_s, false));
  spent.leapt_s = std::min(spent.leapt_s, bare(all, one, spent.simulated_s, true));
}

void print(const char* name, const std::vector<Spent>& trials) {
  const auto sum = [&](double Spent::*part) {
    double all = 0;
    for (const Spent& spent : trials) all += spent.*part;
    return all;
  };
  const double simulated_s = sum(&Spent::simulated_s);
  std::printf("%-34s%7zu%9.1f%10.1f%10.1f%12.1f%10.1f\n", name, trials.size(),
              static_cast<double>(trials.size()) / sum(&Spent::trial_s), simulated_s / sum(&Spent::trial_s),
              rounds * simulated_s / sum(&Spent::all_s), simulated_s / sum(&Spent::stepped_s),
              simulated_s / sum(&Spent::leapt_s));
}

}  // namespace

int main() {
  std::puts("unattended trials, relays in the same process, one core; times real time");
  std::printf("%-34s%7s%9s%10s%10s%12s%10s\n", "", "trials", "best /s", "best", "all", "plant alone",
              "by leaps");
  const trial::Case quay = casefile::read_case(ZAVREK_DEMO "/veskar");
  std::vector<Spent> spent(quay.trials.size());
  for (int round = 0; round < rounds; ++round) {
    for (std::size_t k = 0; k < spent.size(); ++k) run(quay, quay.trials[k], spent[k]);
  }
  print("demo/veskar, overcurrent", spent);
  const trial::Case line = casefile::read_case(ZAVREK_DEMO "/line");
  trial::Sweep sweep = line.sweeps.at(0);
  sweep.combine = "random";
  std::vector<trial::SweptTrial> swept;
  for (std::size_t k = 0; k < 40; ++k) swept.push_back(trial::swept_trial(line, sweep, k));
  spent.assign(swept.size(), {});
  for (int round = 0; round < rounds; ++round) {
    for (std::size_t k = 0; k < spent.size(); ++k) run(swept[k].all, swept[k].trial, spent[k]);
  }
  print("demo/line, distance, saturable CT", spent);
  return 0;
}
