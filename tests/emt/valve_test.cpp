// Valves and bridges against closed forms and exact solutions.
#include <cmath>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/running.hpp"
#include "reference.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
constexpr double pi = std::numbers::pi;

std::string data(const std::string& name) { return std::string(ZAVREK_TEST_DATA) + "/" + name; }

/// Root mean square of a signal's difference from a reference, over the reference's peak.
template <class Ahead>
double rms_error(Plant& plant, const std::string& signal, const test::Reference& reference, Ahead ahead) {
  const SignalId id = plant.signal(signal);
  double sum = 0, peak = 0;
  std::size_t k = 0, compared = 0;
  while (k < reference.time_s.size()) {
    const double t = reference.time_s[k];
    if (plant.time_s() < t - 1e-9) {
      ahead(plant);
      EXPECT_EQ(plant.step(), Status::running);
      continue;
    }
    const double difference = plant.value(id) - reference.value[k];
    sum += difference * difference;
    peak = std::max(peak, std::abs(reference.value[k]));
    ++compared;
    ++k;
  }
  return std::sqrt(sum / static_cast<double>(compared)) / peak;
}

Network diode_rl() {
  Network n;
  n.start = "zero";
  n.buses = {{"s", 230, "a"}, {"r", 230, "a"}};
  n.elements = {
      Source{.name = "source", .bus = "s", .voltage_V = 325 / std::numbers::sqrt2, .angle_rad = -pi / 2},
      Valve{.name = "d", .device = "diode", .from = "s.a", .to = "r.a", .on_ohm = 1e-6},
      Branch{.name = "z", .between = {"r", "ground"}, .resistance_ohm = 8, .inductance_H = 30e-3}};
  return n;
}

TEST(Diode, FollowsTheExactCurrentOfARectifiedInductiveLoad) {
  const auto reference = test::read_reference(data("diode_rl.csv"), 1);
  for (const auto& [step, bound] : {std::pair{50e-6, 4e-4}, {25e-6, 2e-4}, {10e-6, 8e-5}}) {
    Plant plant = compile(diode_rl(), step);
    EXPECT_LT(rms_error(plant, "z.ia", reference, [](Plant&) {}), bound) << step;
    EXPECT_EQ(plant.crowded_steps(), 0);
  }
}

TEST(Diode, StopsConductingWhereTheClosedFormSays) {
  Plant plant = compile(diode_rl(), 20e-6);
  double ended = 0;
  const SignalId on = plant.signal("d.on"), current = plant.signal("d.i");
  bool before = true;
  double least = 0;
  while (plant.time_s() < 0.019) {
    ASSERT_EQ(plant.step(), Status::running);
    const bool now = plant.value(on) > 0;
    if (before && !now) ended = plant.time_s();
    before = now;
    least = std::min(least, plant.value(current));
  }
  EXPECT_NEAR(ended, 12.838797e-3, 20e-6);
  EXPECT_GT(least, -1e-5) << "no diode conducts backwards";
}

Network h_bridge() {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 800, "pn"}, {"ac", 800, "ab"}};
  n.elements = {
      DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 1e-6},
      DcLink{.name = "c", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 800, .earth_ohm = 1e5},
      Bridge{.name = "h", .dc = "dc", .ac = "ac", .on_ohm = 1e-6},
      Branch{.name = "z", .between = {"ac.a", "ac.b"}, .resistance_ohm = 1.2, .inductance_H = 4e-3}};
  return n;
}

/// The four gates of an H bridge, fed with the edges of a file as their time comes near.
struct EdgeFeeder {
  test::Reference edges = test::read_reference(data("bridge_pwm_edges.csv"), 1);
  std::array<GateId, 4> gates;
  std::size_t next = 0;
  explicit EdgeFeeder(Plant& plant)
      : gates{plant.gate("h.a_upper"), plant.gate("h.b_lower"), plant.gate("h.a_lower"),
              plant.gate("h.b_upper")} {
    set(plant, true, 0);
  }
  void set(Plant& plant, bool plus, double at) {
    for (std::size_t k = 0; k < 4; ++k) EXPECT_TRUE(plant.fire(gates[k], (k < 2) == plus, at));
  }
  void operator()(Plant& plant) {
    for (; next < edges.time_s.size() && edges.time_s[next] < plant.time_s() + plant.step_s(); ++next)
      set(plant, edges.value[next] > 0, edges.time_s[next]);
  }
};

TEST(Bridge, KeepsGateEdgesInsideTheStep) {
  const auto reference = test::read_reference(data("bridge_pwm.csv"), 1);
  for (const auto& [step, bound] : {std::pair{20e-6, 1e-3}, {10e-6, 3e-4}, {5e-6, 1e-4}, {1e-6, 1e-5}}) {
    Plant plant = compile(h_bridge(), step);
    EdgeFeeder feed(plant);
    const double error = rms_error(plant, "z.ia", reference, feed);
    EXPECT_LT(error, bound) << step;
    EXPECT_EQ(plant.crowded_steps(), 0);
  }
}

TEST(Bridge, NeverShortsALegAndItsDiodesCarryOnWhenAllGatesAreOff) {
  Plant plant = compile(h_bridge(), 5e-6);
  EdgeFeeder feed(plant);
  while (plant.time_s() < 4.02e-3) {
    feed(plant);
    ASSERT_EQ(plant.step(), Status::running);
  }
  const double before = value(plant, "z.ia");
  ASSERT_GT(std::abs(before), 20);
  for (const GateId gate : feed.gates) plant.fire(gate, false, plant.time_s() + 2.2e-6);
  double least_upper = 0;
  int shorted = 0;
  while (std::abs(value(plant, "z.ia")) > 1e-3) {
    ASSERT_EQ(plant.step(), Status::running);
    ASSERT_LT(plant.time_s(), 6e-3);
    least_upper = std::min(least_upper, value(plant, "h.a_upper.i"));
    if (value(plant, "h.a_upper.on") > 0 && value(plant, "h.a_lower.on") > 0) ++shorted;
  }
  EXPECT_EQ(shorted, 0);
  // The d.c. voltage opposes the current: it falls to zero along the closed form.
  const double tau = 4e-3 / 1.2, ends = tau * std::log(1 + std::abs(before) * 1.2 / 800);
  EXPECT_NEAR(plant.time_s() - 4.0222e-3, ends, 10e-6);
  // And stays there.
  for (int k = 0; k < 200; ++k) ASSERT_EQ(plant.step(), Status::running);
  EXPECT_LT(std::abs(value(plant, "z.ia")), 0.05);
}

TEST(Bridge, RefusesWhatCannotBe) {
  Network n = h_bridge();
  std::get<Bridge>(n.elements[2]).topology = "t-type";
  EXPECT_EQ(message_of([&] { (void)compile(n); }),
            "bridge.h, dc: \"dc\" has no pole m; give it phases = \"pnm\"");
  n = diode_rl();
  std::get<Valve>(n.elements[1]).to = "r.b";
  EXPECT_EQ(message_of([&] { (void)compile(n); }),
            "valve.d, to: no terminal \"r.b\", did you mean \"r.a\"?; a bus and its phase are wanted, such "
            "as \"dc.p\"");
}

}  // namespace
}  // namespace zavrek::emt
