#include <gtest/gtest.h>

#include "protection/synchrophasor_cases.hpp"

namespace zavrek::protection {
namespace {

class Synchrophasors : public testing::TestWithParam<std::pair<test::Performance, double>> {};

TEST_P(Synchrophasors, StayWithinTheLimitsOfTheirClass) {
  const auto [performance, reports] = GetParam();
  for (const test::PhasorCase& one : test::phasor_cases(performance, reports)) {
    EXPECT_LE(one.found.vector, one.limit.vector) << one.name;
    EXPECT_LE(one.found.frequency, one.limit.frequency) << one.name;
    EXPECT_LE(one.found.rate, one.limit.rate) << one.name;
  }
}

TEST_P(Synchrophasors, AnswerStepsInTheTimeOfTheirClass) {
  const auto [performance, reports] = GetParam();
  const test::PhasorStep limit = test::phasor_step_limit(performance, reports);
  for (const bool of_angle : {false, true}) {
    const test::PhasorStep step = test::phasor_step(performance, reports, of_angle);
    EXPECT_LE(step.vector_s, limit.vector_s);
    EXPECT_LE(step.frequency_s, limit.frequency_s);
    EXPECT_LE(step.rate_s, limit.rate_s);
    EXPECT_GT(step.vector_s, 0) << "a step is seen";
  }
}

INSTANTIATE_TEST_SUITE_P(All, Synchrophasors,
                         testing::Values(std::pair{test::Performance::p, 50.0},
                                         std::pair{test::Performance::m, 50.0},
                                         std::pair{test::Performance::m, 10.0}));

TEST(Synchrophasor, BeginsAnewBehindAGap) {
  SynchrophasorEstimator estimator({});
  SynchrophasorReport report;
  const auto push = [&](int from, int to) {
    int reports = 0;
    for (int k = from; k < to; ++k) {
      const std::array<double, 3> values{1, -0.5, -0.5};
      estimator.push(1'700'000'000'000'000'000 + 250'000LL * k, values);
      while (estimator.take(report)) ++reports;
    }
    return reports;
  };
  EXPECT_GT(push(0, 1000), 5);
  EXPECT_EQ(push(1010, 1060), 0) << "its window is not full yet";
  EXPECT_GT(push(1060, 1500), 2);
}

}  // namespace
}  // namespace zavrek::protection
