// Theorems of circuits, which hold for every linear network whatever its values: tried on random ones.
#include <algorithm>
#include <cmath>
#include <numbers>
#include <random>

#include <gtest/gtest.h>

#include "emt/random_network.hpp"
#include "emt/running.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

using std::numbers::pi;
constexpr double step_s = 20e-6;

/// Currents of all branches through the first 10 ms.
Series currents_of(const Network& network, const std::vector<Branch>& branches, double step = step_s) {
  Study study{.network = network, .duration_s = 500 * step, .sample_s = 10 * step, .signals = {}};
  for (const Branch& b : branches) study.signals.push_back(b.name + ".ia");
  return simulate(study, step);
}

double largest(const Series& series) {
  double most = 0;
  for (const auto& values : series.values) {
    for (const double v : values) most = std::max(most, std::abs(v));
  }
  return most;
}

/// Largest difference of the first from the sum of the others, over the largest of the first.
double in_condensed(const Series& sum, const std::vector<Series>& shares) {
  double most = 0;
  for (std::size_t s = 0; s < sum.values.size(); ++s) {
    for (std::size_t k = 0; k < sum.time_s.size(); ++k) {
      double rest = sum.values[s][k];
      for (const Series& share : shares) rest -= share.values[s][k];
      most = std::max(most, std::abs(rest));
    }
  }
  return most / largest(sum);
}

Source& source_of(Network& network, const std::string& name = "e") {
  for (Element& element : network.elements) {
    if (auto* source = std::get_if<Source>(&element); source && source->name == name) return *source;
  }
  throw Error("no such source");
}

/// A random network with a second source, of another frequency, behind a branch at its last bus.
RandomNetwork with_two_sources(unsigned seed) {
  RandomNetwork r = random_network(seed);
  const std::string last = r.network.buses.back().name;
  r.network.buses.push_back({"second", 1e3, "a"});
  const Branch tie{.name = "tie", .between = {"second", last}, .resistance_ohm = 0.7, .inductance_H = 4e-3};
  r.branches.push_back(tie);
  r.network.elements.emplace_back(tie);
  r.network.elements.emplace_back(
      Source{.name = "f", .bus = "second", .voltage_V = 300, .angle_rad = 0.4, .frequency_Hz = 180});
  return r;
}

class Theorem : public testing::TestWithParam<unsigned> {};

TEST_P(Theorem, TheEffectsOfSourcesAddUp) {
  const RandomNetwork both = with_two_sources(GetParam());
  RandomNetwork first = both, second = both;
  source_of(first.network, "f").voltage_V = 0;
  source_of(second.network, "e").voltage_V = 0;
  EXPECT_LT(
      in_condensed(currents_of(both.network, both.branches),
                   {currents_of(first.network, both.branches), currents_of(second.network, both.branches)}),
      1e-10);
}

TEST_P(Theorem, TwiceTheVoltageDrivesTwiceTheCurrent) {
  const RandomNetwork one = random_network(GetParam());
  RandomNetwork twice = one;
  source_of(twice.network).voltage_V *= 2;
  const Series half = currents_of(one.network, one.branches);
  EXPECT_LT(in_condensed(currents_of(twice.network, one.branches), {half, half}), 1e-10);
}

