// A case from its folder: its trials with the relays in this process, as fast as it goes.
#include <cstdio>

#include <zavrek/zavrek.hpp>

int main(int count, char** words) {
  if (count != 2) {
    std::puts("which case? play FOLDER");
    return 2;
  }
  const zavrek::trial::Case all = zavrek::casefile::read_case(words[1]);
  int failed = 0;
  for (const zavrek::trial::Trial& trial : all.trials) {
    const zavrek::trial::TrialResult result =
        zavrek::trial::run_trial(all, trial, {.place = "plant", .free = true});
    std::printf("%s %s\n", result.passed() ? "pass" : "FAIL", trial.name.c_str());
    failed += result.passed() ? 0 : 1;
  }
  return failed == 0 ? 0 : 1;
}
