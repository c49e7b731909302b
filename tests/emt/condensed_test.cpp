// Parts of the network condensed into few products per step: what they give is what factors of the whole
// give.
#include <gtest/gtest.h>

#include <cmath>
#include <random>

#include "emt/converters.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

/// A bridge behind filter, saturable transformer, line and breaker: every kind of thing that acts on a
/// condensed part.
Network converter(bool line) {
  Network n;
  n.step_s = 5e-6;
  n.buses = {{"grid", 11e3}, {"high", 11e3}, {"low", 400}, {"ac", 400}, {"dc", 750, "pn"}};
  n.elements = {
      Source{.name = "moor", .bus = "grid", .short_circuit_VA = 100e6},
      test::station_transformer("high", 1.1),
      Capacitor{.name = "C1", .bus = "low", .reactive_var = 25e3, .connection = "star"},
      Branch{.name = "L1", .between = {"low", "ac"}, .resistance_ohm = 2e-3, .inductance_H = 0.1e-3},
      Bridge{.name = "B", .dc = "dc", .ac = "ac", .drop_V = 1},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 10e-3, .voltage_V = 750, .earth_ohm = 1e5},
      DcSource{.name = "battery", .bus = "dc", .voltage_V = 750, .resistance_ohm = 0.02}};
  if (line) {
    n.elements.push_back(Line{.name = "line",
                              .between = {"grid", "high"},
                              .length_m = 6e3,
                              .r1_ohm_per_m = 0.1e-3,
                              .x1_ohm_per_m = 0.35e-3,
                              .c1_F_per_m = 10e-12,
                              .r0_ohm_per_m = 0.3e-3,
                              .x0_ohm_per_m = 1.2e-3,
                              .c0_F_per_m = 6e-12});
  } else {
    n.elements.push_back(Breaker{.name = "Q", .between = {"grid", "high"}});
  }
  return n;
}

/// The same with more kinds of parts that remember something, and a direct current through poles that can
/// never interrupt it: while these are told to open, condensed parts give all values.
Network converter_beside_direct_current() {
  Network n = converter(false);
  n.buses.push_back({"aux", 100, "pn"});
  n.buses.push_back({"lamp", 100, "pn"});
  n.elements.insert(
      n.elements.end(),
      {HarmonicFilter{.name = "F", .bus = "low", .reactive_var = 10e3, .order = 11},
       HarmonicFilter{.name = "H", .bus = "low", .reactive_var = 5e3, .order = 17, .damping_ohm = 2},
       Arrester{.name = "A", .bus = "low", .curve = {{300, 1e-3}, {500, 100}, {600, 2e3}}},
       Load{.name = "D", .bus = "low", .active_W = 20e3, .reactive_var = 10e3},
       Branch{.name = "choke",
              .between = {"low", "ground"},
              .resistance_ohm = 1,
              .inductance_H = 10e-3,
              .zero_resistance_ohm = 2,
              .zero_inductance_H = 30e-3},
       DcSource{.name = "cell", .bus = "aux", .voltage_V = 100, .resistance_ohm = 1},
       DcLink{.name = "C3", .bus = "aux", .capacitance_F = 1e-6, .voltage_V = 100, .earth_ohm = 1e4},
       Breaker{.name = "K", .between = {"aux", "lamp"}},
       DcLink{.name = "C4", .bus = "lamp", .capacitance_F = 1e-6, .voltage_V = 99, .earth_ohm = 100}});
  return n;
}

/// Random gates with dead time, the same for each plant.
class Gates {
 public:
  explicit Gates(unsigned seed, std::vector<std::string> bridges = {"B"})
      : random_(seed), bridges_(std::move(bridges)) {}
  void operator()(Plant& plant) {
    const double now = plant.time_s();
    if (now < next_) return;
    next_ += 100e-6;
    std::uniform_real_distribution<double> when(5e-6, 60e-6);
    for (const std::string& bridge : bridges_) {
      for (const char* leg : {".a", ".b", ".c"}) {
        const GateId upper = plant.gate(bridge + leg + "_upper");
        const GateId lower = plant.gate(bridge + leg + "_lower");
        const double at = now + when(random_);
        const bool up = random_() % 2 == 0;
        plant.fire(up ? lower : upper, false, at);
        plant.fire(up ? upper : lower, true, at + 2.3e-6);
      }
    }
  }

 private:
  std::mt19937 random_;
  std::vector<std::string> bridges_;
  double next_ = 0;
};

