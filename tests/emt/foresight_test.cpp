// A step looks ahead where the next may meet a discontinuity. What it finds must be what the next step would
// find by itself, whatever is commanded between the two: beside each plant runs one that is told behind every
// step to close what is closed, which makes it forget all that it looked ahead.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <random>
#include <string>
#include <vector>

#include "emt/converters.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

/// A transformer that saturates and a cable behind a breaker, a fault at their end.
Network saturating_feeder() {
  Network n;
  n.buses = {{"bar", 11e3}, {"mid", 11e3}, {"low", 400}, {"end", 400}, {"side", 11e3}, {"cells", 110, "pn"}};
  n.elements = {
      Source{.name = "grid", .bus = "bar", .short_circuit_VA = 200e6},
      Breaker{.name = "q0",
              .between = {"bar", "mid"},
              .opening_time_s = 1e-3,
              .closing_time_s = 0.7e-3,
              .chopping_A = 2},
      test::station_transformer("mid", 1.15),
      Branch{.name = "cable", .between = {"low", "end"}, .resistance_ohm = 5e-3, .inductance_H = 30e-6},
      Capacitor{.name = "C", .bus = "end", .reactive_var = 20e3, .connection = "grounded star"},
      Load{.name = "l", .bus = "end", .active_W = 200e3, .reactive_var = 50e3},
      Breaker{.name = "spare", .between = {"bar", "side"}},
      Load{.name = "m", .bus = "side", .active_W = 10e3},
      DcSource{.name = "battery", .bus = "cells", .voltage_V = 110, .resistance_ohm = 0.1},
      DcLink{.name = "C2", .bus = "cells", .capacitance_F = 1e-3, .voltage_V = 110, .earth_ohm = 1e4}};
  n.faults = {Fault{.on = "end", .phases = "ABC", .resistance_ohm = 0.01}};
  return n;
}

/// A plant and one that looks ahead in vain. Signals that are not watched are read now and then only: that
/// too makes a step forget something.
struct Pair {
  Plant own, other;
  std::vector<double> scale;
  double worst = 0;
  std::vector<SignalId> watched;
  explicit Pair(const Network& network) : own(compile(network)), other(compile(network)) {
    scale.assign(own.signal_names().size(), 1e-3);
  }
  template <class Command>
  void both(Command&& command) {
    command(own);
    command(other);
  }
  void watch(std::size_t signal) {
    watched.push_back({static_cast<int>(signal)});
    both([&](Plant& plant) { plant.watch(watched.back()); });
  }
  void step() {
    ASSERT_EQ(own.step(), Status::running) << own.culprit();
    ASSERT_EQ(other.step(), Status::running) << other.culprit();
    (void)other.close(other.operable("spare"), other.time_s());
    ASSERT_EQ(own.discontinuities(), other.discontinuities()) << "at " << own.time_s() << " s";
    ASSERT_EQ(own.steps_at_event_limit(), other.steps_at_event_limit()) << "at " << own.time_s() << " s";
    for (const SignalId signal : watched) compare(signal);
    if (own.steps() % 23 != 0) return;
    for (std::size_t k = 0; k < scale.size(); ++k) compare({static_cast<int>(k)});
  }
  void compare(SignalId signal) {
    const auto k = static_cast<std::size_t>(signal.index);
    const double value = other.value(signal);
    scale[k] = std::max(scale[k], std::abs(value));
    worst = std::max(worst, std::abs(own.value(signal) - value) / scale[k]);
  }
};

class ForesightOf : public testing::TestWithParam<unsigned> {};

TEST_P(ForesightOf, PolesHoldsWhateverIsCommandedMeanwhile) {
  Pair pair(saturating_feeder());
  std::mt19937 random(GetParam());
  const auto share = [&] { return std::uniform_real_distribution<double>(0, 1)(random); };
  long long commands = 0;
  for (int k = 0; k < 6000 && !testing::Test::HasFatalFailure(); ++k) {
    if (k % 500 == 250) pair.watch(random() % pair.scale.size());
    if (share() < 0.01) {
      const char* what = share() < 0.5 ? "q0" : "fault";
      const bool close = share() < 0.5;
      const double later = (share() < 0.5 ? 1 : 40) * share() * pair.own.step_s();
      ++commands;
      pair.both([&](Plant& plant) {
        const OperableId operable = plant.operable(what);
        const double at = plant.time_s() + later;
        (void)(close ? plant.close(operable, at) : plant.open(operable, at));
      });
    }
    if (share() < 0.003) {
      const double volts = 100 + 20 * share();
      pair.both([&](Plant& plant) { plant.turn(plant.knob("battery.voltage"), volts); });
    }
    pair.step();
  }
  EXPECT_GT(commands, 30);
  EXPECT_GT(pair.own.discontinuities(), 60);
  EXPECT_LT(pair.worst, 1e-8);
}