/// A voltage in one place drives as much current through another as it would the other way round.
TEST_P(Theorem, CauseAndEffectMayChangePlaces) {
  RandomNetwork r = random_network(GetParam());
  Network& n = r.network;
  std::mt19937 random(GetParam() + 1000);
  const std::string far = n.buses[1 + random() % (n.buses.size() - 1)].name;
  n.buses.push_back({"port", 1e3, "a"});
  n.elements.emplace_back(Branch{.name = "here", .between = {"port", far}, .resistance_ohm = 1.5});
  n.elements.emplace_back(Source{.name = "f", .bus = "port", .voltage_V = 0, .angle_rad = 0.9});
  source_of(n).angle_rad = 0.9;
  // The current out of the source at b0: all branches that end there.
  const auto out_of_first = [&](const Plant& plant) {
    double sum = 0;
    for (const Branch& b : r.branches) {
      if (b.between[0] == "b0") sum += value(plant, b.name + ".ia");
      if (b.between[1] == "b0") sum -= value(plant, b.name + ".ia");
    }
    return sum;
  };
  Network turned = n;
  std::swap(source_of(turned, "e").voltage_V, source_of(turned, "f").voltage_V);
  Plant there = compile(n, step_s), back = compile(turned, step_s);
  double most = 0, differ = 0;
  for (int k = 0; k < 600; ++k) {
    ASSERT_EQ(there.step(), Status::running);
    ASSERT_EQ(back.step(), Status::running);
    const double effect = -value(there, "here.ia"), other = -out_of_first(back);
    most = std::max(most, std::abs(effect));
    differ = std::max(differ, std::abs(effect - other));
  }
  EXPECT_GT(most, 0);
  EXPECT_LT(differ, 1e-9 * most);
}

TEST_P(Theorem, TheOrderOfWritingIsOfNoAccount) {
  const RandomNetwork r = random_network(GetParam());
  Network shuffled = r.network;
  std::mt19937 random(GetParam());
  std::shuffle(shuffled.elements.begin(), shuffled.elements.end(), random);
  std::shuffle(shuffled.buses.begin(), shuffled.buses.end(), random);
  EXPECT_LT(in_condensed(currents_of(r.network, r.branches), {currents_of(shuffled, r.branches)}), 1e-9);
}

/// With all times divided by ten (L and C a tenth, ten times the frequency), the same happens ten times as
/// fast.
TEST_P(Theorem, TheUnitOfTimeIsOfNoAccount) {
  const RandomNetwork slow = random_network(GetParam());
  RandomNetwork fast = slow;
  fast.network.frequency_Hz *= 10;
  for (Element& element : fast.network.elements) {
    if (auto* branch = std::get_if<Branch>(&element)) {
      branch->inductance_H /= 10;
      branch->capacitance_F /= 10;
    }
  }
  EXPECT_LT(in_condensed(currents_of(slow.network, slow.branches),
                         {currents_of(fast.network, slow.branches, step_s / 10)}),
            1e-9);
}

/// A branch is as good as its two halves in series, or as two of twice the impedance beside each other.
TEST_P(Theorem, ABranchMayBeMadeOfTwo) {
  const RandomNetwork whole = random_network(GetParam());
  RandomNetwork in_series = whole, beside = whole;
  const std::string name = whole.branches[GetParam() % whole.branches.size()].name;
  for (RandomNetwork* r : {&in_series, &beside}) {
    const bool series = r == &in_series;
    std::vector<Element> added;
    for (Element& element : r->network.elements) {
      auto* branch = std::get_if<Branch>(&element);
      if (!branch || branch->name != name) continue;
      const double factor = series ? 0.5 : 2;
      branch->resistance_ohm *= factor;
      branch->inductance_H *= factor;
      branch->capacitance_F /= factor;
      Branch other = *branch;
      other.name = "other";
      if (series) {
        r->network.buses.push_back({"between", 1e3, "a"});
        other.between[0] = branch->between[1] = "between";
      }
      added.emplace_back(other);
    }
    r->network.elements.insert(r->network.elements.end(), added.begin(), added.end());
  }
  const Series expected = currents_of(whole.network, whole.branches);
  EXPECT_LT(in_condensed(expected, {currents_of(in_series.network, whole.branches)}), 1e-7);
  Series half = currents_of(beside.network, whole.branches);
  for (std::size_t s = 0; s < half.names.size(); ++s) {
    if (half.names[s] != name + ".ia") continue;
    for (double& v : half.values[s]) v *= 2;
  }
  EXPECT_LT(in_condensed(expected, {half}), 1e-7);
}

