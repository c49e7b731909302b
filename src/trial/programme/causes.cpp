// What would explain what failed in a programme.
#include <algorithm>
#include <deque>

#include "trial/mistakes/causes.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {
namespace {

constexpr std::size_t most_failed = 12, most_passed = 24;

std::vector<const StoredTrial*> some_with(const std::vector<StoredTrial>& trials, bool passed,
                                          std::size_t most) {
  std::vector<const StoredTrial*> all;
  for (const StoredTrial& one : trials) {
    if (one.passed == passed && one.failure.empty() && (passed || !one.record.empty())) all.push_back(&one);
  }
  return internal::some_of(all, most);
}

SweptTrial swept_of(const Case& all, const StoredTrial& stored) {
  for (const Sweep& sweep : all.sweeps) {
    if (sweep.name == stored.sweep) return swept_trial(all, sweep, stored.fields);
  }
  throw Error("the case has no sweep \"" + stored.sweep + "\" of its results");
}

}  // namespace

std::vector<Finding> causes_of_programme(const Case& all, const std::vector<StoredTrial>& trials,
                                         const std::filesystem::path& folder) {
  struct Kept {
    SweptTrial swept;
    TrialResult result;
  };
  std::deque<Kept> kept;
  for (const StoredTrial* one : some_with(trials, false, most_failed)) {
    Kept& k = kept.emplace_back(Kept{swept_of(all, *one), {}});
    k.result =
        judge_again(k.swept.all, k.swept.trial, record::read_record(folder / (one->record + ".cfg")), false);
  }
  if (kept.empty()) return {};
  RunOptions how;
  how.place = "plant";
  how.free = true;
  how.explain = false;
  for (const StoredTrial* one : some_with(trials, true, most_passed)) {
    Kept& k = kept.emplace_back(Kept{swept_of(all, *one), {}});
    // What it did was what its settings say.
    for (Device& device : k.swept.all.bench.devices) {
      device.relay = device.approved_relay;
      device.current_wiring = device.voltage_wiring = "straight";
      device.current_factor = device.voltage_factor = 1;
    }
    k.result = run_trial(k.swept.all, k.swept.trial, how);
  }
  std::vector<JudgedResult> judged;
  for (const Kept& k : kept) judged.push_back({&k.swept.all, &k.swept.trial, &k.result});
  std::vector<Finding> found;
  for (const Explanation& cause : likely_causes(judged))
    found.push_back({cause.words(), cause.explained, cause.of});
  return found;
}

}  // namespace zavrek::trial
