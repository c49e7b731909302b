// Several steps at once give what single steps give.
#include <algorithm>
#include <cmath>
#include <vector>

#include <gtest/gtest.h>

#include "emt/circuits.hpp"
#include "emt/running.hpp"

namespace zavrek::test {
extern long long allocations;
}

namespace zavrek::emt {
namespace {

using namespace network;

/// Everything that can leap: lines whose travel is no whole number of steps, a long one among them, coupled
/// and single branches, capacitances, a transformer with turned windings, harmonics, and instrument
/// transformers with states of their own.
Network corridor() {
  Network n;
  n.step_s = 50e-6;
  n.buses = {{"moor", 66e3}, {"far", 66e3}, {"shore", 66e3}, {"quay", 11e3}, {"feed", 11e3}, {"berth", 11e3}};
  n.elements = {
      Source{.name = "grid", .bus = "moor", .short_circuit_VA = 900e6, .x_over_r = 12},
      Breaker{.name = "QI", .between = {"quay", "feed"}, .opening_time_s = 20e-3},
      test::quay_cable("cable", "feed", "berth", 2400, 2),
      Transformer{.name = "T1",
                  .high = "shore",
                  .low = "quay",
                  .rating_VA = 25e6,
                  .high_voltage_V = 66e3,
                  .low_voltage_V = 11e3,
                  .vector_group = "Dyn11",
                  .short_circuit_voltage = 0.1,
                  .copper_loss_W = 110e3,
                  .magnetizing_current = 0.006,
                  .iron_loss_W = 22e3},
      Load{.name = "ferry", .bus = "berth", .active_W = 3.6e6, .reactive_var = 1.5e6},
      CurrentTransformer{.name = "CT",
                         .on = "cable",
                         .primary_A = 400,
                         .knee_V = 60,
                         .knee_current_A = 0.02,
                         .winding_resistance_ohm = 2,
                         .burden_resistance_ohm = 3},
      CapacitiveVoltageTransformer{.name = "VT", .bus = "shore", .primary_V = 66e3, .secondary_V = 110}};
  for (const auto& [name, from, to, length] :
       {std::tuple{"near", "moor", "far", 95e3}, {"short", "far", "shore", 22e3}})
    n.elements.push_back(Line{.name = name,
                              .between = {from, to},
                              .length_m = length,
                              .r1_ohm_per_m = 0.12e-3,
                              .x1_ohm_per_m = 0.4e-3,
                              .c1_F_per_m = 9.1e-12,
                              .r0_ohm_per_m = 0.32e-3,
                              .x0_ohm_per_m = 1.25e-3,
                              .c0_F_per_m = 5e-12});
  n.faults = {Fault{.name = "fault", .on = "cable", .at = 0.6, .phases = "AG", .resistance_ohm = 2}};
  return n;
}

const std::vector<std::string> read_often{"CT.ia",   "CT.ib", "VT.vc",   "cable.ic",
                                          "quay.va", "T1.ia", "fault.ia"};

/// Two plants of one network side by side: one by single steps, one that leaps where it can.
class SideBySide {
 public:
  SideBySide(const Network& network, int together)
      : together_(together), stepping_(compile(network)), leaping_(compile(network)) {
    for (const std::string& name : read_often) {
      signals_.push_back(stepping_.signal(name));
      leaping_.watch(signals_.back());
      sizes_.push_back(0);
    }
    possible_ = leaping_.ready_leaps(together);
  }
  template <class Command>
  void both(Command&& command) {
    command(stepping_);
    command(leaping_);
  }
  /// Runs on and compares what is read often.
  void run(double seconds) {
    const double until = stepping_.time_s() + seconds;
    while (stepping_.time_s() < until - 1e-9) {
      for (int k = 0; k < together_; ++k) ASSERT_EQ(stepping_.step(), Status::running);
      ++windows_;
      if (leaping_.leap()) {
        ++leaps_;
      } else {
        for (int k = 0; k < together_; ++k) ASSERT_EQ(leaping_.step(), Status::running);
      }
      ASSERT_EQ(stepping_.steps(), leaping_.steps());
      compare();
    }
  }
  void compare() {
    for (std::size_t k = 0; k < signals_.size(); ++k) {
      const double expected = stepping_.value(signals_[k]);
      sizes_[k] = std::max(sizes_[k], std::abs(expected));
      ASSERT_NEAR(leaping_.value(signals_[k]), expected, 1e-9 * sizes_[k])
          << read_often[k] << " at " << stepping_.time_s();
    }
  }
  [[nodiscard]] bool possible() const { return possible_; }
  [[nodiscard]] double share() const { return static_cast<double>(leaps_) / static_cast<double>(windows_); }
  Plant& stepping() { return stepping_; }
  Plant& leaping() { return leaping_; }

