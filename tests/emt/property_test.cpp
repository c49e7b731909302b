// What must hold for every network: tried on random ones, from fixed seeds.
#include <gtest/gtest.h>
#include <cmath>

#include "emt/random_network.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;

class Property : public testing::TestWithParam<unsigned> {};

/// By the trapezoidal rule, power from the means over a step balances to the last digits:
/// sum of v i h at the source = sum of R i^2 h + change of L i^2/2 + C u^2/2.
TEST_P(Property, EnergyFromTheSourceIsLostOrStored) {
  const RandomNetwork r = random_network(GetParam());
  Plant plant = compile(r.network, 20e-6);
  for (int k = 0; k < 5; ++k) ASSERT_EQ(plant.step(), Status::running);  // behind the half steps of the start
  struct Watched {
    SignalId i, u;
    const Branch* branch;
    bool at_source, reversed;
  };
  std::vector<Watched> all;
  for (const Branch& b : r.branches) {
    const bool capacitive = is_set(b.capacitance_F);
    all.push_back({plant.signal(b.name + ".ia"), capacitive ? plant.signal(b.name + ".vca") : SignalId{}, &b,
                   b.between[0] == "b0" || b.between[1] == "b0", b.between[1] == "b0"});
  }
  const SignalId source = plant.signal("b0.va");
  const auto stored = [&] {
    double sum = 0;
    for (const Watched& w : all) {
      sum += 0.5 * w.branch->inductance_H * std::pow(plant.value(w.i), 2);
      if (w.u.index >= 0) sum += 0.5 * w.branch->capacitance_F * std::pow(plant.value(w.u), 2);
    }
    return sum;
  };
  const double at_first = stored();
  double delivered = 0, lost = 0;
  std::vector<double> before(all.size());
  for (int k = 0; k < 4000; ++k) {
    const double v0 = plant.value(source);
    for (std::size_t m = 0; m < all.size(); ++m) before[m] = plant.value(all[m].i);
    ASSERT_EQ(plant.step(), Status::running);
    const double v = (v0 + plant.value(source)) / 2;
    for (std::size_t m = 0; m < all.size(); ++m) {
      const double i = (before[m] + plant.value(all[m].i)) / 2;
      lost += all[m].branch->resistance_ohm * i * i * plant.step_s();
      if (all[m].at_source) delivered += (all[m].reversed ? -1 : 1) * v * i * plant.step_s();
    }
  }
  EXPECT_GT(lost, 0);
  EXPECT_NEAR(delivered, lost + stored() - at_first, 1e-9 * lost);
}

/// Halving the step divides the error by four.
TEST_P(Property, ErrorsFallWithTheSquareOfTheStep) {
  const RandomNetwork r = random_network(GetParam());
  Study study{.network = r.network, .duration_s = 0.02, .sample_s = 1e-3, .signals = {}};
  for (const Branch& b : r.branches) study.signals.push_back(b.name + ".ia");
  const auto difference = [&](const Series& a, const Series& b) {
    double sum = 0;
    for (std::size_t s = 0; s < a.values.size(); ++s) {
      for (std::size_t k = 0; k < a.time_s.size(); ++k) sum += std::pow(a.values[s][k] - b.values[s][k], 2);
    }
    return std::sqrt(sum);
  };
  const Series coarse = simulate(study, 20e-6), middle = simulate(study, 10e-6), fine = simulate(study, 5e-6);
  EXPECT_NEAR(std::log2(difference(coarse, middle) / difference(middle, fine)), 2, 0.15);
}

/// A step has no memory of how it is asked for: the same input gives the same bits.
TEST_P(Property, SameInputGivesTheSameBits) {
  const RandomNetwork r = random_network(GetParam());
  Study study{.network = r.network, .duration_s = 0.01, .sample_s = 1e-4, .signals = {}};
  EXPECT_EQ(simulate(study, 20e-6).values, simulate(study, 20e-6).values);
}

INSTANTIATE_TEST_SUITE_P(Seeds, Property, testing::Range(1U, 25U));

TEST(CapacitorLoop, IsRefusedByName) {
  Network n;
  n.buses = {{"bar", 20e3}};
  n.elements = {Source{.name = "g", .bus = "bar"},
                Capacitor{.name = "c", .bus = "bar", .reactive_var = 1e6, .connection = "grounded star"}};
  try {
    (void)compile(n);
    FAIL();
  } catch (const Error& error) {
    EXPECT_STREQ(error.what(),
                 "capacitor.c, bus: closes a loop of capacitors and stiff sources; give the source a "
                 "short_circuit or put "
                 "a branch in between");
  }
}

}  // namespace
}  // namespace zavrek::emt