/// From the steady state, an angle of the source is nothing but another start of the clock.
TEST_P(Theorem, AnAngleIsADelay) {
  RandomNetwork r = random_network(GetParam());
  r.network.start = "steady";
  RandomNetwork later = r;
  constexpr int steps = 130;
  source_of(later.network).angle_rad += 2 * pi * 50 * steps * step_s;
  Plant first = compile(r.network, step_s), second = compile(later.network, step_s);
  for (int k = 0; k < steps; ++k) ASSERT_EQ(first.step(), Status::running);
  for (int k = 0; k < 200; ++k) {
    for (const Branch& b : r.branches) {
      const std::string name = b.name + ".ia";
      ASSERT_NEAR(value(first, name), value(second, name), 1e-8 * (1 + std::abs(phasor(first, name)))) << k;
    }
    ASSERT_EQ(first.step(), Status::running);
    ASSERT_EQ(second.step(), Status::running);
  }
}

INSTANTIATE_TEST_SUITE_P(Seeds, Theorem, testing::Range(1U, 17U));

/// A cable and a load of random values behind a balanced source.
Network random_three_phase(unsigned seed, const std::string& connection) {
  std::mt19937 random(seed);
  const auto between = [&](double low, double high) {
    return std::uniform_real_distribution<double>(low, high)(random);
  };
  Network n;
  n.buses = {{"s", 11e3}, {"m", 11e3}, {"r", 11e3}};
  n.elements = {Source{.name = "g",
                       .bus = "s",
                       .angle_rad = between(0, 6),
                       .short_circuit_VA = between(50e6, 500e6),
                       .z0_over_z1 = between(0.5, 3)},
                Cable{.name = "c",
                      .between = {"s", "m"},
                      .length_m = between(200, 5000),
                      .r1_ohm_per_m = between(1e-4, 4e-4),
                      .x1_ohm_per_m = between(1e-4, 4e-4),
                      .c1_F_per_m = between(1e-10, 4e-10),
                      .r0_ohm_per_m = between(5e-4, 1e-3),
                      .x0_ohm_per_m = between(3e-4, 9e-4),
                      .c0_F_per_m = between(1e-10, 3e-10)},
                Branch{.name = "b", .between = {"m", "r"}, .resistance_ohm = between(0.1, 2)},
                Load{.name = "l",
                     .bus = "r",
                     .active_W = between(1e5, 3e6),
                     .reactive_var = between(1e4, 1e6),
                     .connection = connection}};
  return n;
}

/// Signal by signal, that of `b` at the place that `other` gives.
template <class Other>
void expect_alike(const Series& a, const Series& b, Other&& other) {
  for (std::size_t s = 0; s < a.values.size(); ++s) {
    double most = 0, differ = 0;
    for (std::size_t k = 0; k < a.time_s.size(); ++k) {
      most = std::max(most, std::abs(a.values[s][k]));
      differ = std::max(differ, std::abs(a.values[s][k] - b.values[other(s)][k]));
    }
    EXPECT_LT(differ, 1e-6 * most) << a.names[s];
  }
}

class Symmetry : public testing::TestWithParam<unsigned> {};

TEST_P(Symmetry, APhaseIsTheOneAheadAThirdOfACycleLater) {
  const Network n = random_three_phase(GetParam(), GetParam() % 2 ? "delta" : "grounded star");
  const Plant plant = compile(n);
  const std::complex<double> back = std::polar(1.0, -2 * pi / 3);
  for (const std::string stem : {"m.v", "r.v", "c.i", "g.i", "l.i"}) {
    const std::complex<double> a = phasor(plant, stem + "a");
    EXPECT_LT(std::abs(phasor(plant, stem + "b") - a * back), 1e-9 * std::abs(a)) << stem;
    EXPECT_LT(std::abs(phasor(plant, stem + "c") - a * back * back), 1e-9 * std::abs(a)) << stem;
  }
}

