#include <gtest/gtest.h>

#include "feeders.hpp"

namespace zavrek::test {
namespace {

TEST(PublishedFeeder, OfThirteenNodesKeepsItsVoltages) {
  const std::vector<FeederNode> nodes = feeder_nodes(std::string(ZAVREK_TEST_DATA) + "/feeder13");
  EXPECT_EQ(nodes.size(), 32U);
  for (const FeederNode& node : nodes) {
    EXPECT_NEAR(node.calculated / node.published, 1, 1e-3) << node.signal;
    EXPECT_NEAR(node.phase_deg, 0, 0.05) << node.signal;
  }
}

TEST(PublishedFeeder, OfFourNodesKeepsItsVoltages) {
  for (const FeederNode& node : feeder_nodes(std::string(ZAVREK_TEST_DATA) + "/feeder4")) {
    EXPECT_NEAR(node.calculated / node.published, 1, 1e-3) << node.signal;
    EXPECT_NEAR(node.phase_deg, 0, 0.1) << node.signal;
  }
}

TEST(PublishedFeeder, OfThirtyFourNodesKeepsItsVoltages) {
  const std::vector<FeederNode> nodes = feeder_nodes(std::string(ZAVREK_TEST_DATA) + "/feeder34");
  EXPECT_EQ(nodes.size(), 92U);
  for (const FeederNode& node : nodes) {
    EXPECT_NEAR(node.calculated / node.published, 1, 3e-4) << node.signal;
    EXPECT_NEAR(node.phase_deg, 0, 0.05) << node.signal;
  }
}

class RunningFeeder : public testing::TestWithParam<std::pair<const char*, const char*>> {};

TEST_P(RunningFeeder, KeepsTheVoltagesThatItStartsWith) {
  const auto [folder, node] = GetParam();
  const trial::Case all = casefile::read_case(std::string(ZAVREK_TEST_DATA) + "/" + folder);
  emt::Plant plant = emt::compile(all.network);
  const emt::SignalId far = plant.signal(node);
  const double expected = std::abs(plant.phasor(far));
  double peak = 0;
  while (plant.time_s() < 0.5) {
    ASSERT_EQ(plant.step(), emt::Status::running);
    if (plant.time_s() > 0.45) peak = std::max(peak, std::abs(plant.value(far)));
  }
  EXPECT_NEAR(peak, expected, 3e-4 * expected);
}

INSTANTIATE_TEST_SUITE_P(Published, RunningFeeder,
                         testing::Values(std::pair{"feeder13", "n675.vb"}, std::pair{"feeder34", "n890.va"}),
                         [](const auto& param) { return std::string(param.param.first); });

}  // namespace
}  // namespace zavrek::test