/// What inductors and capacitors hold. (What jumps behind an event is read off the solutions in a condensed
/// part, and elsewhere is what the next step starts from.)
std::vector<SignalId> compared(const Plant& plant) {
  std::vector<SignalId> ids;
  for (const std::string& name : voltages_and_currents(plant)) {
    const auto of = [&](const char* what) { return name.rfind(what, 0) == 0; };
    if (of("L1.i") || of("L2.i") || of("choke.i") || of("low.v") || of("load.v") || of("dc.v"))
      ids.push_back(plant.signal(name));
  }
  return ids;
}

class Condensed : public testing::TestWithParam<bool> {};
INSTANTIATE_TEST_SUITE_P(WithBreakerOrLine, Condensed, testing::Bool());

TEST_P(Condensed, PlantReadsTheSameWhetherASignalIsWatchedOrNot) {
  Plant watched = compile(converter(GetParam())), unwatched = compile(converter(GetParam()));
  EXPECT_GT(watched.summary().condensed, 0);
  std::vector<SignalId> ids;
  for (const std::string& name : watched.signal_names()) ids.push_back(watched.signal(name));
  watched.watch(ids);
  Gates first(3), second(3);
  for (int k = 0; k < 8000; ++k) {
    first(watched);
    second(unwatched);
    for (Plant* plant : {&watched, &unwatched}) {
      if (GetParam() || k % 2500 != 0 || k == 0) continue;
      const OperableId q = plant->operable("Q");
      k % 5000 != 0 ? plant->open(q, plant->time_s()) : plant->close(q, plant->time_s());
    }
    ASSERT_EQ(watched.step(), Status::running);
    ASSERT_EQ(unwatched.step(), Status::running);
    if (k % 97 != 0) continue;
    for (std::size_t s = 0; s < ids.size(); ++s) {
      const double a = watched.value(ids[s]), b = unwatched.value(ids[s]);
      ASSERT_NEAR(a, b, 1e-7 * std::max(1.0, std::abs(a))) << watched.signal_names()[s] << " step " << k;
    }
  }
  EXPECT_GT(watched.discontinuities(), 500);
}

TEST(CondensedPlant, NeedsNothingMadeForItsValves) {
  for (const int levels : {2, 3}) {
    Plant plant = compile(test::filtered_converter(levels == 3));
    EXPECT_EQ(plant.summary().condensed, 1);
    EXPECT_EQ(plant.summary().junction_nodes, levels == 3 ? 12 : 5);
    EXPECT_LE(plant.summary().kept_bytes, std::size_t{1} << 20U);
    test::CarrierFeeder feed(plant, levels == 3);
    for (long long k = 0; k < 21'000; ++k) {
      feed(plant, k);
      ASSERT_EQ(plant.step(), Status::running);
    }
    EXPECT_EQ(plant.matrices_made_in_run(), 0) << levels << " levels";
    EXPECT_GT(plant.discontinuities(), 1000);
  }
}

TEST(CondensedPlant, HasMadeReadyWhatABreakerBesideItsLegsComesTo) {
  Plant plant = compile(converter(false));
  EXPECT_EQ(plant.summary().made_ahead, 8U) << "of three poles";
  Gates gates(3);
  for (int k = 0; k < 6000; ++k) {
    if (k == 2000) plant.open(plant.operable("Q"), plant.time_s());
    gates(plant);
    ASSERT_EQ(plant.step(), Status::running);
  }
  EXPECT_EQ(plant.value(plant.signal("Q.closed")), 0);
  plant.fail(plant.gate("B.a_upper"), Failure::shorted, 0);
  for (int k = 0; k < 2000; ++k) {
    gates(plant);
    ASSERT_EQ(plant.step(), Status::running);
  }
  EXPECT_EQ(plant.matrices_made_in_run(), 0);
}

TEST_P(Condensed, PlantKeepsItsBitsHoweverOftenItIsRead) {
  Plant read = compile(converter(GetParam())), left_alone = compile(converter(GetParam()));
  const SignalId current = read.signal("L1.ia"), voltage = read.signal("low.va");
  Gates first(5), second(5);
  double sum = 0;
  for (int k = 0; k < 4000; ++k) {
    first(read);
    second(left_alone);
    ASSERT_EQ(read.step(), Status::running);
    ASSERT_EQ(left_alone.step(), Status::running);
    sum += read.value(current) + read.value(voltage);
  }
  EXPECT_NE(sum, 0);
  EXPECT_EQ(read.value(current), left_alone.value(current));
  EXPECT_EQ(read.value(voltage), left_alone.value(voltage));
}