/// A balanced load takes the same currents in star as in delta, through a fault of two phases and its
/// clearing; the star's own point is not earthed.
TEST_P(Symmetry, AStarIsADeltaOfThreeTimesItsImpedances) {
  Study star{.network = random_three_phase(GetParam(), "star"),
             .commands = {{5.3e-3, "fault", true}, {17.1e-3, "fault", false}},
             .duration_s = 40e-3,
             .signals = {"l.ia", "l.ib", "l.ic", "m.va"}};
  star.network.faults.push_back({.name = "fault", .on = "m", .phases = "BCG", .resistance_ohm = 0.6});
  Study delta = star;
  delta.network = random_three_phase(GetParam(), "delta");
  delta.network.faults = star.network.faults;
  expect_alike(simulate(star), simulate(delta), [](std::size_t s) { return s; });
}

/// The three phases exchanged in a ring, fault and all: the same waveforms, under other letters.
TEST_P(Symmetry, TheLettersOfThePhasesAreOfNoAccount) {
  const auto through = [&](const std::string& fault, double angle_rad) {
    Study study{.network = random_three_phase(GetParam(), "grounded star"),
                .commands = {{4.2e-3, "fault", true}, {21e-3, "fault", false}},
                .duration_s = 50e-3,
                .signals = {}};
    source_of(study.network, "g").angle_rad += angle_rad;
    study.network.faults.push_back(
        {.name = "fault", .on = "c", .at = 0.4, .phases = fault, .resistance_ohm = 1});
    for (const char* stem : {"c.i", "r.v"}) {
      for (const char phase : {'a', 'b', 'c'}) study.signals.push_back(std::string(stem) + phase);
    }
    return simulate(study);
  };
  // What a was, b is when the source lags a third of a cycle less.
  expect_alike(through("AG", 0), through("BG", 2 * pi / 3),
               [](std::size_t s) { return s / 3 * 3 + (s + 1) % 3; });
}

/// All steps between two samples at once, wherever that can be: not while the fault strikes or clears.
TEST_P(Symmetry, LeapsGiveWhatStepsGive) {
  Network n = random_three_phase(GetParam(), GetParam() % 2 ? "star" : "grounded star");
  n.faults.push_back({.name = "fault", .on = "c", .at = 0.7, .phases = "CAG", .resistance_ohm = 2});
  constexpr int together = 5;
  Plant leaping = compile(n), stepping = compile(n);
  std::vector<SignalId> watched;
  for (const char* name : {"c.ia", "c.ic", "r.vb", "g.ic", "l.ia"}) watched.push_back(leaping.signal(name));
  for (const SignalId signal : watched) leaping.watch(signal);
  ASSERT_TRUE(leaping.ready_leaps(together));
  for (Plant* plant : {&leaping, &stepping}) plant->close(plant->operable("fault"), 0.0123456);
  int leaps = 0;
  for (int sample = 0; sample < 400; ++sample) {
    if (sample == 150) {
      for (Plant* plant : {&leaping, &stepping}) plant->open(plant->operable("fault"), plant->time_s());
    }
    if (leaping.leap()) {
      ++leaps;
    } else {
      for (int k = 0; k < together; ++k) ASSERT_EQ(leaping.step(), Status::running);
    }
    for (int k = 0; k < together; ++k) ASSERT_EQ(stepping.step(), Status::running);
    for (const SignalId signal : watched) {
      const double a = leaping.value(signal), b = stepping.value(signal);
      ASSERT_NEAR(a, b, 1e-8 * (100 + std::abs(stepping.phasor(signal)))) << sample;
    }
  }
  EXPECT_GT(leaps, 300);
}

INSTANTIATE_TEST_SUITE_P(Seeds, Symmetry, testing::Range(1U, 13U));

}  // namespace
}  // namespace zavrek::emt
