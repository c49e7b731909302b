// Every topology of valves: what a condensed part gives, with its junction, its remembered commutations and
// edges that it takes in passing, is what factors of the whole give; and no charge or energy gets
// lost in an instant of commutation.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <random>
#include <string>
#include <vector>

#include "emt/converters.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

/// A bridge of a topology between a grid behind a choke and a d.c. link.
Network bridge_of(const std::string& topology, const std::string& device, double drop_V) {
  const bool three_levels = topology == "neutral-point clamped" || topology == "t-type";
  Network n;
  n.step_s = 4e-6;
  n.buses = {{"grid", 400}, {"ac", 400}, {"dc", 650, three_levels ? "pnm" : "pn"}};
  n.elements = {
      Source{.name = "moor", .bus = "grid", .short_circuit_VA = 2e6},
      Branch{.name = "L1", .between = {"grid", "ac"}, .resistance_ohm = 20e-3, .inductance_H = 0.5e-3},
      Bridge{.name = "B", .topology = topology, .dc = "dc", .ac = "ac", .device = device, .drop_V = drop_V},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 2e-3, .voltage_V = 650, .earth_ohm = 1e4},
      DcSource{.name = "load", .bus = "dc", .voltage_V = 600, .resistance_ohm = 4}};
  return n;
}

/// A d.c. converter between a link and a battery, with a braking chopper beside it.
Network direct_converter(const std::string& topology) {
  Network n;
  n.step_s = 4e-6;
  n.start = "zero";
  n.buses = {{"dc", 750, "pn"}, {"cells", 400, "pn"}};
  n.elements = {
      DcSource{.name = "feed", .bus = "dc", .voltage_V = 750, .resistance_ohm = 0.5},
      DcLink{.name = "C2", .bus = "dc", .capacitance_F = 1e-3, .voltage_V = 750, .earth_ohm = 1e4},
      DcConverter{.name = "B",
                  .topology = topology,
                  .high = "dc",
                  .low = "cells",
                  .inductance_H = 2e-3,
                  .drop_V = 0.8},
      Chopper{.name = "R", .bus = "dc", .resistance_ohm = 5, .inductance_H = 10e-6},
      DcLink{.name = "C5", .bus = "cells", .capacitance_F = 0.5e-3, .voltage_V = 400, .earth_ohm = 1e4},
      DcSource{.name = "battery", .bus = "cells", .voltage_V = 400, .resistance_ohm = 0.1}};
  return n;
}

struct Subject {
  std::string name;
  Network network;
};

std::vector<Subject> subjects() {
  std::vector<Subject> all;
  for (const char* topology : {"two-level", "neutral-point clamped", "t-type"})
    all.push_back({topology, bridge_of(topology, "transistor", 0)});
  all.push_back({"two-level with drops", bridge_of("two-level", "transistor", 1.2)});
  all.push_back({"diodes", bridge_of("two-level", "diode", 0.9)});
  all.push_back({"thyristors", bridge_of("two-level", "thyristor", 0.9)});
  for (const char* topology : {"buck", "boost", "two-quadrant"})
    all.push_back({topology, direct_converter(topology)});
  return all;
}

/// Random gates, the same for each plant: a leg of two valves has one of them on or none, a leg of four two
/// that follow each other or none; what comes on does so a dead time behind what goes off.
class Edges {
 public:
  explicit Edges(unsigned seed) : random_(seed) {}
  void operator()(Plant& plant) {
    if (plant.time_s() < next_) return;
    std::map<std::string, std::vector<GateId>> legs;
    for (const std::string& gate : plant.gate_names()) {
      const auto end = gate.find_last_of("_.");
      legs[gate.substr(0, end)].push_back(plant.gate(gate));
    }
    std::uniform_real_distribution<double> when(0, 110e-6);
    for (const auto& [name, gates] : legs) {
      const std::size_t together = gates.size() == 4 ? 2 : 1;
      const std::size_t first = random_() % (gates.size() - together + 2);  // the last: none
      const double at = next_ + when(random_);
      for (std::size_t k = 0; k < gates.size(); ++k) {
        const bool on = k >= first && k < first + together && first + together <= gates.size();
        plant.fire(gates[k], on, on ? at + 3e-6 : at);
      }
    }
    next_ += 120e-6;
  }