 private:
  int together_;
  bool possible_ = false;
  Plant stepping_, leaping_;
  std::vector<SignalId> signals_;
  std::vector<double> sizes_;
  long long windows_ = 0, leaps_ = 0;
};

TEST(Leap, AgreesWithSingleStepsThroughAFaultAndItsClearing) {
  for (const int together : {2, 5}) {
    SideBySide pair(corridor(), together);
    pair.both([](Plant& p) { p.close(p.operable("fault"), 0.10123); });
    pair.run(0.2);
    pair.both([](Plant& p) { p.open(p.operable("QI"), p.time_s()); });
    pair.run(0.2);
    pair.both([](Plant& p) { p.open(p.operable("fault"), p.time_s() + 13e-6); });
    pair.run(0.1);
    pair.both([](Plant& p) { p.close(p.operable("QI"), p.time_s()); });
    pair.run(0.2);
    EXPECT_EQ(pair.stepping().discontinuities(), pair.leaping().discontinuities());
    EXPECT_GT(pair.share(), 0.6) << together;
  }
}

TEST(Leap, LetsEverySignalBeReadAndGoesOn) {
  SideBySide pair(corridor(), 5);
  pair.run(0.1);
  const SignalId unwatched = pair.leaping().signal("T1.ib"), closed = pair.leaping().signal("QI.closed");
  for (int k = 0; k < 40; ++k) {
    EXPECT_EQ(pair.leaping().value(closed), 1);
    if (k % 3 == 0) {
      EXPECT_NEAR(pair.leaping().value(unwatched), pair.stepping().value(unwatched), 1e-7);
    }
    pair.run(1e-3);
  }
  EXPECT_GT(pair.share(), 0.4);
}

/// Several leaps come from one product: whichever of them was taken last, everything is there behind it.
TEST(Leap, StopsBehindAnyOfTheLeapsOfAProduct) {
  Network n = corridor();
  n.elements.pop_back();  // the longer line, so that products of eight leaps pay
  std::get<Line>(n.elements.back()).between = {"moor", "shore"};
  std::erase_if(n.buses, [](const Bus& bus) { return bus.name == "far"; });
  for (int leaps = 1; leaps <= 9; ++leaps) {
    SideBySide pair(n, 5);
    pair.run(0.1 + leaps * 5 * 50e-6);
    if (leaps % 3 == 0) {
      const SignalId unwatched = pair.leaping().signal("T1.ib");
      EXPECT_NEAR(pair.leaping().value(unwatched), pair.stepping().value(unwatched), 1e-7) << leaps;
    } else if (leaps % 3 == 1) {
      pair.both([](Plant& p) { p.open(p.operable("QI"), p.time_s()); });
    } else {
      pair.both([](Plant& p) { p.close(p.operable("fault"), p.time_s() + 320e-6); });
    }
    pair.run(0.05);
    EXPECT_EQ(pair.stepping().discontinuities(), pair.leaping().discontinuities()) << leaps;
    EXPECT_GT(pair.share(), 0.6);
  }
}

/// More switches in turn than states are kept, each for longer than its matrices take.
TEST(Leap, ForgetsStatesAndMakesThemAgain) {
  SideBySide pair(corridor(), 5);
  for (int round = 0; round < 3; ++round) {
    for (const char* name : {"QI", "fault"}) {
      pair.both([&](Plant& p) { p.open(p.operable(name), p.time_s()); });
      pair.run(0.04);
      pair.both([&](Plant& p) { p.close(p.operable(name), p.time_s()); });
      pair.run(0.04);
    }
  }
  EXPECT_GT(pair.share(), 0.4);
}

TEST(Leap, FollowsAKnobThatIsTurned) {
  Network n = corridor();
  n.elements.push_back(Load{.name = "cranes", .bus = "berth", .active_W = 1e6, .reactive_var = 0.4e6});
  SideBySide pair(n, 5);
  const std::vector<std::string> knobs = pair.leaping().knob_names();
  pair.run(0.1);
  for (const std::string& name : knobs) {
    pair.both([&](Plant& p) { p.turn(p.knob(name), 1.05 * p.value(p.signal(name))); });
    pair.run(0.02);
  }
}

TEST(Leap, TakesHarmonicsAlong) {
  Network n = corridor();
  std::get<Source>(n.elements[0]).harmonics = {{5, 0.04}, {7, 0.02}};
  SideBySide pair(n, 4);
  pair.run(0.15);
  EXPECT_GT(pair.share(), 0.5);
}

TEST(Leap, HappensOnlyWhereTheNetworkIsLinearAndTheSourcesSteady) {
  std::vector<Network> others;
  for (int k = 0; k < 2; ++k) others.push_back(corridor());
  std::get<Transformer>(others[0].elements[3]).knee = 1.1;
  std::get<Source>(others[1].elements[0]).magnitude_programme = {{0, 1}, {0.1, 0.9}};
  for (const Network& n : others) {
    SideBySide pair(n, 5);
    pair.run(0.05);
    EXPECT_FALSE(pair.possible());
    EXPECT_EQ(pair.share(), 0);
  }
}

TEST(Leap, AllocatesNothing) {
  Plant plant = compile(corridor());
  plant.watch(plant.signal("CT.ia"));
  ASSERT_TRUE(plant.ready_leaps(5));
  plant.close(plant.operable("fault"), 0.05);
  const long long before = test::allocations;
  int leaps = 0;
  while (plant.time_s() < 0.2) {
    if (plant.leap()) {
      ++leaps;
      continue;
    }
    for (int k = 0; k < 5; ++k) ASSERT_EQ(plant.step(), Status::running);
  }
  EXPECT_EQ(test::allocations, before);
  EXPECT_GT(leaps, 400);
}

}  // namespace
}  // namespace zavrek::emt
