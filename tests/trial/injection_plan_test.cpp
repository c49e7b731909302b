#include "zavrek/trial/injection_plan.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>
#include <random>

#include "zavrek/casefile.hpp"

namespace zavrek::trial {
namespace {

using protection::RelaySettings;

const std::string folder = std::string(ZAVREK_DEMO) + "/shore-relay/";

RelaySettings settings() { return casefile::read_relay_settings(folder + "RS.toml"); }

InjectionReport planned(const RelaySettings& runs, const RelaySettings& approved, const InjectionPlan& plan) {
  InjectionOptions options;
  options.name = "R";
  options.plan = &plan;
  return inject(runs, approved, "none.toml", options);
}

InjectionPlan plan_of(const std::string& text) {
  return casefile::read_injection_plan_text(text, "plan.toml", settings());
}

TEST(InjectionPlan, OfTheDemoPassesAndEachExpectationIsAPoint) {
  const auto plan = casefile::read_injection_plan(folder + "plan.toml", settings());
  ASSERT_EQ(plan.sequences.size(), 2U);
  const InjectionReport report = planned(settings(), settings(), plan);
  EXPECT_EQ(report.points.size(), 2U + 5U + 4U);
  for (const InjectedPoint& p : report.points)
    EXPECT_TRUE(p.passed) << p.function << " " << p.quantity << " " << p.measured;
  EXPECT_TRUE(report.boundaries.empty()) << "nothing but the plan is injected";
}

TEST(InjectionPlan, HoldsTwoPlacesAtTheirOwnFrequencies) {
  protection::FrequencyStage stage;
  stage.name = "low";
  stage.pickup_Hz = 49;
  stage.delay_s = 0.1;
  stage.end = 2;
  RelaySettings relay;
  relay.name = "F";
  relay.functions = {stage};
  const InjectionPlan plan = casefile::read_injection_plan_text(R"([[sequence]]
name = "slip"
states = [ { name = "alike", lasts = "1 s", v1 = "63.5 V", others = [ { place = 2, v1 = "63.5 V" } ] },
           { name = "apart", lasts = "1 s", v1 = "63.5 V", others = [ { place = 2, v1 = "63.5 V", frequency = "48.5 Hz" } ] } ]
expect = [ { state = "alike", never = true }, { state = "apart", tolerance = [ "130 ms" ] } ]
)",
                                                                "plan.toml", relay);
  const Stimulus apart = stimulus_of(plan.sequences[0].states[1], relay, 2);
  EXPECT_EQ(apart.measured.ends[0].frequency_Hz, 50);
  EXPECT_EQ(apart.measured.ends[1].frequency_Hz, 48.5);
  const InjectionReport report = planned(relay, relay, plan);
  ASSERT_EQ(report.points.size(), 2U);
  for (const InjectedPoint& p : report.points) EXPECT_TRUE(p.passed) << p.quantity << " " << p.measured;
  stage.end = 1;
  RelaySettings elsewhere = relay;
  elsewhere.functions = {stage};
  EXPECT_FALSE(planned(elsewhere, relay, plan).passed());
}

TEST(InjectionPlan, MovesFromOneStateToAnotherAndWatchesAnyOutput) {
  // From nothing to 6 A in 2 s: 4.5 A of phase3 are passed at 1.5 s.
  const std::string states = R"([[sequence]]
name = "rising"
states = [ { name = "rest", lasts = "0.5 s", v1 = "63.5 V" },
           { name = "rise", lasts = "2 s", from = "rest", steps = 200, v1 = "63.5 V", i1 = "6 A" } ]
)";
  const InjectionPlan plan = plan_of(states + R"(expect = [ { state = "rise", output = "phase3_on" },
           { state = "rise", output = "phase3_on", time = "1.51 s", tolerance = ["30 ms"] } ]
)");
  EXPECT_NEAR(expected_changes(plan.sequences[0], settings(), 1, "phase3_on")[1].rises_s, 1.5, 0.02);
  const InjectionReport report = planned(settings(), settings(), plan);
  ASSERT_EQ(report.points.size(), 2U);
  for (const InjectedPoint& p : report.points) EXPECT_TRUE(p.passed) << p.quantity << " " << p.measured;
  RelaySettings wrong = settings();
  for (auto& function : wrong.functions) {
    if (auto* stage = std::get_if<protection::Stage>(&function); stage && stage->name == "phase3")
      stage->pickup_A = 5.2;
  }
  EXPECT_FALSE(planned(wrong, settings(), plan).passed());
  EXPECT_THROW((void)plan_of(states + "expect = [ { state = \"rise\", output = \"phase9_on\" } ]\n"), Error);
  EXPECT_THROW((void)plan_of(R"([[sequence]]
name = "s"
states = [ { name = "a", from = "b" } ]
)"),
               Error);
}

TEST(InjectionPlan, ExpectsTheTimeOfTheFunctionThatOperatesFirst) {
  const auto plan = plan_of(R"([[sequence]]
name = "s"
states = [ { name = "load", lasts = "1 s", v1 = "63.5 V" },
           { name = "fault", lasts = "3 s", v1 = "63.5 V", i1 = "3 A" } ]
)");
  const auto changes = expected_changes(plan.sequences[0], settings(), 1, "trip");
  ASSERT_EQ(changes.size(), 2U);
  EXPECT_FALSE(std::isfinite(changes[0].rises_s));
  // IEC normal inverse over 1.05 A, multiplier 0.15, IEC 60255-151: 0.14 k / (M^0.02 - 1).
  EXPECT_NEAR(changes[1].rises_s, 0.15 * 0.14 / (std::pow(3 / 1.05, 0.02) - 1), 2e-3);
  EXPECT_EQ(changes[1].by, "phase1");
}