 private:
  std::mt19937 random_;
  double next_ = 0;
};

/// Gates that follow no rule, legs shorted and pulses without length among them.
class WildEdges {
 public:
  explicit WildEdges(unsigned seed) : random_(seed) {}
  void operator()(Plant& plant) {
    if (plant.time_s() < next_) return;
    next_ += 120e-6;
    std::uniform_real_distribution<double> when(0, 110e-6);
    for (const std::string& gate : plant.gate_names()) {
      if (random_() % 4 == 0) continue;
      const double at = plant.time_s() + when(random_);
      plant.fire(plant.gate(gate), random_() % 2 == 0, at);
      if (random_() % 8 == 0) plant.fire(plant.gate(gate), random_() % 2 == 0, at);
    }
  }

 private:
  std::mt19937 random_;
  double next_ = 0;
};

/// Currents of inductances and voltages of links. (A current that dies away next to zero may be found ended
/// in one step or the next, and the voltages that hang on it differ for as long.)
std::vector<std::string> what_cannot_jump(const Subject& subject) {
  if (subject.network.buses[0].name == "dc") return {"B.i", "C2.v", "C5.v", "feed.i", "battery.i"};
  return {"L1.ia", "L1.ib", "L1.ic", "C2.v", "load.i"};
}

/// Runs a network twice, once in a partition too large to be condensed, and compares what cannot jump with
/// its peak so far.
void compare_ways(const Subject& subject, unsigned seed,
                  const std::vector<std::pair<double, Failure>>& failures) {
  Plant quick = compile(subject.network);
  Plant slow = compile(test::among_many(subject.network, subject.network.buses.at(1).name));
  ASSERT_GT(quick.summary().condensed, 0) << subject.name;
  ASSERT_EQ(slow.summary().condensed, 0) << subject.name;
  const std::vector<std::string> names = what_cannot_jump(subject);
  std::vector<double> peak(names.size(), 1);
  Edges first(seed), second(seed);
  std::mt19937 random(seed);
  std::size_t failed = 0;
  for (int k = 0; k < 3500; ++k) {
    if (failed < failures.size() && quick.time_s() >= failures[failed].first) {
      const auto gates = quick.gate_names();
      const GateId gate = quick.gate(gates[random() % gates.size()]);
      quick.fail(gate, failures[failed].second, 7e-6);
      slow.fail(gate, failures[failed++].second, 7e-6);
    }
    first(quick);
    second(slow);
    ASSERT_EQ(quick.step(), Status::running) << subject.name;
    ASSERT_EQ(slow.step(), Status::running) << subject.name;
    for (std::size_t s = 0; s < names.size(); ++s) {
      const double a = quick.value(quick.signal(names[s])), b = slow.value(slow.signal(names[s]));
      peak[s] = std::max(peak[s], std::abs(b));
      ASSERT_NEAR(a, b, 1e-4 * peak[s]) << subject.name << ": " << names[s] << " step " << k;
    }
  }
}

TEST(Topologies, OfDirectCurrentAloneStartSteady) {
  Network n = direct_converter("two-quadrant");
  n.start = "steady";
  Plant plant = compile(n);
  for (int k = 0; k < 2000; ++k) ASSERT_EQ(plant.step(), Status::running);
  // Blocked: each side rests at its source's voltage.
  EXPECT_NEAR(plant.value(plant.signal("C2.v")), 750, 1e-3 * 750);
  EXPECT_NEAR(plant.value(plant.signal("C5.v")), 400, 1e-3 * 400);
  EXPECT_NEAR(plant.value(plant.signal("B.i")), 0, 1e-2);
}

TEST(Topologies, GiveWhatFactorsOfTheWholeGive) {
  for (const Subject& subject : subjects()) {
    for (const unsigned seed : {1U, 2U}) compare_ways(subject, seed, {});
  }
}

TEST(Topologies, GiveItWithFailingDevicesToo) {
  for (const Subject& subject : subjects()) {
    if (subject.name == "diodes") continue;  // they have no gates
    compare_ways(subject, 5, {{3e-3, Failure::lost}, {5e-3, Failure::late}, {7e-3, Failure::none}});
    compare_ways(subject, 6, {{4e-3, Failure::dead}, {9e-3, Failure::shorted}});
  }
}

