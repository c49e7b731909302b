// A place of any fault, against faults of one kind that are compiled as such.
#include <gtest/gtest.h>

#include <cmath>

#include "emt/circuits.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

network::Network feeder() {
  network::Network network;
  network.buses = {{"quay", 11e3}, {"berth", 11e3}};
  network.elements = {network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 140e6},
                      test::quay_cable("cable", "quay", "berth"),
                      network::Load{.name = "ferry", .bus = "berth", .active_W = 3e6, .reactive_var = 1e6}};
  return network;
}

struct Kind {
  const char* phases;
  const char* poles;
  double phase_ohm, ground_ohm;  // shares of 2 ohm
};
class FaultPlaces : public ::testing::TestWithParam<Kind> {};

TEST_P(FaultPlaces, CarryTheCurrentOfAFaultOfThatKind) {
  const Kind kind = GetParam();
  network::Network of_kind = feeder(), of_any = feeder();
  network::Fault fault;
  fault.on = "cable";
  fault.at = 0.4;
  fault.phases = kind.phases;
  fault.resistance_ohm = 2;
  of_kind.faults = {fault};
  of_any.places = {{"place", "cable", 0.4}};
  Plant one = compile(of_kind), other = compile(of_any);
  const double struck_s = 0.0437, cleared_s = 0.12;
  const OperableId closes = one.operable("fault");
  one.close(closes, struck_s);
  one.open(closes, cleared_s);
  for (const char pole : std::string("abcg")) {
    const OperableId what = other.operable(std::string("place.") + pole);
    ASSERT_TRUE(other.has_resistance(what));
    EXPECT_TRUE(other.set_resistance(what, pole == 'g' ? kind.ground_ohm : kind.phase_ohm));
    if (std::string(kind.poles).find(pole) == std::string::npos) continue;
    other.close(what, struck_s);
    other.open(what, cleared_s);
  }
  double most = 0, off = 0;
  while (one.time_s() < 0.11) {
    ASSERT_EQ(one.step(), Status::running);
    ASSERT_EQ(other.step(), Status::running);
    for (const char phase : std::string("abc")) {
      const std::string tail = std::string(".i") + phase;
      const double wanted = one.value(one.signal("fault" + tail));
      most = std::max(most, std::abs(wanted));
      off = std::max(off, std::abs(other.value(other.signal("place" + tail)) - wanted));
    }
  }
  EXPECT_GT(most, 1000);
  EXPECT_LT(off, 2e-4 * most) << kind.phases;  // solid poles are 0.1 mohm each
  while (one.time_s() < 0.2) {
    (void)one.step();
    (void)other.step();
  }
  EXPECT_NEAR(other.value(other.signal("place.ia")), 0, 1) << "it has cleared";
  EXPECT_NEAR(other.value(other.signal("berth.va")), one.value(one.signal("berth.va")), 300)
      << "poles open at other zeros";
}

INSTANTIATE_TEST_SUITE_P(Kinds, FaultPlaces,
                         ::testing::Values(Kind{"AG", "ag", 0, 2}, Kind{"BC", "bc", 1, 2},
                                           Kind{"ABC", "abc", 2, 2}, Kind{"CAG", "cag", 0, 2},
                                           Kind{"ABCG", "abcg", 0, 2}));

}  // namespace
}  // namespace zavrek::emt
