// What is named as the cause of verdicts that failed, in trials and in element tests.
#include <gtest/gtest.h>

#include <algorithm>
#include <deque>

#include "zavrek/casefile.hpp"
#include "zavrek/trial/injection.hpp"
#include "zavrek/trial/mistakes.hpp"
#include "zavrek/trial/programme.hpp"

namespace zavrek::trial {
namespace {

Case proof() { return casefile::read_case(std::string(ZAVREK_DEMO) + "/proof"); }

const Mistake& named_mistake(const std::vector<Mistake>& mistakes, const std::string& what,
                             const std::string& amount) {
  for (const Mistake& mistake : mistakes) {
    if (mistake.what != what) continue;
    for (const Mistake::Amount& one : mistake.amounts) {
      if (one.text == amount) return mistake;
    }
  }
  throw Error("no mistake " + what + " " + amount);
}
double by_of(const Mistake& mistake, const std::string& amount) {
  for (const Mistake::Amount& one : mistake.amounts) {
    if (one.text == amount) return one.by;
  }
  return 0;
}

/// The likeliest cause after some trials of sweeps of demo/proof, those with their name in `names`, with a
/// mistake made.
Explanation likeliest(const std::string& what, const std::string& amount, const std::string& names,
                      std::size_t every) {
  const Case all = proof();
  const std::vector<Mistake> mistakes = mistakes_in(all);
  const Mistake& mistake = named_mistake(mistakes, what, amount);
  std::deque<SweptTrial> trials;
  std::deque<TrialResult> results;
  std::vector<JudgedResult> judged;
  for (const Sweep& sweep : all.sweeps) {
    if (names.find(sweep.name) == std::string::npos) continue;
    for (std::size_t k = 0; k<size_of(sweep); k += size_of(sweep)> 4 ? every : 1) {
      SweptTrial& swept = trials.emplace_back(swept_trial(all, sweep, k));
      EXPECT_TRUE(mistake.make(swept.all.bench.devices[0], by_of(mistake, amount)));
      RunOptions how;
      how.place = "plant";
      how.free = true;
      how.explain = false;
      results.push_back(run_trial(swept.all, swept.trial, how));
      judged.push_back({&swept.all, &swept.trial, &results.back()});
    }
  }
  const std::vector<Explanation> causes = likely_causes(judged);
  return causes.empty() ? Explanation{} : causes.front();
}

TEST(Causes, OfTrialsAreNamedFirst) {
  const Explanation pickup = likeliest("phase1 pickup", "+10 %", "down the cable", 3);
  EXPECT_EQ(pickup.text, "RP behaves as if the pickup of phase1 were {} times as approved");
  EXPECT_NEAR(pickup.best, 1.1, 0.02);
  EXPECT_EQ(pickup.explained, pickup.of) << "those that passed too";
  EXPECT_GT(pickup.of, 10);
  EXPECT_EQ(likeliest("phase1 characteristic", "IEC very inverse", "down the cable", 5).text,
            "RP behaves as if the characteristic of phase1 were IEC very inverse");
  EXPECT_EQ(likeliest("current circuits", "b reversed", "to earth", 3).text,
            "RP behaves as if phase b of its currents were reversed");
  EXPECT_EQ(likeliest("low of", "any", "dips of the infeed", 2).text,
            "RP behaves as if the \"of\" of low were any");
  const Explanation delay = likeliest("phase2 delay", "+50 ms", "down the cable", 5);
  EXPECT_EQ(delay.text, "RP behaves as if the delay of phase2 were {ms} longer than approved");
  EXPECT_NEAR(delay.best, 0.05, 0.01);
}

TEST(Causes, AreInputsThatAreNotConnectedOrInverted) {
  EXPECT_EQ(likeliest("input hold: bench.hold", "not connected", "held by its input, to earth", 4).text,
            "RP behaves as if its input hold were not connected");
  EXPECT_EQ(likeliest("input hold: bench.hold", "inverted", "to earth", 3).text,
            "RP behaves as if its input hold were inverted");
}

/// The likeliest cause after the element tests of demo/proof's relay with a mistake made in its settings.
std::string found_in_element_tests(const std::string& what, const std::string& amount) {
  const Case all = proof();
  const protection::RelaySettings& approved = all.bench.devices[0].approved_relay;
  const std::vector<Mistake> mistakes = mistakes_in_settings(approved);
  const Mistake& mistake = named_mistake(mistakes, what, amount);
  Device device;
  device.relay = approved;
  EXPECT_TRUE(mistake.make(device, by_of(mistake, amount)));
  InjectionOptions how;
  how.name = "RP";
  const InjectionReport report = inject(device.relay, approved, "settings.toml", how);
  EXPECT_FALSE(report.passed()) << what;
  return report.causes.empty() ? "none" : report.causes.front().text;
}

TEST(Causes, OfElementTestsAreNamedFirst) {
  EXPECT_EQ(found_in_element_tests("low of", "any"), "it behaves as if the \"of\" of low were any");
  EXPECT_EQ(found_in_element_tests("earth1 drop_off", "-10 %"),
            "it behaves as if the drop off of earth1 were {} times as approved");
  EXPECT_EQ(found_in_element_tests("phase2 angle", "+10 deg"),
            "it behaves as if the angle of phase2 were {deg} more than approved");
  EXPECT_EQ(found_in_element_tests("low delay", "+20 ms"),
            "it behaves as if the delay of low were {ms} longer than approved");
  EXPECT_EQ(found_in_element_tests("negative1 pickup", "-5 %"),
            "it behaves as if the pickup of negative1 were {} times as approved");
}

TEST(Causes, OfAProgrammeCountTheTrialsThatPassedToo) {
  Case all = proof();
  all.sweeps.resize(1);
  for (auto& function : all.bench.devices[0].relay.functions) {
    if (auto* stage = std::get_if<protection::Stage>(&function); stage && stage->name == "phase1")
      stage->time_multiplier = 0.2;
  }
  ProgrammeOptions options;
  options.folder = std::filesystem::temp_directory_path() / ("zavrek-causes-" + std::to_string(getpid()));
  options.run.place = "plant";
  options.run.free = true;
  (void)run_programme(all, options);
  Results results(options.folder / "results.sqlite", "");
  const std::vector<Finding> found = causes_of_programme(all, results.all(), options.folder);
  ASSERT_FALSE(found.empty());
  EXPECT_TRUE(found[0].text.starts_with("RP behaves as if the time multiplier of phase1 were about 1.3"))
      << found[0].text;
  EXPECT_GE(found[0].explained, found[0].of - 1) << "one lies at the edge of its tolerance";
  EXPECT_GT(found[0].of, 20) << "of those that failed and those that passed";
  results.put_causes(found);
  EXPECT_EQ(results.causes().front().text, found[0].text);
  std::filesystem::remove_all(options.folder);
}

}  // namespace
}  // namespace zavrek::trial