/// Whatever the gates do at once, the current of an inductance changes by its voltage alone.
TEST(Topologies, LetNoCurrentOfAnInductanceJump) {
  for (const Subject& subject : subjects()) {
    Plant plant = compile(subject.network, 1e-6);
    const bool direct = subject.network.buses[0].name == "dc";
    const SignalId current = plant.signal(direct ? "B.i" : "L1.ia");
    // The link, which freewheeling currents may charge up, and the highest voltage on the other side.
    const SignalId link = plant.signal("C2.v");
    const double other_V = direct ? 420 : 330, inductance_H = direct ? 2e-3 : 0.5e-3;
    WildEdges edges(9);
    double before = plant.value(current), highest = 0;
    for (int k = 0; k < 8000; ++k) {
      edges(plant);
      const double volts = std::abs(plant.value(link)) + other_V;
      ASSERT_EQ(plant.step(), Status::running);
      const double now = plant.value(current);
      ASSERT_LT(std::abs(now - before), 1.02 * volts * plant.step_s() / inductance_H)
          << subject.name << " " << k;
      highest = std::max(highest, std::abs(now));
      before = now;
    }
    const bool waits = subject.name == "diodes" || subject.name == "thyristors";  // its link is full
    EXPECT_GT(highest, waits ? 0 : 1) << subject.name;
    EXPECT_EQ(plant.steps_at_event_limit(), 0) << subject.name;
  }
}

/// What commutations came to is remembered to save work: never may it change a result. Random gates, with
/// currents of all sizes, on a plant that remembers and one that searches each time.
TEST(Topologies, GiveTheSameWithoutRememberingCommutations) {
  for (const Subject& subject : subjects()) {
    // Two clamping diodes that carry next to nothing fit either way: one half step more or less follows,
    // which tells at large steps.
    const bool clamped = subject.name == "neutral-point clamped";
    for (const double step_s : {1e-6, 4e-6, 20e-6, 50e-6}) {
      Plant remembers = compile(subject.network, step_s), searches = compile(subject.network, step_s);
      if (clamped && step_s > 4e-6) continue;
      searches.remember_commutations(false);
      const std::vector<std::string> names = what_cannot_jump(subject);
      std::vector<double> peak(names.size(), 1);
      Edges first(11), second(11);
      for (int k = 0; k < 4000; ++k) {
        first(remembers);
        second(searches);
        ASSERT_EQ(remembers.step(), Status::running);
        ASSERT_EQ(searches.step(), Status::running);
        if (k % 7 != 0) continue;
        for (std::size_t s = 0; s < names.size(); ++s) {
          const double a = remembers.value(remembers.signal(names[s]));
          const double b = searches.value(searches.signal(names[s]));
          peak[s] = std::max(peak[s], std::abs(b));
          ASSERT_NEAR(a, b, 1e-4 * peak[s])
              << subject.name << ", " << step_s << " s: " << names[s] << " in step " << k;
        }
      }
    }
  }
}

/// Not even where a current ends in the half step behind an event, so that its valve is off at the first
/// half-step point and comes on before the second.
TEST(Topologies, ResolveAllOfAStepWithinIt) {
  for (const Subject& subject : subjects()) {
    for (const double step_s : {4e-6, 20e-6}) {
      Plant tame = compile(subject.network, step_s), wild = compile(subject.network, step_s);
      Edges edges(3);
      WildEdges wild_edges(3);
      for (int k = 0; k < 8000; ++k) {
        edges(tame);
        wild_edges(wild);
        ASSERT_EQ(tame.step(), Status::running);
        ASSERT_EQ(wild.step(), Status::running);
      }
      EXPECT_EQ(tame.steps_at_event_limit(), 0) << subject.name << " " << step_s;
      EXPECT_EQ(wild.steps_at_event_limit(), 0) << subject.name << " " << step_s;
      EXPECT_GT(tame.discontinuities(), 15) << subject.name << " " << step_s;
    }
  }
}

}  // namespace
}  // namespace zavrek::emt
