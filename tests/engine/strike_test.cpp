// When poles close for a fault of a kind, at the angle that was asked for.
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include <unistd.h>

#include "engine/bundle.hpp"
#include "engine/page_file.hpp"
#include "engine/strike.hpp"
#include "zavrek/casefile.hpp"
#include "zavrek/protection.hpp"

namespace zavrek::engine {
namespace {

using internal::asks_of;
using internal::PoleAsk;
using internal::Strike;

std::string told(const Strike& strike) {
  std::string text;
  for (const PoleAsk& one : asks_of(strike, "p")) {
    if (!std::isnan(one.after_s))
      text += one.what.substr(2) + (one.value > 0 ? "+" : "-") +
              std::to_string(std::lround(1e3 * one.after_s)) + " ";
  }
  return text;
}

TEST(Strikes, CloseAndOpenThePolesOfTheirPhases) {
  Strike strike;
  strike.phases = "BG";
  strike.lasts_s = 0.2;
  EXPECT_EQ(told(strike), "b+0 g+0 b-200 g-200 ");
  strike.then_phases = "BCG";
  strike.then_after_s = 0.05;
  EXPECT_EQ(told(strike), "b+0 g+0 c+50 b-200 g-200 c-200 ");
  strike.lasts_s = 0;
  EXPECT_EQ(told(strike), "b+0 g+0 c+50 ") << "until it is cleared";
  strike.then_phases = "BC";
  EXPECT_THROW((void)asks_of(strike, "p"), Error) << "earth does not leave it";
  strike.phases = "XG";
  EXPECT_THROW((void)asks_of(strike, "p"), Error);
}

TEST(Strikes, ShareTheirResistance) {
  Strike strike;
  strike.resistance_ohm = 3;
  const auto of = [&](const char* phases, const char* pole) {
    strike.phases = phases;
    for (const PoleAsk& one : asks_of(strike, "p")) {
      if (one.what == std::string("p.") + pole + ".resistance") return one.value;
    }
    return -1.0;
  };
  EXPECT_EQ(of("AB", "a"), 1.5);
  EXPECT_EQ(of("ABC", "b"), 3);
  EXPECT_EQ(of("AG", "a"), 0);
  EXPECT_EQ(of("ABG", "g"), 3);
}

/// Voltages of another frequency than the nominal one, with a fifth harmonic.
TEST(Strikes, FallOnTheAngleOfTheVoltageAsItIs) {
  for (const double actual_Hz : {50.0, 49.2, 50.6}) {
    internal::Traces traces({"p.va", "p.vb", "p.vc"}, 4000, 1U << 20U);
    const auto angle = [&](double t, int phase) {
      return 2 * std::numbers::pi * (actual_Hz * t - phase / 3.0) + 0.7;
    };
    for (int k = 0; k < 700; ++k) {
      const double t = k / 4000.0;
      for (int phase = 0; phase < 3; ++phase)
        traces.rows.put(static_cast<std::size_t>(phase),
                        9e3 * std::sin(angle(t, phase)) + 400 * std::sin(5 * angle(t, phase)));
      traces.rows.commit();
    }
    for (const double wanted : {0.0, 1.0, 3.0, 6.0}) {
      const double at = internal::instant_of_angle(traces, "p", "AG", wanted, 0.18, 50);
      EXPECT_GE(at, 0.18);
      EXPECT_LT(at, 0.18 + 1 / actual_Hz);
      EXPECT_NEAR(std::remainder(angle(at, 0) - wanted, 2 * std::numbers::pi), 0, 0.01) << actual_Hz;
      const double pair = internal::instant_of_angle(traces, "p", "BC", wanted, 0.18, 50);
      // vb - vc stands a quarter of a cycle behind va.
      EXPECT_NEAR(std::remainder(angle(pair, 0) - std::numbers::pi / 2 - wanted, 2 * std::numbers::pi), 0,
                  0.05);
    }
  }
  internal::Traces dead({"p.va", "p.vb", "p.vc"}, 4000, 1U << 20U);
  EXPECT_THROW((void)internal::instant_of_angle(dead, "p", "AG", 0, 1, 50), Error);
  for (int k = 0; k < 400; ++k) dead.rows.commit();
  EXPECT_THROW((void)internal::instant_of_angle(dead, "p", "AG", 0, 1, 50), Error) << "no voltage";
  EXPECT_THROW((void)internal::instant_of_angle(dead, "q", "AG", 0, 1, 50), Error);
}

TEST(Bundles, ComeBackBitForBitAndAlike) {
  const std::filesystem::path demo = std::filesystem::path(ZAVREK_DEMO) / "substation";
  internal::BundleHead head;
  const std::string bytes = internal::pack(demo, &head);
  EXPECT_EQ(bytes, internal::pack(demo)) << "the same case, the same bundle";
  const internal::Unpacked read = internal::read_bundle(bytes);
  EXPECT_EQ(read.head.sha256, head.sha256);
  EXPECT_EQ(read.head.name, "substation");
  for (const auto& [name, content] : read.files)
    EXPECT_EQ(content, record::read_file(demo.parent_path() / name)) << name;
  EXPECT_TRUE(read.files.contains("substation/bench.toml"));
  std::string damaged = bytes;
  damaged[bytes.size() / 2] = static_cast<char>(damaged[bytes.size() / 2] ^ 1);
  EXPECT_THROW((void)internal::read_bundle(damaged), Error);
  // Known by other means: printf '' | sha256sum.
  EXPECT_EQ(record::sha256(""), "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
}

/// The blinder, the reactance and the direction line meet where geometry has it.
TEST(Outlines, HaveTheirCornersWhereTheLinesMeet) {
  protection::Zone zone;
  zone.reach_ohm = 10;
  zone.angle_rad = std::numbers::pi / 2.25;  // 80 deg
  zone.resistive_reach_ohm = 2;
  const auto narrow = protection::outline(zone, false);
  const double top = 10 * std::sin(zone.angle_rad);
  const auto on_direction = [](const std::complex<double>& p) {
    return std::abs(std::arg(p) - 115 * std::numbers::pi / 180) < 1e-9;
  };
  EXPECT_NEAR(narrow[3].imag(), top, 1e-9);
  EXPECT_TRUE(on_direction(narrow[4])) << "the blinder ends on the direction line";
  EXPECT_LT(narrow[4].imag(), top);
  zone.resistive_reach_ohm = 20;
  for (const auto& p : protection::outline(zone, false))
    EXPECT_LE(p.imag(), top + 1e-9) << "nothing above the reactance";
  EXPECT_TRUE(on_direction(protection::outline(zone, false)[3]));
}

/// Panels by page.toml: in the order of the file, with all that is wrong told at once.
TEST(PageFiles, AreReadAndHeldAgainstTheCase) {
  const std::filesystem::path island = std::filesystem::path(ZAVREK_DEMO) / "island";
  const internal::Session session("island", casefile::read_case(island), {});
  const nlohmann::json page = internal::read_page_file(island, session.loaded(), *session.known());
  ASSERT_GE(page["panels"].size(), 8U);
  EXPECT_EQ(page["panels"][0]["name"], "frequency");
  EXPECT_EQ(page["panels"][0]["high"], 50.5);
  const std::filesystem::path folder =
      std::filesystem::path(testing::TempDir()) / ("page" + std::to_string(getpid()));
  std::filesystem::create_directories(folder);
  EXPECT_TRUE(internal::read_page_file(folder, session.loaded(), *session.known())["panels"].empty());
  record::write_file(folder / "page.toml", R"([gauge.a]
signals = ["low.vx"]
greatest = 1
[trendy.b]
signals = ["low.va"]
[place.nowhere]
x = 3
y = 400
[states.c]
points = ["Q0", "Q99"]
)");
  std::string why;
  try {
    (void)internal::read_page_file(folder, session.loaded(), *session.known());
  } catch (const Error& error) {
    why = error.what();
  }
  for (const char* part : {"page.toml:1: gauge.a, signals: no signal \"low.vx\"",
                           "no such kind of panel, did you mean \"trend\"", "no bus of this name",
                           "place.nowhere, y", "no point \"Q99\""})
    EXPECT_NE(why.find(part), std::string::npos) << part << " in\n" << why;
  std::filesystem::remove_all(folder);
}

}  // namespace
}  // namespace zavrek::engine
