// What a disturbance recorder measures for its triggers, against closed forms; and what the second is.
#include "bench/trigger.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>
#include <random>

#include "bench/time_source.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::bench::internal {
namespace {

constexpr int per_cycle = 80;
constexpr double trigger_rate_Hz = 4000;

double wave(int k, double amplitude, double frequency_Hz, double angle_rad = 0) {
  return amplitude * std::cos(2 * std::numbers::pi * frequency_Hz * k / trigger_rate_Hz + angle_rad);
}

TEST(RmsOfCycle, IsExactForHarmonicsAndDirectCurrent) {
  RmsOfCycle rms(per_cycle);
  for (int k = 0; k < 400; ++k) {
    rms.push(3 + wave(k, 10, 50) + wave(k, 4, 150, 1) + wave(k, 2, 350, 2));
    EXPECT_EQ(rms.whole(), k >= per_cycle - 1);
  }
  EXPECT_NEAR(rms.get(), std::sqrt(9 + 50 + 8 + 2.0), 1e-9);
}

TEST(RmsOfCycle, DoesNotDriftAndForgetsWhatIsACycleAgo) {
  RmsOfCycle rms(per_cycle);
  std::mt19937 random(3);
  std::normal_distribution<double> noise(0, 1e6);
  for (int k = 0; k < 1'000'000; ++k) rms.push(noise(random));
  for (int k = 0; k < per_cycle; ++k) rms.push(0);
  EXPECT_LT(rms.get(), 0.1) << "of a million: rounding within one cycle is all that is left";
  for (int k = 0; k < per_cycle; ++k) rms.push(0);
  EXPECT_EQ(rms.get(), 0);
}

TEST(FrequencyOfPhasor, IsRightAwayFromNominal) {
  for (const double frequency_Hz : {45.0, 48.0, 49.9, 50.0, 50.1, 52.0, 55.0}) {
    FrequencyOfPhasor frequency(per_cycle, 50);
    double worst_Hz = 0;
    for (int k = 0; k < 2000; ++k) {
      frequency.push(wave(k, 100, frequency_Hz, 0.3));
      if (k > 3 * per_cycle) {
        ASSERT_TRUE(frequency.known());
        worst_Hz = std::max(worst_Hz, std::abs(frequency.get_Hz() - frequency_Hz));
      }
    }
    EXPECT_LT(worst_Hz, std::abs(frequency_Hz - 50) > 2 ? 0.06 : 0.005) << frequency_Hz;
  }
}

TEST(FrequencyOfPhasor, IsBlindToDirectCurrentAndHarmonicsAndUnknownWithoutASignal) {
  FrequencyOfPhasor frequency(per_cycle, 50);
  EXPECT_FALSE(frequency.known());
  for (int k = 0; k < 1000; ++k) frequency.push(40 + wave(k, 100, 50) + wave(k, 30, 250, 1));
  EXPECT_TRUE(frequency.known());
  EXPECT_NEAR(frequency.get_Hz(), 50, 1e-9);
  for (int k = 0; k < 3 * per_cycle; ++k) frequency.push(wave(k, 1, 50));
  EXPECT_FALSE(frequency.known()) << "a hundredth of what it was";
}

// --- the second ------------------------------------------------------------------------------------

Bench with_pulses(const std::string& reach) {
  Bench bench;
  bench.clock = "pulse";
  bench.clock_pulse = "gps.second";
  bench.clock_reach = reach;
  return bench;
}

TEST(TimeSource, KnowsTheSecondFromThreePulsesOneBehindTheOther) {
  for (const auto& [reach, state] : {std::pair{"global", 2}, std::pair{"local", 1}}) {
    TimeSource source(with_pulses(reach));
    const std::int64_t now_ns = pace::system_clock().now_ns(), second_ns = 1'000'000'000;
    EXPECT_FALSE(source.knows_second());
    source.pulse(now_ns - 3 * second_ns);
    source.pulse(now_ns - 2 * second_ns + 400);
    EXPECT_EQ(source.synchronised(), 0);
    source.pulse(now_ns - second_ns - 300);
    EXPECT_TRUE(source.knows_second());
    EXPECT_EQ(source.synchronised(), state);
    // A second behind the last pulse a full second begins, whatever the computer's own clock says.
    const double of_second_s =
        1e-9 * static_cast<double>((source.utc_ns() - (pace::system_clock().now_ns() - now_ns)) % second_ns);
    EXPECT_LT(std::abs(std::remainder(of_second_s, 1.0)), 2e-3);
    EXPECT_LT(std::abs(source.utc_ns() - pace::utc_ns()), second_ns);
  }
}

TEST(TimeSource, BeginsAnewWithAPulseThatIsNotOnTimeAndLosesThoseThatStayAway) {
  TimeSource source(with_pulses("global"));
  const std::int64_t now_ns = pace::system_clock().now_ns(), second_ns = 1'000'000'000;
  for (int k = 8; k >= 6; --k) source.pulse(now_ns - k * second_ns);
  EXPECT_TRUE(source.knows_second());
  EXPECT_EQ(source.synchronised(), 0) << "the last is six seconds old";
  source.pulse(now_ns - 5 * second_ns + 3'000'000);
  EXPECT_FALSE(source.knows_second()) << "3 ms off: another pulse, or another clock";
  source.pulse(now_ns - 2 * second_ns + 3'000'000);
  source.pulse(now_ns - second_ns + 3'000'000);
  EXPECT_TRUE(source.knows_second()) << "two that were missed matter not";
  EXPECT_EQ(source.synchronised(), 2);
}

TEST(TimeSource, SaysWhatItKnowsOfADaemonThatDoesNotAnswer) {
  Bench bench;
  bench.clock_daemon = "/nowhere/ptp";
  TimeSource source(bench);
  EXPECT_EQ(source.synchronised(), 0);
  source.watch();
  EXPECT_EQ(source.synchronised(), 0);
  EXPECT_EQ(source.said(), "no answer from the PTP daemon at /nowhere/ptp");
  bench.clock = "ptp";
  bench.clock_device = "/nowhere/ptp0";
  EXPECT_THROW(TimeSource{bench}, Error);
}

}  // namespace
}  // namespace zavrek::bench::internal