TEST(CondensedPlant, IsWhatFactorsOfTheWholeGive) {
  Plant quick = compile(converter_beside_direct_current());
  Plant slow = compile(test::among_many(converter_beside_direct_current(), "low"));
  EXPECT_GT(quick.summary().condensed, 0);
  ASSERT_EQ(slow.summary().condensed, 0);
  Gates first(11), second(11);
  const std::vector<SignalId> ids = compared(quick);
  for (int k = 0; k < 6000; ++k) {
    if (k == 3000) quick.open(quick.operable("K"), quick.time_s());  // which makes solutions whole
    first(quick);
    second(slow);
    ASSERT_EQ(quick.step(), Status::running);
    ASSERT_EQ(slow.step(), Status::running);
    for (const SignalId id : ids) {
      const std::string name = quick.signal_names()[static_cast<std::size_t>(id.index)];
      const double a = quick.value(id), b = slow.value(slow.signal(name));
      ASSERT_NEAR(a, b, 1e-5 * std::max(100.0, std::abs(b))) << name << " step " << k;
    }
  }
  EXPECT_EQ(quick.discontinuities(), slow.discontinuities());
  EXPECT_EQ(quick.value(quick.signal("K.closed")), 1) << "it never finds a current zero";
}

/// Two bridges at one link that hardly anything earths, each behind a filter, one of them behind a breaker.
Network two_converters() {
  Network n;
  n.step_s = 5e-6;
  n.buses = {{"grid", 400}, {"low", 400},  {"ac", 400},        {"dc", 750, "pn"},
             {"ac2", 400},  {"load", 400}, {"aux", 100, "pn"}, {"lamp", 100, "pn"}};
  n.elements = {
      Source{.name = "moor", .bus = "grid", .short_circuit_VA = 5e6},
      Breaker{.name = "Q", .between = {"grid", "low"}},
      Capacitor{.name = "C1", .bus = "low", .reactive_var = 5e3, .connection = "star"},
      Branch{.name = "L1", .between = {"low", "ac"}, .resistance_ohm = 2e-3, .inductance_H = 0.3e-3},
      Bridge{.name = "B", .dc = "dc", .ac = "ac", .drop_V = 1},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 2e-3, .voltage_V = 650, .earth_ohm = 1e5},
      Bridge{.name = "D", .dc = "dc", .ac = "ac2", .drop_V = 1},
      Branch{.name = "L2", .between = {"ac2", "load"}, .resistance_ohm = 5e-3, .inductance_H = 0.5e-3},
      Capacitor{.name = "C5", .bus = "load", .reactive_var = 4e3, .connection = "star"},
      Load{.name = "R", .bus = "load", .active_W = 40e3, .reactive_var = 10e3},
      DcSource{.name = "cell", .bus = "aux", .voltage_V = 100, .resistance_ohm = 1},
      DcLink{.name = "C3", .bus = "aux", .capacitance_F = 1e-6, .voltage_V = 100, .earth_ohm = 1e4},
      Breaker{.name = "K", .between = {"aux", "lamp"}},
      DcLink{.name = "C4", .bus = "lamp", .capacitance_F = 1e-6, .voltage_V = 99, .earth_ohm = 100}};
  return n;
}

TEST(CondensedPlant, InAreasIsWhatFactorsOfTheWholeGive) {
  Plant quick = compile(two_converters()), slow = compile(test::among_many(two_converters(), "low"));
  ASSERT_EQ(quick.summary().condensed, 1);
  ASSERT_EQ(quick.summary().areas, 2) << "one beside each bridge";
  ASSERT_EQ(slow.summary().condensed, 0);
  Gates first(11, {"B", "D"}), second(11, {"B", "D"});
  const std::vector<SignalId> ids = compared(quick);
  double largest = 0;
  for (int k = 0; k < 12000; ++k) {
    for (Plant* plant : {&quick, &slow}) {
      if (k == 6000) plant->open(plant->operable("Q"), plant->time_s());
      if (k == 9000) plant->close(plant->operable("Q"), plant->time_s());
      if (k == 10000) plant->fail(plant->gate("D.a_upper"), Failure::dead, 0);
    }
    first(quick);
    second(slow);
    ASSERT_EQ(quick.step(), Status::running);
    ASSERT_EQ(slow.step(), Status::running);
    for (const SignalId id : ids) {
      const std::string name = quick.signal_names()[static_cast<std::size_t>(id.index)];
      const double a = quick.value(id), b = slow.value(slow.signal(name));
      largest = std::max(largest, std::abs(a - b) / std::max(1.0, std::abs(b)));
      ASSERT_NEAR(a, b, 1e-5 * std::max(100.0, std::abs(b))) << name << " step " << k;
    }
  }
  EXPECT_GT(largest, 0) << "the same sums in the same order: nothing was compared";
  EXPECT_EQ(quick.discontinuities(), slow.discontinuities());
  EXPECT_GT(quick.discontinuities(), 2000);
}

