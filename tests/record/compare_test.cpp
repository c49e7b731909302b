#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "zavrek/record.hpp"

namespace zavrek::record {
namespace {

Record sine(double delay_s, double gain, std::size_t samples = 2000, double rate = 10000) {
  Record r;
  r.rate_Hz = rate;
  r.analogs = {{"x", "", "V", 1, 1, {}}, {"y", "", "A", 1, 1, {}}};
  for (std::size_t k = 0; k < samples; ++k) {
    const double t = static_cast<double>(k) / rate;
    r.time_s.push_back(t);
    const double phase = 2 * std::numbers::pi * 50 * (t - delay_s);
    r.analogs[0].samples.push_back(gain * 100 * std::sin(phase));
    r.analogs[1].samples.push_back(5 * std::cos(phase) * std::exp(-3 * (t - delay_s)));
  }
  return r;
}

TEST(Compare, MeasuresTheErrorOfAGain) {
  const Comparison c = compare(sine(0, 1), sine(0, 1.02), {.band = 0.03});
  ASSERT_EQ(c.signals.size(), 2U);
  EXPECT_NEAR(c.signals[0].rms, 2 / std::sqrt(2.0), 0.01);
  EXPECT_NEAR(c.signals[0].largest, 2, 1e-3);
  EXPECT_NEAR(c.signals[0].nrmse, 0.01 / std::sqrt(2.0), 1e-4);
  EXPECT_TRUE(c.passed());
  const Comparison narrow = compare(sine(0, 1), sine(0, 1.02), {.band = 0.01});
  EXPECT_FALSE(narrow.passed());
  EXPECT_FALSE(narrow.signals[0].passed);
  EXPECT_TRUE(narrow.signals[1].passed);
  // |sin| > 1/2 on two thirds of the time.
  EXPECT_NEAR(narrow.signals[0].outside, 2.0 / 3, 0.01);
}

TEST(Compare, FindsTheShiftBetweenTwoRecords) {
  const Comparison c = compare(sine(0, 1), sine(0.00123, 1, 3000, 15000), {.most_shift_s = 0.004});
  EXPECT_NEAR(c.shift_s, 0.00123, 2e-6);
  EXPECT_TRUE(c.passed());
}

TEST(Compare, SaysWhatIsMissing) {
  Record other = sine(0, 1);
  other.analogs.erase(other.analogs.begin());
  EXPECT_THROW((void)compare(sine(0, 1), other, {.signals = {Band{.signal = "x"}}}), Error);
  try {
    (void)compare(sine(0, 1), other, {.signals = {Band{.signal = "x"}}});
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(), "the second record has no signal \"x\", did you mean \"y\"?");
  }
  other.analogs[0].name = "z";
  EXPECT_THROW((void)compare(sine(0, 1), other), Error);
  Record later = sine(0, 1);
  for (double& t : later.time_s) t += 10;
  EXPECT_THROW((void)compare(sine(0, 1), later), Error);
}

TEST(Csv, ReadsWhatItWrites) {
  Record r = sine(0, 1, 50);
  r.binaries = {{"q.closed", false, std::vector<std::uint8_t>(50, 1)}};
  const Record back = from_csv(to_csv(r), "r.csv");
  ASSERT_EQ(back.analogs.size(), 2U);
  EXPECT_EQ(back.analogs[0].name, "x");
  EXPECT_EQ(back.analogs[0].unit, "V");
  EXPECT_EQ(back.binaries.size(), 1U);
  EXPECT_NEAR(back.analogs[1].samples[7], r.analogs[1].samples[7], 1e-5);
}

TEST(Csv, NamesTheLineThatIsWrong) {
  const auto refusal = [](const char* text) {
    try {
      (void)from_csv(text, "r.csv");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  EXPECT_EQ(refusal("t,x V\n0,1\n"), "r.csv:1: the first column must be time_s");
  EXPECT_EQ(refusal("time_s,x V\n0,1\n0.1\n"), "r.csv:3: 1 cells; the head has 2");
  EXPECT_EQ(refusal("time_s,x V\n0,one\n"), "r.csv:2: \"one\" is no number");
  EXPECT_EQ(refusal("time_s,x V\n0,1\n0,2\n"), "r.csv:3: time does not rise");
  EXPECT_EQ(refusal(""), "r.csv: holds no samples");
}

TEST(Compare, GivesEachSignalItsOwnBandInValueAndInTime) {
  // A step of 10 that comes 3 ms later in the second record, on top of 0.4.
  const auto step_at = [](double at_s, double offset) {
    Record record;
    record.analogs.push_back({.name = "p", .unit = "W"});
    for (int k = 0; k <= 1000; ++k) {
      record.time_s.push_back(1e-4 * k);
      record.analogs[0].samples.push_back(offset + (1e-4 * k < at_s ? 0 : 10));
    }
    return record;
  };
  const Record first = step_at(0.05, 0), second = step_at(0.053, 0.4);
  const auto share = [&](const std::string& band) {
    return compare(first, second, {.signals = {parse_band(band)}}).signals[0];
  };
  EXPECT_NEAR(share("p within 0.5 W").outside, 30.0 / 1001, 2e-3);
  EXPECT_TRUE(share("p within 0.5 W over 3.1 ms").passed);
  EXPECT_NEAR(share("p within 0.5 W over 3.1 ms").largest, 0.4, 1e-9);
  EXPECT_FALSE(share("p within 0.5 W over 2.5 ms").passed);
  EXPECT_FALSE(share("p within 0.3 W over 3.1 ms").passed);
  EXPECT_NEAR(share("p within 0.0005 kW").band, 0.5, 1e-12);
  for (const char* wrong :
       {"", "p beyond 3 W", "p within", "p within nothing", "p over 3 W", "p within -1 W"})
    EXPECT_THROW((void)parse_band(wrong), Error) << wrong;
}

}  // namespace
}  // namespace zavrek::record
