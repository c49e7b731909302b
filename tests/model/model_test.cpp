// A plant with its control as one model.
#include <limits>

#include <gtest/gtest.h>

#include "zavrek/error.hpp"
#include "zavrek/model.hpp"

namespace zavrek::test {
extern long long allocations;  // counting_allocator.cpp
}

namespace zavrek::model {
namespace {

using namespace network;

/// A half bridge that a modulator drives along a set point, behind a breaker.
std::pair<Network, control::Description> half_bridge() {
  Network n;
  n.step_s = 10e-6;
  n.start = "zero";
  n.buses = {{"dc", 800, "pn"}, {"leg", 400, "a"}, {"out", 400, "a"}};
  n.elements = {
      DcSource{.name = "upper", .plus = "dc.p", .minus = "ground", .voltage_V = 400, .resistance_ohm = 1e-3},
      DcSource{.name = "lower", .plus = "ground", .minus = "dc.n", .voltage_V = 400, .resistance_ohm = 1e-3},
      Bridge{.name = "b", .dc = "dc", .ac = "leg", .on_resistance_ohm = 1e-3},
      Branch{.name = "coil", .between = {"leg", "out"}, .resistance_ohm = 0.1, .inductance_H = 5e-3},
      Breaker{.name = "Q1", .between = {"out", "load"}},
      Branch{.name = "r", .between = {"load", "ground"}, .resistance_ohm = 4}};
  n.buses.push_back({"load", 400, "a"});
  control::Description c;
  c.period_s = 100e-6;
  const auto add = [&](const std::string& name, auto block, auto&& fill) {
    block.name = name;
    fill(block);
    c.blocks.emplace_back(std::move(block));
  };
  add("wanted", control::Setpoint(), [](auto& b) { b.value = 0.25; });
  add("smooth", control::LowPass(), [](auto& b) { b.input = "wanted", b.time_s = 1e-3; });
  add("pulses", control::Modulator(),
      [](auto& b) { b.bridge = "b", b.references = {"smooth"}, b.carrier_Hz = 5e3, b.dead_time_s = 1e-6; });
  return {n, c};
}

Model made() {
  const auto [network, control] = half_bridge();
  return {network, control, {"coil.ia", "smooth"}};
}

std::size_t number_of(const std::vector<Variable>& all, const std::string& name) {
  for (std::size_t k = 0; k < all.size(); ++k) {
    if (all[k].name == name) return k;
  }
  throw Error("no " + name);
}

std::vector<double> walked(Model& model, int steps) {
  std::vector<double> seen;
  for (int k = 0; k < steps; ++k) {
    EXPECT_TRUE(model.step());
    seen.push_back(model.output(0));
    seen.push_back(model.output(1));
  }
  return seen;
}

TEST(Model, TakesSwitchesAndSetPointsAsInputsAndAllOtherKnobsAsParameters) {
  Model model = made();
  const Variable& breaker = model.inputs()[number_of(model.inputs(), "Q1")];
  EXPECT_TRUE(breaker.is_switch);
  EXPECT_EQ(breaker.start, 1);
  EXPECT_EQ(model.inputs()[number_of(model.inputs(), "Q1.a")].start, 1) << "a pole";
  EXPECT_EQ(model.inputs()[number_of(model.inputs(), "wanted")].start, 0.25);
  const Variable& volts = model.parameters()[number_of(model.parameters(), "upper.voltage")];
  EXPECT_EQ(volts.unit, "V");
  EXPECT_EQ(volts.start, 400);
  EXPECT_EQ(model.outputs()[0].unit, "A");
  (void)walked(model, 3000);
  EXPECT_NEAR(model.output(1), 0.25, 1e-9);
  double mean = 0;
  for (int k = 0; k < 1000; ++k) {
    ASSERT_TRUE(model.step());
    mean += model.output(0) / 1000;
  }
  EXPECT_NEAR(mean, (0.25 * 400 - 800 * 1e-6 * 5e3) / 4.1, 0.1) << "the dead time takes its part";
  EXPECT_TRUE(model.set_input(number_of(model.inputs(), "wanted"), -0.5));
  EXPECT_TRUE(model.set_parameter(number_of(model.parameters(), "upper.voltage"), 300));
  (void)walked(model, 4000);
  EXPECT_LT(model.output(0), -40);
  EXPECT_TRUE(model.set_input(number_of(model.inputs(), "wanted"), 0));  // else there is no current zero
  EXPECT_TRUE(model.set_parameter(number_of(model.parameters(), "upper.voltage"), 400));
  EXPECT_TRUE(model.set_input(number_of(model.inputs(), "Q1"), 0));
  (void)walked(model, 1000);
  EXPECT_NEAR(model.output(0), 0, 1e-3);
  EXPECT_FALSE(model.set_input(0, std::numeric_limits<double>::quiet_NaN()));
  const std::size_t volts_at = number_of(model.parameters(), "upper.voltage");
  EXPECT_TRUE(model.set_parameter(volts_at, 1e300));
  EXPECT_EQ(model.parameter(volts_at), 1e9) << "kept within its bounds";
}

TEST(Model, GoesOnFromAKeptStateToTheBitAndBackToItsStart) {
  Model model = made(), other = made();
  const std::vector<double> first = walked(model, 700);
  model.set_input(number_of(model.inputs(), "wanted"), 0.7);
  (void)walked(model, 37);
  std::vector<std::byte> kept;
  model.save(kept);
  const std::vector<double> after = walked(model, 900);
  model.restore(kept);
  EXPECT_EQ(walked(model, 900), after);
  other.restore(kept);
  EXPECT_EQ(walked(other, 900), after);
  EXPECT_EQ(other.input(number_of(other.inputs(), "wanted")), 0.7);
  other.reset();
  EXPECT_EQ(other.time_s(), 0);
  EXPECT_EQ(walked(other, 700), first);
  kept[kept.size() / 3] ^= std::byte{1};
  EXPECT_THROW(other.restore(kept), Error);
  EXPECT_THROW(other.restore({}), Error);
  const auto [network, control] = half_bridge();
  Model narrower(network, control, {"coil.ia"});
  model.save(kept);
  EXPECT_THROW(narrower.restore(kept), Error) << "another model";
}

TEST(Model, AllocatesNothingInAStep) {
  Model model = made();
  (void)walked(model, 500);
  const std::size_t wanted = number_of(model.inputs(), "wanted");
  const long long before = test::allocations;
  for (int k = 0; k < 2000; ++k) {
    model.set_input(wanted, 0.1 * (k / 100 % 9));
    ASSERT_TRUE(model.step());
  }
  EXPECT_EQ(test::allocations - before, 0);
}

TEST(Model, NamesWhatItDoesNotKnow) {
  const auto [network, control] = half_bridge();
  try {
    Model model(network, control, {"smoth"});
    ADD_FAILURE();
  } catch (const Error& error) {
    EXPECT_NE(std::string(error.what()).find("did you mean \"smooth\"?"), std::string::npos) << error.what();
  }
}

}  // namespace
}  // namespace zavrek::model
