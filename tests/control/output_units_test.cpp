// Units that follow from what blocks read.
#include <algorithm>

#include <gtest/gtest.h>

#include "control/bench.hpp"

namespace zavrek::control {
namespace {

using test::Bench;

/// Signals named after a bus or a capacitor are volts, all others amperes.
void expect_units(const Description& description, const Controller& controller,
                  const std::vector<std::string>& names, const std::vector<std::string>& wanted) {
  const std::vector<std::string> units =
      output_units(description, controller.outputs(), [](const std::string& signal) {
        return signal.starts_with("low") || signal.starts_with("C2") ? "V" : "A";
      });
  for (std::size_t k = 0; k < names.size(); ++k) {
    const auto at = std::find(controller.outputs().begin(), controller.outputs().end(), names[k]);
    ASSERT_NE(at, controller.outputs().end()) << names[k];
    EXPECT_EQ(units[static_cast<std::size_t>(at - controller.outputs().begin())], wanted[k]) << names[k];
  }
}

TEST(OutputUnits, FollowFromWhatBlocksSayAndRead) {
  Bench b;
  b.signals = {{"low.va", 0}, {"low.vb", 0}, {"low.vc", 0}, {"L1.ia", 0}};
  b.add<Setpoint>("wanted").unit = "kW";
  auto& lock = b.add<PhaseLock>("lock");
  lock.a = "low.va", lock.b = "low.vb", lock.c = "low.vc";
  auto& slow = b.add<LowPass>("slow");
  slow.input = "lock.d";
  slow.time_s = 1e-3;
  b.add<Sum>("less").inputs = {"slow", "-low.va"};
  b.add<Sum>("mixed").inputs = {"slow", "L1.ia"};
  auto& thousandth = b.add<Sum>("thousandth");
  thousandth.inputs = {"slow"};
  thousandth.gain = 1e-3;
  auto& select = b.add<Select>("chosen");
  select.when = "0", select.then = "wanted", select.otherwise = "0";
  b.add<Expression>("plain").formula = "wanted / 2";
  auto& said = b.add<Expression>("said");
  said.formula = "wanted / 2";
  said.unit = "MW";
  b.add<Delay>("before").input = "loop";
  b.add<Sum>("loop").inputs = {"before", "said"};
  auto& turning = b.add<Setpoint>("turning");
  turning.unit = "rpm";
  b.add<Comparator>("above").input = "slow";
  const std::vector<std::string> names{"wanted", "lock.frequency", "lock.angle", "lock.q",  "slow",
                                       "less",   "mixed",          "thousandth", "chosen",  "plain",
                                       "said",   "loop",           "before",     "turning", "above"};
  const std::vector<std::string> wanted{"W", "Hz", "rad", "V", "V", "V",     "", "",
                                        "W", "",   "W",   "W", "W", "rad/s", ""};
  b.start(1e-3);
  expect_units(b.description, *b.c, names, wanted);
}

TEST(OutputUnits, OfReadyControllersAreKnown) {
  Description d;
  auto& following = d.ready.emplace_back().emplace<GridFollowing>();
  following.name = "sun";
  following.bridge = "B2", following.current = "L2", following.dc = "C2.v", following.voltage = "low";
  following.carrier_Hz = 5e3, following.inductance_H = 1e-3, following.current_limit_A = 100,
  following.trip_current_A = 200;
  following.least_voltage_V = 100;
  const std::vector<std::string> names{"sun.p",         "sun.q",  "sun.i.d",    "sun.udc",   "sun.frequency",
                                       "sun.id_wanted", "sun.vd", "sun.active", "sun.state", "sun.m.a"};
  const std::vector<std::string> wanted{"W", "var", "A", "V", "Hz", "A", "V", "W", "", ""};
  const std::vector<std::string> signals{"L2.ia", "L2.ib", "L2.ic", "C2.v", "low.va", "low.vb", "low.vc"};
  expect_units(d, Controller(d, signals), names, wanted);
}

}  // namespace
}  // namespace zavrek::control
