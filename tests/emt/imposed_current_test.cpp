// Currents that are told at each step, against the same circuit with an element in their place.
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

network::Network fed_bus() {
  network::Network network;
  network.step_s = 50e-6;
  network.buses = {{"quay", 400}, {"berth", 400}};
  network.elements = {
      network::Source{.name = "grid", .bus = "quay"},
      network::Branch{
          .name = "feeder", .between = {"quay", "berth"}, .resistance_ohm = 0.5, .inductance_H = 1e-3}};
  return network;
}

TEST(ImposedCurrent, DrawsWhatItIsToldAtEachStep) {
  network::Network network = fed_bus();
  network.elements.push_back(network::ImposedCurrent{.name = "device", .bus = "berth"});
  Plant plant = compile(network);
  const KnobId knob = plant.knob("device.a");
  const SignalId quay = plant.signal("quay.va"), berth = plant.signal("berth.va"),
                 current = plant.signal("device.ia");
  double before_A = 0, before_V = 0, worst_V = 0;
  for (int k = 1; k < 2000; ++k) {
    const double amperes = 20 * std::sin(2 * std::numbers::pi * 130 * k * 50e-6);
    plant.turn(knob, amperes);
    ASSERT_EQ(plant.step(), Status::running);
    EXPECT_EQ(plant.value(current), amperes);
    // The trapezoidal rule across the feeder: v = R i + 2 L/h (i - i') - (v' - R i').
    const double drop_V = 0.5 * amperes + 2e-3 / 50e-6 * (amperes - before_A) - (before_V - 0.5 * before_A);
    const double is_V = plant.value(quay) - plant.value(berth);
    if (k > 2) worst_V = std::max(worst_V, std::abs(is_V - drop_V));
    before_A = amperes;
    before_V = is_V;
  }
  EXPECT_LT(worst_V, 1e-7);
  EXPECT_EQ(plant.discontinuities(), 0) << "a knob that moves at every step is none";
}

/// A resistor's current, told a step late: the bus follows 1 / (1 + R/r z^-1) exactly.
TEST(ImposedCurrent, IsAResistorAStepLate) {
  network::Network network = fed_bus();
  std::get<network::Branch>(network.elements[1]).inductance_H = 0;
  network.elements.push_back(network::ImposedCurrent{.name = "device", .bus = "berth"});
  Plant plant = compile(network);
  const SignalId quay = plant.signal("quay.vb"), berth = plant.signal("berth.vb");
  const KnobId knob = plant.knob("device.b");
  constexpr double device_ohm = 2;
  double told_A = 0;
  for (int k = 0; k < 400; ++k) {
    plant.turn(knob, told_A);
    ASSERT_EQ(plant.step(), Status::running);
    EXPECT_NEAR(plant.value(berth), plant.value(quay) - 0.5 * told_A, 1e-9);
    told_A = plant.value(berth) / device_ohm;
  }
}

TEST(ImposedCurrent, OfAnUnknownBusIsAnError) {
  network::Network network = fed_bus();
  network.elements.push_back(network::ImposedCurrent{.name = "device", .bus = "birth"});
  EXPECT_THROW((void)compile(network), Error);
}

}  // namespace
}  // namespace zavrek::emt
