// Gate edges that wait, what they change, and where valves ended up behind them the last time.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <cstdint>
#include <string>
#include <vector>

#include "emt/converters.hpp"
#include "emt/groups/commutations.hpp"
#include "emt/groups/gate_edges.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

using internal::Commutations, internal::GateEdges, internal::Pieces, internal::ValveStates;

GateEdges edges_of(int valves) {
  GateEdges edges;
  for (int k = 0; k < valves; ++k) edges.add_valve();
  return edges;
}

TEST(GateEdges, ComeInTheOrderOfTheirTimes) {
  GateEdges edges = edges_of(6);
  EXPECT_EQ(edges.earliest(), GateEdges::never);
  EXPECT_TRUE(edges.push(5, true, 3e-6));
  EXPECT_TRUE(edges.push(1, true, 2e-6));
  EXPECT_TRUE(edges.push(1, false, 4e-6));
  EXPECT_EQ(edges.earliest(), 2e-6);
  EXPECT_EQ(edges.due()[5], 3e-6);
  EXPECT_EQ(edges.next(1), 2e-6);
  bool gate = false;
  EXPECT_FALSE(edges.take(1, 1.9e-6, gate));
  EXPECT_TRUE(edges.take(1, 2e-6, gate));
  EXPECT_TRUE(gate);
  EXPECT_EQ(edges.earliest(), 3e-6);
  EXPECT_TRUE(edges.take(1, 5e-6, gate));
  EXPECT_FALSE(gate);
  EXPECT_EQ(edges.next(1), GateEdges::never);
}

TEST(GateEdges, BehindALaterOneTakeItsTime) {
  GateEdges edges = edges_of(1);
  EXPECT_TRUE(edges.push(0, true, 5e-6));
  EXPECT_TRUE(edges.push(0, false, 4e-6));  // the pulse has no length
  bool gate = false;
  EXPECT_TRUE(edges.take(0, 5e-6, gate));
  EXPECT_FALSE(gate);
  EXPECT_EQ(edges.earliest(), GateEdges::never);
}

TEST(GateEdges, RefuseTheSeventeenth) {
  GateEdges edges = edges_of(2);
  for (int round = 0; round < 3; ++round) {  // wherever the ring begins
    for (int k = 0; k < 16; ++k) EXPECT_TRUE(edges.push(1, k % 2 == 0, k * 1e-6));
    EXPECT_FALSE(edges.push(1, true, 1));
    bool gate = false;
    EXPECT_TRUE(edges.take(1, 4e-6, gate));
    EXPECT_TRUE(gate);
    EXPECT_DOUBLE_EQ(edges.next(1), 5e-6);
    edges.forget(1);
    EXPECT_EQ(edges.earliest(), GateEdges::never);
  }
}

TEST(GateEdges, OfAHeldValveAreNothingToTheStep) {
  GateEdges edges = edges_of(1);
  EXPECT_TRUE(edges.push(0, true, 1e-6));
  edges.hold(0, true);
  EXPECT_EQ(edges.earliest(), GateEdges::never);
  EXPECT_EQ(edges.next(0), 1e-6);
  edges.hold(0, false);
  EXPECT_EQ(edges.earliest(), 1e-6);
}

Pieces some(std::uint64_t bits) { return {{bits, ~bits}}; }

TEST(Commutations, AreRememberedByPiecesAndGates) {
  using Outcomes = std::array<Pieces, 2>;
  Commutations commutations;
  ValveStates begun;
  begun.enter(0, 1, true);
  begun.enter(31, 2, false);
  begun.enter(63, 1, true);
  EXPECT_EQ(begun.pieces.of(0), 1U);
  EXPECT_EQ(begun.pieces.of(31), 2U);
  EXPECT_EQ(begun.pieces.of(32), 0U);
  EXPECT_EQ(begun.pieces.of(63), 1U);
  EXPECT_EQ(begun.gates, 1U | std::uint64_t{1} << 63U);
  const Outcomes unknown{begun.pieces, begun.pieces};
  EXPECT_EQ(commutations.outcomes(begun), unknown);
  commutations.keep(begun, some(5));
  EXPECT_EQ(commutations.outcomes(begun), (Outcomes{some(5), some(5)}));
  commutations.keep(begun, some(6));
  commutations.keep(begun, some(6));
  EXPECT_EQ(commutations.outcomes(begun), (Outcomes{some(6), some(5)}))
      << "the last, and the last that was another";
  ValveStates other = begun;
  other.enter(0, 1, false);
  EXPECT_EQ(commutations.outcomes(other), (Outcomes{other.pieces, other.pieces})) << "another gate";
  begun.enter(64, 3, true);  // beyond those that are kept
  EXPECT_EQ(commutations.outcomes(begun), (Outcomes{some(6), some(5)}));
  commutations.forget();
  EXPECT_EQ(commutations.outcomes(begun), unknown);
}