TEST_P(ForesightOf, ValvesHoldsWhateverIsFiredMeanwhile) {
  for (const bool three_levels : {false, true}) {
    Network n = test::filtered_converter(three_levels);
    n.buses.push_back({"side", 400});
    n.elements.emplace_back(Breaker{.name = "spare", .between = {"filter", "side"}});
    n.elements.emplace_back(Load{.name = "m", .bus = "side", .active_W = 10e3});
    Pair pair(n);
    test::CarrierFeeder feed_own(pair.own, three_levels), feed_other(pair.other, three_levels);
    std::mt19937 random(GetParam());
    const auto share = [&] { return std::uniform_real_distribution<double>(0, 1)(random); };
    for (int k = 0; k < 6000 && !testing::Test::HasFatalFailure(); ++k) {
      feed_own(pair.own, k);
      feed_other(pair.other, k);
      if (k % 500 == 5) pair.watch(random() % pair.scale.size());
      if (share() < 0.02) {  // a gate goes off within the step that was looked ahead, or just behind it
        const auto gate = static_cast<std::size_t>(random()) % feed_own.gates.size();
        const double later = 2 * share() * pair.own.step_s();
        pair.own.fire(feed_own.gates[gate], false, pair.own.time_s() + later);
        pair.other.fire(feed_other.gates[gate], false, pair.other.time_s() + later);
      }
      if (share() < 0.0005) {
        const auto gate = static_cast<std::size_t>(random()) % feed_own.gates.size();
        pair.own.fail(feed_own.gates[gate], Failure::dead);
        pair.other.fail(feed_other.gates[gate], Failure::dead);
      }
      if (share() < 0.003) {
        const double volts = 700 + 100 * share();
        pair.both([&](Plant& plant) { plant.turn(plant.knob("battery.voltage"), volts); });
      }
      pair.step();
    }
    EXPECT_GT(pair.own.discontinuities(), 150);
    EXPECT_LT(pair.worst, 1e-8) << (three_levels ? "three levels" : "two levels");
  }
}

INSTANTIATE_TEST_SUITE_P(Seeds, ForesightOf, testing::Range(1U, 7U));

/// Commands for an instant in a step that was looked ahead already do what they do when they come early.
TEST(Foresight, IsGivenUpForACommandAtTheLastMoment) {
  for (const char* what : {"q0", "fault"}) {
    Network n = saturating_feeder();
    std::get<Breaker>(n.elements[1]).opening_time_s = 0;
    Plant early = compile(n), late = compile(n);
    for (int k = 0; k < 2000; ++k) {
      const double at = (std::floor(k / 400.0) * 400 + 200.3) * n.step_s;
      const bool close = (k / 400 % 2 == 0) == (std::string(what) == "fault");
      const auto command = [&](Plant& plant) {
        const OperableId operable = plant.operable(what);
        (void)(close ? plant.close(operable, at) : plant.open(operable, at));
      };
      if (k % 400 == 150) command(early);
      if (k % 400 == 200) command(late);
      ASSERT_EQ(early.step(), Status::running);
      ASSERT_EQ(late.step(), Status::running);
      for (const char* signal : {"q0.ia", "end.va", "cable.ia"})
        ASSERT_NEAR(early.value(early.signal(signal)), late.value(late.signal(signal)), 1e-6)
            << signal << " with " << what << " in step " << k;
    }
    EXPECT_EQ(early.discontinuities(), late.discontinuities());
    EXPECT_GT(early.discontinuities(), 5);
  }
}

}  // namespace
}  // namespace zavrek::emt
