#include <gtest/gtest.h>

#include "feeders.hpp"

namespace zavrek::test {
namespace {

struct Published {
  const char* folder;
  std::size_t voltages;
  double within, within_deg;
};

class PublishedFeeder : public testing::TestWithParam<Published> {};

TEST_P(PublishedFeeder, KeepsItsVoltages) {
  const Published& feeder = GetParam();
  const std::vector<FeederNode> nodes = feeder_nodes(std::string(ZAVREK_TEST_DATA) + "/" + feeder.folder);
  EXPECT_EQ(nodes.size(), feeder.voltages);
  for (const FeederNode& node : nodes) {
    EXPECT_NEAR(node.calculated / node.published, 1, feeder.within) << node.signal;
    EXPECT_NEAR(node.phase_deg, 0, feeder.within_deg) << node.signal;
  }
}

INSTANTIATE_TEST_SUITE_P(Standing, PublishedFeeder,
                         testing::Values(Published{"feeder4", 9, 1e-3, 0.1},
                                         Published{"feeder13", 32, 1e-3, 0.05},
                                         Published{"feeder34", 92, 3e-4, 0.05}),
                         [](const auto& param) { return std::string(param.param.folder); });

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