TEST(Commutations, DoNotDriveEachOtherOut) {
  Commutations commutations;
  const auto state = [](unsigned k) {
    ValveStates states;
    states.enter(0, k & 3U, (k & 4U) != 0);
    states.enter(5, k >> 3U & 3U, (k >> 5U & 1U) != 0);
    states.enter(13, k >> 6U & 3U, (k >> 8U & 1U) != 0);
    return states;
  };
  for (unsigned k = 0; k < 512; ++k) commutations.keep(state(k), some(k));
  unsigned kept = 0;
  for (unsigned k = 0; k < 512; ++k) kept += commutations.outcomes(state(k))[0] == some(k) ? 1 : 0;
  EXPECT_GE(kept, 510U);
}

TEST(Commutations, OfLegsArePutTogetherForAStateThatWasNotMet) {
  constexpr unsigned off = 0, forward = 1, reverse = 2;
  Commutations commutations;
  for (const std::size_t first : {0U, 2U, 62U}) commutations.add_leg(first, 2, 0);
  const auto all_on = [&](unsigned upper, unsigned lower, bool gate) {
    ValveStates states;
    for (const std::size_t first : {0U, 2U, 62U}) {
      states.enter(first, upper, gate);
      states.enter(first + 1, lower, false);
    }
    return states;
  };
  ValveStates begun = all_on(forward, off, true), ended = begun;
  begun.enter(2, off, false);  // the second leg's transistor lost its gate: the diode below takes over
  ended.enter(2, off, false);
  ended.enter(3, reverse, false);
  commutations.keep(begun, ended.pieces);

  begun = all_on(forward, off, true), ended = begun;  // the third leg now, and the first, at once
  for (const std::size_t first : {0U, 62U}) {
    begun.enter(first, off, false);
    ended.enter(first, off, false);
    ended.enter(first + 1, reverse, false);
  }
  EXPECT_EQ(commutations.outcomes(begun), (std::array<Pieces, 2>{ended.pieces, begun.pieces}));
  commutations.forget();
  EXPECT_EQ(commutations.outcomes(begun)[0], begun.pieces);
}

/// A load current of some amperes leaves the upper transistor for the lower diode.
Plant carrying() {
  Plant plant = compile(test::h_bridge(), 5e-6);
  plant.fire(plant.gate("h.a_upper"), true, 0);
  plant.fire(plant.gate("h.b_lower"), true, 0);
  while (plant.time_s() < 1e-3) EXPECT_EQ(plant.step(), Status::running);
  plant.fire(plant.gate("h.a_upper"), false, 1.0025e-3);
  for (int k = 0; k < 4; ++k) EXPECT_EQ(plant.step(), Status::running);
  return plant;
}

TEST(GateEdge, ThatFindsTheDiodeConductingChangesNoBit) {
  Plant told = carrying(), untold = carrying();
  const SignalId current = told.signal("z.ia");
  EXPECT_GT(told.value(current), 10);
  const long long before = told.discontinuities();
  told.fire(told.gate("h.a_lower"), true, told.time_s() + 2.3e-6);
  for (int k = 0; k < 10; ++k) {
    ASSERT_EQ(told.step(), Status::running);
    ASSERT_EQ(untold.step(), Status::running);
    ASSERT_EQ(told.value(current), untold.value(current));
  }
  EXPECT_EQ(told.discontinuities(), before);
  // It was taken all the same: the current turns, and goes on through the transistor.
  told.fire(told.gate("h.b_lower"), false, told.time_s());
  told.fire(told.gate("h.b_upper"), true, told.time_s());
  for (int k = 0; k < 400; ++k) ASSERT_EQ(told.step(), Status::running);
  EXPECT_LT(told.value(current), -1);
  EXPECT_GT(told.value(told.signal("h.a_lower.on")), 0.5);
}

TEST(GateEdge, ThatAForwardVoltageWaitsForIsAnEventAtItsTime) {
  Plant plant = compile(test::h_bridge(), 20e-6);
  for (int k = 0; k < 10; ++k) ASSERT_EQ(plant.step(), Status::running);
  const long long before = plant.discontinuities();
  const double at = plant.time_s() + 13e-6;
  plant.fire(plant.gate("h.a_upper"), true, at);
  plant.fire(plant.gate("h.b_lower"), true, at);
  ASSERT_EQ(plant.step(), Status::running);
  EXPECT_EQ(plant.discontinuities(), before + 1);
  EXPECT_NEAR(plant.value(plant.signal("z.ia")), 800 / 4e-3 * 7e-6, 0.01);
}

/// Between two valves that are off a clamping diode carries the difference of their leakages: nothing. It
/// must not go on and off without end.
TEST(Valves, DoNotTakeTurnsOverWhatRoundingMakesOfNothing) {
  Plant plant = compile(test::filtered_converter(true));
  test::CarrierFeeder feed(plant, true);
  for (int k = 0; k < 20'000; ++k) {
    feed(plant, k);
    ASSERT_EQ(plant.step(), Status::running);
  }
  EXPECT_GT(plant.discontinuities(), 1000);
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
}

}  // namespace
}  // namespace zavrek::emt
