// What a programme, or element tests, would find.
#include "zavrek/trial/coverage.hpp"

#include <gtest/gtest.h>

#include <filesystem>

#include "protection/relays.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::trial {
namespace {

const Mistake* mistake_of(const std::vector<Mistake>& mistakes, const std::string& what,
                          const std::string& first) {
  for (const Mistake& mistake : mistakes) {
    if (mistake.what == what && mistake.amounts.front().text == first) return &mistake;
  }
  return nullptr;
}

TEST(Mistakes, AreTheUsualAmountsOfEachSettingThatActs) {
  const auto relay = protection::relay_of(
      {protection::definite("fast", 1200, 0.03), protection::inverse("slow", "IEC very inverse", 400, 0.2)});
  const std::vector<Mistake> mistakes = mistakes_in_settings(relay);
  const Mistake* larger = mistake_of(mistakes, "fast pickup", "+5 %");
  ASSERT_NE(larger, nullptr);
  ASSERT_EQ(larger->amounts.size(), 3U);
  Device device;
  device.relay = relay;
  EXPECT_TRUE(larger->make(device, larger->amounts[2].by));
  EXPECT_NEAR(std::get<protection::Stage>(device.relay.functions[0]).pickup_A, 1440, 1e-9);
  // 30 ms cannot be 50 ms less.
  EXPECT_EQ(mistake_of(mistakes, "fast delay", "-20 ms")->amounts.size(), 1U);
  EXPECT_EQ(mistake_of(mistakes, "fast time_multiplier", "+5 %"), nullptr) << "a definite time has none";
  EXPECT_NE(mistake_of(mistakes, "slow time_multiplier", "+5 %"), nullptr);
  EXPECT_NE(mistake_of(mistakes, "slow characteristic", "IEC normal inverse"), nullptr);
  EXPECT_EQ(mistake_of(mistakes, "slow angle", "-10 deg"), nullptr) << "it looks no way";
  EXPECT_EQ(mistake_of(mistakes, "name", "left away"), nullptr);
}

TEST(Mistakes, OfADifferentialAreMadeAtEachPlace) {
  const auto relay = casefile::read_relay_settings(std::string(ZAVREK_DEMO) + "/transformer/DT.toml");
  const std::vector<Mistake> mistakes = mistakes_in_settings(relay);
  EXPECT_NE(mistake_of(mistakes, "diff rated_currents of place 2", "+5 %"), nullptr);
  EXPECT_NE(mistake_of(mistakes, "diff second_harmonic", "-5 %"), nullptr);
  const Mistake* hour = mistake_of(mistakes, "diff hours of place 2", "0");
  ASSERT_NE(hour, nullptr) << "eleven, an hour on";
  Device device;
  device.relay = relay;
  EXPECT_TRUE(hour->make(device, hour->amounts[0].by));
  EXPECT_EQ(std::get<protection::Differential>(device.relay.functions[0]).hours[1], "0");
}

TEST(Coverage, SaysFromWhichAmountOnAProgrammeFindsAMistake) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/line");
  all.sweeps.clear();
  CoverageOptions options;
  options.only = "DM z1";
  const Coverage coverage = coverage_of(all, options);
  EXPECT_EQ(coverage.trials, 3);
  EXPECT_EQ(coverage.left_out, std::vector<std::string>{});
  bool delay = false, disabled = false;
  for (const CoverageRow& row : coverage.rows) {
    EXPECT_EQ(row.device, "DM");
    if (row.what == "z1 delay") {
      delay = true;
      EXPECT_TRUE(row.found());
      EXPECT_EQ(row.amounts[row.found_from], "+20 ms") << "the tolerance of the trials is below";
    }
    if (row.what == "z1 trips") disabled = row.found();
  }
  EXPECT_TRUE(delay);
  EXPECT_TRUE(disabled);
  EXPECT_GT(coverage.found(), 0);
  EXPECT_LT(coverage.found(), coverage.mistakes()) << "three trials do not find all";
  // A case without the trials finds nothing of it.
  for (Trial& trial : all.trials) trial.expect.clear();
  EXPECT_THROW((void)coverage_of(all, options), Error);
}

