#include "zavrek/record/measure.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

namespace zavrek::record {
namespace {

/// 0.2 s at 4 kHz of a function of time.
template <class Shape>
Record record_of(Shape shape) {
  Record record;
  record.rate_Hz = 4000;
  Analog analog;
  analog.name = "x";
  for (int k = 0; k <= 800; ++k) {
    record.time_s.push_back(k / record.rate_Hz);
    analog.samples.push_back(shape(record.time_s.back()));
  }
  record.analogs.push_back(std::move(analog));
  return record;
}
constexpr double omega = 2 * std::numbers::pi * 50;

TEST(Measure, ReadsAPureSineForWhatItIs) {
  const Record r = record_of([](double t) { return 10 * std::sin(omega * t + 0.3); });
  const auto of = [&](Measure what) { return measure(r, r.analogs[0], what, 0.013, 0.187); };
  EXPECT_NEAR(of(Measure::rms), 10 / std::sqrt(2.0), 1e-9);
  EXPECT_NEAR(of(Measure::fundamental), 10 / std::sqrt(2.0), 1e-9);
  EXPECT_NEAR(of(Measure::thd), 0, 1e-9);
  EXPECT_NEAR(of(Measure::frequency), 50, 1e-3);
  EXPECT_NEAR(of(Measure::greatest), 10, 0.01);
  EXPECT_NEAR(of(Measure::least), -10, 0.01);
  EXPECT_NEAR(of(Measure::ripple), 20, 0.02);
}

TEST(Measure, FindsTheDistortionOfASquareWave) {
  const Record r = record_of([](double t) { return std::sin(omega * (t + 1e-5)) > 0 ? 1.0 : -1.0; });
  double sum = 0;  // sampled 80 times a cycle, harmonic n of the square is 1 / (80/pi sin(pi n / 80))
  const auto peak = [](int n) { return 4.0 / (80 * std::sin(std::numbers::pi * n / 80)); };
  for (int n = 3; n < 40; n += 2) sum += peak(n) * peak(n);
  EXPECT_NEAR(measure(r, r.analogs[0], Measure::thd, 0, 0.2), std::sqrt(sum) / peak(1), 1e-9);
  EXPECT_NEAR(measure(r, r.analogs[0], Measure::fundamental, 0, 0.2), peak(1) / std::sqrt(2.0), 1e-9);
  EXPECT_NEAR(measure(r, r.analogs[0], Measure::rms, 0, 0.2), 1, 1e-12);
}

TEST(Measure, CountsFrequencyThroughRippleAndOffNominal) {
  const Record r = record_of([](double t) {
    return std::sin(2 * std::numbers::pi * 47.3 * t) + 0.05 * std::sin(2 * std::numbers::pi * 1900 * t);
  });
  EXPECT_NEAR(measure(r, r.analogs[0], Measure::frequency, 0, 0.2), 47.3, 0.25);
}

TEST(Measure, TellsNothingOfAnEmptyWindow) {
  const Record r = record_of([](double) { return 1.0; });
  EXPECT_TRUE(std::isnan(measure(r, r.analogs[0], Measure::mean, 0.3, 0.4)));
  EXPECT_TRUE(std::isnan(measure(r, r.analogs[0], Measure::thd, 0, 0.001)));
  EXPECT_TRUE(std::isnan(measure(r, r.analogs[0], Measure::frequency, 0, 0.2)));
}

TEST(Measure, FindsWhenAnExponentialHasSettled) {
  const Record r = record_of([](double t) { return 1 - std::exp(-t / 0.02); });
  EXPECT_NEAR(settled_s(r, r.analogs[0].samples, 0, 0.2, 0.95, 1.05), 0.02 * std::log(20.0), 2.6e-4);
  EXPECT_TRUE(std::isnan(settled_s(r, r.analogs[0].samples, 0, 0.2, 2, 3)));
  EXPECT_EQ(settled_s(r, r.analogs[0].samples, 0.1, 0.2, 0, 2), 0.1) << "it was never outside";
}

TEST(Measure, FollowsARisingRmsCycleByCycle) {
  const Record r = record_of([](double t) { return (t < 0.1 ? 1 : 3) * std::sin(omega * t); });
  const std::vector<double> rms = cycle_rms(r, r.analogs[0]);
  EXPECT_NEAR(rms[390], 1 / std::sqrt(2.0), 1e-9);
  EXPECT_NEAR(rms[480], 3 / std::sqrt(2.0), 1e-9);
  EXPECT_GT(rms[440], rms[400]);
}

TEST(Measure, NamesTheNearestWord) {
  EXPECT_EQ(measure_of("thd"), Measure::thd);
  try {
    (void)measure_of("frequenzy");
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "no measure \"frequenzy\", did you mean \"frequency\"?");
  }
  EXPECT_EQ(unit_of(Measure::frequency, "V"), "Hz");
  EXPECT_EQ(unit_of(Measure::thd, "V"), "");
}

}  // namespace
}  // namespace zavrek::record