TEST(InjectionPlan, FindsAStageThatIsSlowerThanApprovedAndOneThatShouldHaveStayedQuiet) {
  const auto plan = casefile::read_injection_plan(folder + "plan.toml", settings());
  RelaySettings slow = settings();
  for (auto& function : slow.functions) {
    if (auto* stage = std::get_if<protection::Stage>(&function)) {
      if (stage->name == "phase2") stage->time_multiplier *= 1.5;
      if (stage->name == "earth3") stage->delay_s = 0.03;
    }
  }
  const InjectionReport report = planned(slow, settings(), plan);
  std::vector<std::string> failed;
  for (const InjectedPoint& p : report.points) {
    if (!p.passed) failed.push_back(p.quantity);
  }
  EXPECT_EQ(failed, (std::vector<std::string>{"all three: trip rises", "earth fault: trip rises"}));
}

TEST(InjectionPlan, AddsSequenceAndPhaseValues) {
  const auto plan = plan_of(R"([[sequence]]
name = "s"
states = [ { name = "x", lasts = "1 s", i1 = "2 A", i2 = "1 A at 30 deg", i0 = "0.5 A", ia = "3 A at 90 deg" } ]
)");
  const Stimulus s = stimulus_of(plan.sequences[0].states[0], settings(), 1);
  const auto& end = s.measured.ends[0];
  // The phase value is a third of each sequence.
  EXPECT_LT(std::abs(end.i.positive - protection::Phasor(2, 1)), 1e-12);
  EXPECT_LT(std::abs(end.i.negative - std::polar(1.0, std::numbers::pi / 6) - protection::Phasor(0, 1)),
            1e-12);
  EXPECT_LT(std::abs(end.i.zero - protection::Phasor(0.5, 1)), 1e-12);
}

class Loops : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(InjectionPlan, Loops, testing::Values("A-E", "B-E", "C-E", "A-B", "B-C", "C-A"));

TEST_P(Loops, ShowTheRelayTheImpedanceAsked) {
  RelaySettings relay = settings();
  relay.residual_factor = 0.8;
  relay.residual_angle_rad = -0.3;
  InjectedState state;
  state.here.v1 = "63.5 V";
  state.here.loop = GetParam();
  state.here.impedance = "2.5 ohm at 65 deg";
  const Stimulus seen = stimulus_of(state, relay, 1);
  const auto& end = seen.measured.ends[0];
  const auto phase = [&](char name) { return static_cast<std::size_t>(name - 'A'); };
  const std::string loop = GetParam();
  protection::Phasor voltage = end.voltage[phase(loop[0])], current = end.current[phase(loop[0])];
  if (loop[2] == 'E') {
    current += std::polar(0.8, -0.3) * end.current[3];
  } else {
    voltage -= end.voltage[phase(loop[2])];
    current -= end.current[phase(loop[2])];
  }
  EXPECT_LT(std::abs(voltage / current - std::polar(2.5, 65 * std::numbers::pi / 180)), 1e-9);
}

TEST(InjectionPlan, SaysWhatIsWrongAndWhere) {
  const auto message = [](const std::string& text) {
    try {
      (void)plan_of(text);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  EXPECT_NE(message("[[value]]\nfunction = \"phase9\"\nvalue = \"3 A\"\n").find("no function \"phase9\""),
            std::string::npos);
  EXPECT_NE(
      message("[[sequence]]\nname = \"s\"\nstates = [ { name = \"x\", lasts = \"1 s\", i1 = \"2 V\" } ]\n")
          .find("a phasor is wanted, such as \"2 A at -30 deg\""),
      std::string::npos);
  EXPECT_NE(message("[[sequence]]\nname = \"s\"\nstates = [ { name = \"x\", lasts = \"1 s\" } ]\n"
                    "expect = [ { state = \"y\" } ]\n")
                .find("no state \"y\""),
            std::string::npos);
  EXPECT_NE(
      message("[[sequence]]\nname = \"s\"\nstates = [ { name = \"x\", lasts = \"1 s\", loop = \"A-B\" } ]\n")
          .find("needs one"),
      std::string::npos);
  EXPECT_NE(message("[[sequences]]\n").find("write [[sequence]] or [[value]]"), std::string::npos);
}

TEST(InjectionPlan, DamagedFilesAreErrorsAndNothingElse) {
  const std::string good = R"([[sequence]]
name = "s"
states = [ { name = "x", lasts = "1 s", i1 = "2 A at 10 deg", others = [ { place = 2, va = "4 V" } ] } ]
expect = [ { state = "x", output = "start", time = "20 ms", tolerance = ["5 %"] } ]
)";
  std::mt19937 random(7);
  int refused = 0;
  for (int k = 0; k < 3000; ++k) {
    std::string bad = good;
    for (int n = 0; n < 1 + k % 4; ++n) bad[random() % bad.size()] = static_cast<char>(32 + random() % 95);
    try {
      (void)plan_of(bad);
    } catch (const Error& error) {
      ++refused;
      EXPECT_NE(std::string(error.what()).find("plan.toml"), std::string::npos) << error.what();
    }
  }
  EXPECT_GT(refused, 1000);
}

}  // namespace
}  // namespace zavrek::trial
