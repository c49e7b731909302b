// What settings expect, reckoned a second time.
#include "trial/recalculation/recalculation.hpp"

#include <gtest/gtest.h>

#include "protection/relays.hpp"
#include "trial/recalculation/phasor_fit.hpp"
#include "zavrek/casefile.hpp"

namespace zavrek::trial::internal {
namespace {

using protection::pi;
using protection::rate_Hz;
using protection::RecordedInputs;
using protection::Steady;

TEST(PhasorFit, IsExactBesideDirectCurrentThatFalls) {
  const PhasorFit fit(80);
  std::vector<double> samples;
  for (int n = 0; n < 80; ++n) {
    const double x = 2 * pi * n / 80;
    samples.push_back(7 - 0.05 * n +
                      std::sqrt(2.0) * (3 * std::cos(x - 0.4) + std::cos(2 * x + 1) + 0.5 * std::cos(5 * x)));
  }
  const PhasorFit::Found found = fit.fit(samples.data());
  EXPECT_NEAR(std::abs(found.fundamental - std::polar(3.0, -0.4)), 0, 1e-9);
  EXPECT_NEAR(std::abs(found.second - std::polar(1.0, 1.0)), 0, 1e-9);
  EXPECT_NEAR(std::abs(found.fifth - 0.5), 0, 1e-9);
}

/// Half a second of one thing, then of another.
RecordedInputs seen(const Steady& before, const Steady& during, double for_s, double hold_s = 30) {
  RecordedInputs all;
  all.inception = 2000;
  all.hold_s = hold_s;
  auto& samples = all.ends.emplace_back();
  for (int n = 0; n < 2000 + static_cast<int>(for_s * rate_Hz); ++n)
    samples.push_back((n < 2000 ? before : during).at(n / rate_Hz));
  return all;
}

TEST(Recalculation, TimesStagesByTheirFormulas) {
  const Steady load = Steady::balanced(200, 0.3, 38e3), fault = Steady::balanced(2000, 1.2, 20e3);
  const auto time_of = [&](const protection::RelaySettings& relay, double for_s) {
    return recalculate(relay, seen(load, fault, for_s), {});
  };
  const auto definite = protection::relay_of({protection::definite("d", 1500, 0.3)});
  EXPECT_NEAR(time_of(definite, 1).time_s, 0.3, 3e-3);
  EXPECT_EQ(time_of(definite, 1).function, "d");
  // The same where only the beginning was seen.
  EXPECT_NEAR(time_of(definite, 0.05).time_s, 0.3, 3e-3);
  const double m = 2000.0 / 500;
  EXPECT_NEAR(
      time_of(protection::relay_of({protection::inverse("i", "IEC very inverse", 500, 0.4)}), 2).time_s,
      0.4 * 13.5 / (m - 1), 5e-3);
  EXPECT_NEAR(
      time_of(protection::relay_of({protection::inverse("i", "IEEE very inverse", 500, 0.4)}), 0.1).time_s,
      0.4 * (19.61 / (m * m - 1) + 0.491), 5e-3);
  EXPECT_FALSE(
      std::isfinite(time_of(protection::relay_of({protection::definite("d", 2100, 0.3)}), 1).time_s));
}

TEST(Recalculation, ReadsOnlyTheFaultedLoopOfAZone) {
  auto relay = protection::relay_of({protection::function<protection::Zone>("z1", [](protection::Zone& zone) {
    zone.reach_ohm = 7.4;
    zone.resistive_reach_ohm = 4;
    zone.delay_s = 0.1;
    zone.confirm_s = 0;
  })});
  relay.residual_factor = 0.7;
  relay.residual_angle_rad = 0;
  // To earth the loop of phase A sees 6 ohm; between phases nothing is as near.
  const Steady healthy = Steady::balanced(200, 0.3, 38e3);
  Steady fault = healthy;
  const protection::Phasor turn = std::polar(1.0, -75 * pi / 180);
  fault.current[0] = 2000.0 * turn;
  fault.voltage[0] =
      6.0 / turn * (fault.current[0] + 0.7 * (fault.current[0] + fault.current[1] + fault.current[2]));
  const auto expected = [&](const std::vector<FaultedPhases>& faulted) {
    return recalculate(relay, seen(healthy, fault, 0.5, 0), faulted);
  };
  EXPECT_NEAR(expected({{0, "AG"}}).time_s, 0.1, 3e-3);
  EXPECT_FALSE(std::isfinite(expected({{0, "ABC"}}).time_s));
  EXPECT_FALSE(std::isfinite(expected({{0, "BG"}, {0.2, "AG"}}).time_s)) << "then it is one between phases";
  EXPECT_FALSE(expected({}).covers("z1"));
}

TEST(Recalculation, LeavesOutWhatOthersBlock) {
  auto relay =
      protection::relay_of({protection::definite("a", 1500, 0.3), protection::definite("b", 1500, 0.2)});
  std::get<protection::Stage>(relay.functions[1]).blocked_by = "a.start";
  const Recalculation found =
      recalculate(relay, seen(Steady::balanced(200, 0.3, 38e3), Steady::balanced(2000, 1.2, 20e3), 1), {});
  EXPECT_EQ(found.function, "a");
  EXPECT_EQ(found.left_out, std::vector<std::string>{"b"});
  std::get<protection::Stage>(relay.functions[1]).blocked_by = "input.stop";
  RecordedInputs with = seen(Steady::balanced(200, 0.3, 38e3), Steady::balanced(2000, 1.2, 20e3), 1);
  EXPECT_EQ(recalculate(relay, with, {}).function, "b");
  with.inputs = {{0.1, "stop", true}};
  EXPECT_EQ(recalculate(relay, with, {}).function, "a");
}

/// Trials of the demo cases: what the functions of a relay expect, and the second reckoning, are the same.
TEST(Recalculation, AgreesWithTheRelaysFunctionsInEveryDemo) {
  int reckoned = 0;
  for (const char* name : {"veskar", "line", "transformer"}) {
    const Case all = casefile::read_case(std::filesystem::path(ZAVREK_DEMO) / name);
    bench::RunOptions free;
    free.place = "plant";
    free.free = true;
    for (const Trial& trial : all.trials) {
      for (const Verdict& verdict : run_trial(all, trial, free).verdicts) {
        EXPECT_EQ(verdict.doubt, "") << name << ", " << trial.name << ", " << verdict.expectation;
        ++reckoned;
      }
    }
  }
  EXPECT_GT(reckoned, 40);
}

}  // namespace
}  // namespace zavrek::trial::internal
