#include "zavrek/protection.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <fstream>
#include <numbers>
#include <sstream>

namespace zavrek::protection {
namespace {

constexpr double pi = std::numbers::pi;

RelaySettings overcurrent(Stage stage) {
  RelaySettings settings;
  settings.name = "R";
  settings.stages = {std::move(stage)};
  return settings;
}

/// Feeds a symmetrical current of `rms` from `from` until the relay trips; the time since `from`.
double time_to_trip(OvercurrentRelay& relay, double rms, double limit_s, double earth_share = 0) {
  for (int k = 0; k < limit_s * 4000; ++k) {
    Sample sample;
    for (std::size_t p = 0; p < 3; ++p) {
      const double phase = earth_share > 0 ? 0 : 2 * pi / 3 * static_cast<double>(p);
      sample.current_A[p] =
          std::numbers::sqrt2 * rms * (earth_share > 0 ? (p == 0) : 1) * std::cos(2 * pi * k / 80 - phase);
    }
    relay.push(sample);
    if (relay.trip()) return (k + 1) / 4000.0;
  }
  return INFINITY;
}

TEST(Curves, MeetThePublishedTimesWithinTheirRounding) {
  std::ifstream in(std::string(ZAVREK_TEST_DATA) + "/curves.csv");
  std::string line;
  std::getline(in, line);
  int rows = 0;
  while (std::getline(in, line)) {
    std::stringstream cells(line);
    std::string name, multiple, multiplier, time;
    std::getline(cells, name, ',');
    std::getline(cells, multiple, ',');
    std::getline(cells, multiplier, ',');
    std::getline(cells, time, ',');
    const Curve* curve = find_curve(name);
    ASSERT_NE(curve, nullptr) << name;
    EXPECT_NEAR(curve->time_s(std::stod(multiple), std::stod(multiplier)) / std::stod(time), 1, 1e-8) << line;
    ++rows;
  }
  EXPECT_EQ(rows, 210);
}

TEST(CyclePhasor, MeasuresAmplitudeAndAngleAndRejectsHarmonicsAndDirectCurrent) {
  CyclePhasor phasor(80);
  for (int k = 0; k <= 200; ++k) {
    phasor.push(10 * std::cos(2 * pi * k / 80 + 0.3) + 4 * std::cos(2 * pi * 3 * k / 80) +
                2 * std::cos(2 * pi * 5 * k / 80) + 7);
  }
  EXPECT_NEAR(std::abs(phasor.peak()), 10, 1e-9);
  EXPECT_NEAR(std::arg(phasor.peak()), std::remainder(2 * pi * 200 / 80 + 0.3, 2 * pi), 1e-9);
  EXPECT_NEAR(phasor.rms(), 10 / std::numbers::sqrt2, 1e-9);
}

TEST(OvercurrentRelay, TripsADefiniteStageAfterItsDelayAndLessThanACycle) {
  OvercurrentRelay relay(overcurrent({.name = "s", .pickup_A = 100, .delay_s = 0.3}), 4000, 50);
  const double time = time_to_trip(relay, 500, 1);
  EXPECT_GE(time, 0.3);
  EXPECT_LE(time, 0.32);
}

TEST(OvercurrentRelay, FollowsAnInverseCurveWithinACycle) {
  const Stage stage{
      .name = "s", .characteristic = "IEC very inverse", .pickup_A = 100, .time_multiplier = 0.2};
  for (const double multiple : {1.5, 3.0, 12.0}) {
    OvercurrentRelay relay(overcurrent(stage), 4000, 50);
    const double expected = 0.2 * 13.5 / (multiple - 1);
    EXPECT_NEAR(time_to_trip(relay, 100 * multiple, 10), expected + 0.01, 0.0125) << multiple;
  }
}

TEST(OvercurrentRelay, GetsNoFasterAboveItsFlatMultiple) {
  Stage stage{.name = "s", .characteristic = "IEC very inverse", .pickup_A = 100};
  EXPECT_DOUBLE_EQ(stage.operate_time_s(5000), stage.operate_time_s(2000));
  EXPECT_LT(stage.operate_time_s(2000), stage.operate_time_s(1900));
}

TEST(OvercurrentRelay, StaysQuietAtPickupAndStartsJustAbove) {
  const Stage stage{.name = "s", .pickup_A = 100, .delay_s = 0};
  OvercurrentRelay below(overcurrent(stage), 4000, 50);
  EXPECT_EQ(time_to_trip(below, 99.9, 1), INFINITY);
  OvercurrentRelay above(overcurrent(stage), 4000, 50);
  EXPECT_LT(time_to_trip(above, 100.1, 1), 0.03);
}

TEST(OvercurrentRelay, HoldsItsStartDownToTheDropOffRatio) {
  OvercurrentRelay relay(overcurrent({.name = "s", .pickup_A = 100, .delay_s = 10, .drop_off = 0.9}), 4000,
                         50);
  (void)time_to_trip(relay, 110, 0.1);
  EXPECT_TRUE(relay.start());
  (void)time_to_trip(relay, 92, 0.1);
  EXPECT_TRUE(relay.start());
  (void)time_to_trip(relay, 88, 0.1);
  EXPECT_FALSE(relay.start());
}

TEST(OvercurrentRelay, MeasuresTheResidualForEarthStagesOnly) {
  OvercurrentRelay relay(overcurrent({.name = "e", .quantity = "earth", .pickup_A = 20, .delay_s = 0.1}),
                         4000, 50);
  EXPECT_EQ(time_to_trip(relay, 1000, 1), INFINITY);  // symmetrical: nothing left over
  relay.reset();
  EXPECT_LT(time_to_trip(relay, 30, 1, 1), 0.121);
}

TEST(OvercurrentRelay, ReadsSecondarySettingsThroughTheRatio) {
  RelaySettings settings = overcurrent({.name = "s", .pickup_A = 1.2, .delay_s = 0.05});
  settings.amperes = "secondary";
  settings.ct_primary_A = 400;
  OvercurrentRelay below(settings, 4000, 50);
  EXPECT_EQ(time_to_trip(below, 479, 0.5), INFINITY);
  OvercurrentRelay above(settings, 4000, 50);
  EXPECT_LT(time_to_trip(above, 481, 0.5), 0.08);
}

TEST(Settings, AreRefusedWhenTheyCannotWork) {
  RelaySettings settings = overcurrent({.name = "fast", .pickup_A = 100, .delay_s = 0.1});
  settings.stages.push_back({.name = "slow", .pickup_A = 200, .delay_s = 0.5});
  settings.stages.push_back({.name = "bare", .pickup_A = 300});
  settings.amperes = "secondary";
  std::string lines;
  for (const Flaw& flaw : validate(settings)) lines += to_string(flaw) + "\n";
  EXPECT_EQ(
      lines,
      "relay, ct_primary: missing; settings in secondary amperes need the CT ratio\n"
      "stage.slow, pickup: can never operate first: stage fast picks up at 100 A and trips after 0.1 s\n"
      "stage.bare, delay: missing; a definite stage needs its operating time, such as \"0.1 s\"\n");
}

TEST(ExpectedOperation, TakesTheFirstStageOfTheCompositeAndFollowsAChangingCurrent) {
  RelaySettings settings =
      overcurrent({.name = "inverse", .characteristic = "IEC very inverse", .pickup_A = 100});
  settings.stages.push_back({.name = "definite", .pickup_A = 1000, .delay_s = 0.1});
  const double interval = 0.00025;
  const std::vector<double> none(40000, 0.0);
  const std::vector<double> large(40000, 2000.0);
  auto expected = expected_operation(settings, large, none, interval);
  EXPECT_EQ(expected.stage, "definite");
  EXPECT_NEAR(expected.time_s, 0.1, 1e-9);
  // Half of the way at 3 times pickup (6.75 s), the rest at 10 times (1.5 s).
  std::vector<double> rising(60000, 300.0);
  for (std::size_t k = 13500; k < rising.size(); ++k) rising[k] = 999.9999999;
  expected = expected_operation(settings, rising, none, interval);
  EXPECT_EQ(expected.stage, "inverse");
  EXPECT_NEAR(expected.time_s, 13500 * interval + 0.5 * 1.5, 1e-3);
  EXPECT_EQ(expected_operation(settings, none, none, interval).time_s, INFINITY);
}

}  // namespace
}  // namespace zavrek::protection