TEST(Coverage, LooksForTheLeastAmountBetweenTheUsualOnes) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  all.trials.resize(3);
  CoverageOptions options;
  options.only = "R1 earth1 pickup";
  bool larger = false;
  for (const CoverageRow& row : coverage_of(all, options).rows) {
    ASSERT_TRUE(row.found());
    if (row.amounts[0] != "+5 %") continue;
    larger = true;
    EXPECT_EQ(row.found_from, 0U);
    // 13.5 T / (M - 1): 5 % of the time is reached by the pickup before it is 5 % larger.
    const double from = std::stod(row.from.substr(1));
    EXPECT_GT(from, 1);
    EXPECT_LT(from, 5) << row.from;
  }
  EXPECT_TRUE(larger);
}

TEST(Choice, OfAFewTrialsFindsAsMuchAsAnyAsMany) {
  const Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/veskar");
  CoverageOptions options;
  options.only = "R1 ";
  const Choice one = choose_trials(all, 1, options), all_needed = choose_trials(all, 8, options);
  EXPECT_EQ(one.chosen, 1);
  EXPECT_EQ(one.of, 8);
  EXPECT_EQ(one.of_found, all_needed.of_found);
  EXPECT_EQ(all_needed.found, all_needed.of_found) << "more than are needed are not taken";
  EXPECT_LT(all_needed.chosen, 8);
  EXPECT_LT(one.found, all_needed.found);
  // No other single trial finds more.
  for (const Trial& trial : all.trials) {
    Case alone = all;
    alone.trials = {trial};
    EXPECT_LE(choose_trials(alone, 1, options).found, one.found) << trial.name;
  }
}

TEST(Choice, OfSweepsIsWrittenAndReadBackAsTheSameTrials) {
  Case all = casefile::read_case(std::string(ZAVREK_DEMO) + "/proof");
  CoverageOptions options;
  options.only = "phase1 pickup";
  options.most_trials = 20;
  const Choice choice = choose_trials(all, 3, options);
  ASSERT_FALSE(choice.sweeps.empty());
  std::size_t trials = 0;
  for (const Sweep& sweep : choice.sweeps) trials += size_of(sweep);
  EXPECT_EQ(static_cast<long long>(trials + choice.trials.size()), choice.chosen);
  const auto folder = std::filesystem::temp_directory_path() / ("zavrek-choice-" + std::to_string(getpid()));
  std::filesystem::create_directories(folder);
  record::write_file(folder / "case.toml", "base = \"" + std::string(ZAVREK_DEMO) + "/proof\"\n");
  record::write_file(folder / "trials.toml", casefile::trials_text(choice.trials, choice.sweeps));
  const Case read = casefile::read_case(folder);
  std::filesystem::remove_all(folder);
  ASSERT_EQ(read.sweeps.size(), choice.sweeps.size());
  EXPECT_EQ(read.bench.devices.size(), 1U) << "from the case that it is based on";
  for (std::size_t k = 0; k < read.sweeps.size(); ++k) {
    ASSERT_EQ(size_of(read.sweeps[k]), size_of(choice.sweeps[k]));
    for (std::size_t t = 0; t < size_of(read.sweeps[k]); ++t)
      EXPECT_EQ(swept_trial(read, read.sweeps[k], t).trial.name,
                swept_trial(all, choice.sweeps[k], t).trial.name);
  }
}

TEST(Coverage, OfElementTestsFindsEveryThresholdAndTime) {
  const auto relay = protection::relay_of({protection::definite("fast", 1200, 0.1)});
  InjectionOptions how;
  how.name = "R";
  const Coverage coverage = coverage_of(relay, how, {});
  for (const CoverageRow& row : coverage.rows) {
    if (row.what == "fast pickup" || row.what == "fast delay") {
      EXPECT_EQ(row.found_from, 0U) << row.what << " " << row.amounts[0];
    }
  }
  EXPECT_GT(coverage.share(), 0.6);
}

}  // namespace
}  // namespace zavrek::trial
