// What a programme, or element tests, would find.
#include "zavrek/trial/coverage.hpp"

#include <gtest/gtest.h>

#include "protection/relays.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::trial {
namespace {

const MistakeGroup* group_of(const std::vector<MistakeGroup>& groups, const std::string& what,
                             const std::string& first) {
  for (const MistakeGroup& group : groups) {
    if (group.what == what && group.amounts.front().text == first) return &group;
  }
  return nullptr;
}

TEST(Mistakes, AreTheUsualAmountsOfEachSettingThatActs) {
  const auto relay = protection::relay_of(
      {protection::definite("fast", 1200, 0.03), protection::inverse("slow", "IEC very inverse", 400, 0.2)});
  const std::vector<MistakeGroup> groups = mistakes_in_settings(relay);
  const MistakeGroup* larger = group_of(groups, "fast pickup", "+5 %");
  ASSERT_NE(larger, nullptr);
  ASSERT_EQ(larger->amounts.size(), 3U);
  Device device;
  device.relay = relay;
  larger->amounts[2].make(device);
  EXPECT_NEAR(std::get<protection::Stage>(device.relay.functions[0]).pickup_A, 1440, 1e-9);
  // 30 ms cannot be 50 ms less.
  EXPECT_EQ(group_of(groups, "fast delay", "-20 ms")->amounts.size(), 1U);
  EXPECT_EQ(group_of(groups, "fast time_multiplier", "+5 %"), nullptr) << "a definite time has none";
  EXPECT_NE(group_of(groups, "slow time_multiplier", "+5 %"), nullptr);
  EXPECT_NE(group_of(groups, "slow characteristic", "IEC normal inverse"), nullptr);
  EXPECT_EQ(group_of(groups, "slow angle", "-10 deg"), nullptr) << "it looks no way";
  EXPECT_EQ(group_of(groups, "name", "left away"), nullptr);
}

TEST(Mistakes, OfADifferentialAreMadeAtEachPlace) {
  const auto relay = casefile::read_relay_settings(std::string(ZAVREK_DEMO) + "/transformer/DT.toml");
  const std::vector<MistakeGroup> groups = mistakes_in_settings(relay);
  EXPECT_NE(group_of(groups, "diff rated_currents of place 2", "+5 %"), nullptr);
  EXPECT_NE(group_of(groups, "diff second_harmonic", "-5 %"), nullptr);
  const MistakeGroup* hour = group_of(groups, "diff hours of place 2", "0");
  ASSERT_NE(hour, nullptr) << "eleven, an hour on";
  Device device;
  device.relay = relay;
  hour->amounts[0].make(device);
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