TEST(CondensedPlant, InAreasGoesOnFromItsStateAndAsItsClone) {
  Plant plant = compile(two_converters());
  Gates gates(4, {"B", "D"});
  for (int k = 0; k < 3000; ++k) {
    gates(plant);
    ASSERT_EQ(plant.step(), Status::running);
  }
  const PlantState kept = plant.save();
  Plant clone = plant.clone(), other = compile(two_converters());
  other.restore(kept);
  Gates of_clone = gates, of_other = gates;
  const SignalId current = plant.signal("L2.ia"), voltage = plant.signal("dc.vp");
  for (int k = 0; k < 3000; ++k) {
    gates(plant);
    of_clone(clone);
    of_other(other);
    for (Plant* one : {&plant, &clone, &other}) ASSERT_EQ(one->step(), Status::running);
    for (const Plant* one : {&clone, &other}) {
      ASSERT_EQ(one->value(current), plant.value(current)) << k;
      ASSERT_EQ(one->value(voltage), plant.value(voltage)) << k;
    }
  }
}

TEST(CondensedPlant, OpensItsBreakerAtTheCurrentZero) {
  Plant plant = compile(converter(false));
  Gates gates(2);
  const OperableId breaker = plant.operable("Q");
  bool asked = false;
  const SignalId closed = plant.signal("Q.closed");
  const SignalId currents[] = {plant.signal("Q.ia"), plant.signal("Q.ib"), plant.signal("Q.ic")};
  bool open[3] = {};
  for (int k = 0; k < 12000; ++k) {
    gates(plant);
    if (!asked && plant.time_s() > 0.02) asked = plant.open(breaker, plant.time_s());
    const double was = plant.value(closed);
    double before[3];
    for (int p = 0; p < 3; ++p) before[p] = plant.value(currents[p]);
    ASSERT_EQ(plant.step(), Status::running);
    if (plant.value(closed) == was) continue;
    for (int p = 0; p < 3; ++p) {
      if (open[p] || std::abs(plant.value(currents[p])) > 1e-2) continue;
      open[p] = true;
      EXPECT_LT(std::abs(before[p]), 2) << "a step ahead of its zero";
    }
  }
  EXPECT_TRUE(open[0] && open[1] && open[2]);
  EXPECT_EQ(plant.value(closed), 0);
}

TEST(CondensedPlant, LosesNoDigitsWhereAStiffSourceHardlyTouchesEarth) {
  // The bridge floats but for 1e5 ohm, and its source and valves have a microohm: what flows is exact.
  Plant plant = compile(test::h_bridge(), 1e-6);
  plant.fire(plant.gate("h.a_upper"), true, 0);
  plant.fire(plant.gate("h.b_lower"), true, 0);
  const SignalId current = plant.signal("z.ia"), through = plant.signal("h.a_upper.i");
  while (plant.time_s() < 10e-3) ASSERT_EQ(plant.step(), Status::running);
  const double exact = 800 / 1.2 * (1 - std::exp(-1.2 / 4e-3 * plant.time_s()));
  EXPECT_NEAR(plant.value(current), exact, 5e-3);
  EXPECT_NEAR(plant.value(through), plant.value(current), 1e-4);
}

TEST(CondensedPlant, TellsTheNodeThatDiverges) {
  Network n = converter(false);
  std::get<DcSource>(n.elements[6]).voltage_V = 1e308;
  Plant plant = compile(n);
  Status status = Status::running;
  for (int k = 0; k < 2000 && status == Status::running; ++k) status = plant.step();
  EXPECT_EQ(status, Status::diverged);
  EXPECT_NE(plant.culprit(), "");
}

}  // namespace
}  // namespace zavrek::emt
