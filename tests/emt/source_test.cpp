// Sources of voltage and current, and what is measured of them, against closed forms and Kirchhoff's laws.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <string>
#include <vector>

#include "zavrek/emt/flow.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;
using std::numbers::sqrt2;

TEST(StiffSource, GivesWhatAllThatHangsOnItDraws) {
  Network n;
  n.buses = {{"s", 11e3}, {"r", 11e3}};
  Cable cable{.name = "c", .between = {"s", "r"}, .length_m = 3000};
  cable.r1_ohm_per_m = 1e-4, cable.x1_ohm_per_m = 1.2e-4, cable.c1_F_per_m = 3e-10;
  cable.r0_ohm_per_m = 4e-4, cable.x0_ohm_per_m = 3e-4, cable.c0_F_per_m = 2e-10;
  n.elements = {Source{.name = "g", .bus = "s"},
                cable,
                Branch{.name = "b", .between = {"s", "ground"}, .resistance_ohm = 300, .inductance_H = 0.1},
                Branch{.name = "u", .between = {"s.b", "ground"}, .resistance_ohm = 150},
                Load{.name = "p", .bus = "s", .active_W = 1e6, .reactive_var = 3e5, .constant_power = 1},
                Load{.name = "z", .bus = "r", .active_W = 2e6, .connection = "grounded star"},
                Meter{.name = "m", .on = "g", .bus = "s"}};
  n.faults = {Fault{.name = "f", .on = "s", .phases = "AG", .resistance_ohm = 20}};
  Plant plant = compile(n, 20e-6);
  const Flow flow = flow_of(n, plant);
  std::complex<double> sum = 0, given = 0;
  for (const EndFlow& end : flow.ends) {
    if (end.bus != "s") continue;
    sum += end.volt_amperes;
    if (end.element == "g") given = -end.volt_amperes;
  }
  EXPECT_GT(given.real(), 3.5e6);
  // What hangs between two terminals has no row.
  const double unseen = std::pow(11e3 / std::sqrt(3.0), 2) / 150;
  const double open_fault = std::pow(11e3 / std::sqrt(3.0), 2) / 1e9;
  EXPECT_LT(std::abs(sum + unseen + open_fault), 1e-9 * given.real());
  const auto value = [&](const std::string& name) { return plant.value(plant.signal(name)); };
  plant.close(plant.operable("f"), 0.0153);
  double energy = 0, before = value("m.p");
  while (plant.time_s() < 0.04) {
    ASSERT_EQ(plant.step(), Status::running);
    double power = 0;
    for (const std::string phase : {"a", "b", "c"}) {
      double drawn = 0;
      for (const char* element : {"c", "b", "p"}) drawn += value(std::string(element) + ".i" + phase);
      if (phase == "b") drawn += value("u.ia");
      if (phase == "a") drawn += value("f.ia");
      ASSERT_NEAR(value("g.i" + phase), drawn, 1e-6) << phase << " at " << plant.time_s();
      power += value("g.i" + phase) * value("s.v" + phase);
    }
    // Read off between half steps behind the fault, as all is.
    ASSERT_NEAR(value("m.p"), power, 1e-4 * std::abs(power));
    energy += 20e-6 * (before + power) / 2;
    before = power;
  }
  EXPECT_NEAR(value("m.energy"), energy, 2e-4 * energy);
}

TEST(Meter, CountsTheEnergyOfAResistor) {
  Network n;
  n.buses = {{"s", 400, "a"}};
  n.elements = {Source{.name = "g", .bus = "s", .voltage_V = 230},
                Branch{.name = "r", .between = {"s", "ground"}, .resistance_ohm = 10},
                Meter{.name = "m", .on = "r", .bus = "s"}};
  Plant plant = compile(n, 50e-6);
  while (plant.time_s() < 1 - 1e-9) ASSERT_EQ(plant.step(), Status::running);
  EXPECT_NEAR(plant.value(plant.signal("m.energy")), 230 * 230 / 10.0, 1e-6 * 5290);
  const Study study{.network = n, .duration_s = 0.1, .sample_s = 1e-3, .signals = {"m.energy"}};
  EXPECT_NEAR(solve_reference(study).values[0].back(), 529, 1e-3);
  n.elements.back() = Meter{.name = "m", .on = "r", .bus = "t"};
  EXPECT_THROW((void)compile(n), Error);
}

TEST(CurrentSource, DrivesWhatItIsToldThroughAnything) {
  Network n;
  n.buses = {{"s", 1e3}, {"d", 100, "pn"}};
  CurrentSource into{.name = "i", .bus = "s", .current_A = 10, .angle_rad = 0.3};
  into.harmonics = {{5, 0.2}};
  into.magnitude_programme = {{0.05, 1}, {0.06, 2}};
  CurrentSource level{.name = "j", .from = "d.n", .to = "d.p", .current_A = 4, .frequency_Hz = 0};
  n.elements = {into,
                Branch{.name = "r", .between = {"s", "ground"}, .resistance_ohm = 3, .inductance_H = 5e-3},
                level, Branch{.name = "p", .between = {"d.p", "ground"}, .resistance_ohm = 7},
                Branch{.name = "q", .between = {"d.n", "ground"}, .resistance_ohm = 2}};
  Plant plant = compile(n, 20e-6);
  const Flow flow = flow_of(n, plant);
  EXPECT_NEAR(std::abs(flow.buses[0].volts[1]), 10 * std::hypot(3.0, 2 * pi * 50 * 5e-3), 0.05);
  while (plant.time_s() < 0.08) {
    ASSERT_EQ(plant.step(), Status::running);
    const double turn = 2 * pi * 50 * plant.time_s() + 0.3 - 2 * pi / 3;
    const double level_now = 10 * std::clamp(1 + (plant.time_s() - 0.05) / 0.01, 1.0, 2.0);
    ASSERT_NEAR(plant.value(plant.signal("r.ib")),
                level_now * sqrt2 * (std::cos(turn) + 0.2 * std::cos(5 * turn)), 1e-9)
        << plant.time_s();
  }
  EXPECT_NEAR(plant.value(plant.signal("d.vp")), 28, 1e-9);
  EXPECT_NEAR(plant.value(plant.signal("d.vn")), -8, 1e-9);
  // With a way beside the inductance its voltage is that of the continuous equations.
  n.elements.push_back(Branch{.name = "w", .between = {"s", "ground"}, .resistance_ohm = 40});
  const Study study{.network = n, .duration_s = 0.1, .sample_s = 1e-3, .signals = {"s.vc"}};
  const Series exact = solve_reference(study);
  const auto worst = [&](double step_s) {
    const Series fixed = simulate(study, step_s);
    double off = 0;
    for (std::size_t k = 0; k < exact.time_s.size(); ++k)
      if (std::abs(exact.time_s[k] - 0.05) > 1e-4 && std::abs(exact.time_s[k] - 0.06) > 1e-4)
        off = std::max(off, std::abs(fixed.values[0][k] - exact.values[0][k]));
    return off;
  };
  EXPECT_LT(worst(10e-6), 0.02);
  EXPECT_GT(worst(40e-6) / worst(10e-6), 10);
  n.elements[0] = CurrentSource{.name = "i", .bus = "s", .from = "d.p", .current_A = 1};
  EXPECT_THROW((void)compile(n), Error);
}

TEST(Noise, HasItsDeviationAndBandwidthAndIsTheSameForTheSameSeed) {
  Network n;
  n.buses = {{"s", 400}, {"t", 400}};
  Source noisy{.name = "g", .bus = "s"};
  noisy.noise = 0.02;
  noisy.noise_bandwidth_Hz = 1000;
  Source other = noisy;
  other.name = "h", other.bus = "t", other.noise_seed = 2;
  n.elements = {noisy, other, Branch{.name = "r", .between = {"s", "t"}, .resistance_ohm = 3}};
  Plant plant = compile(n, 50e-6), again = compile(n, 50e-6);
  const double rms = 400 / std::sqrt(3.0);
  double squares = 0, between_phases = 0, between_seeds = 0, low = 0;
  int count = 0;
  std::vector<double> kept;
  while (plant.time_s() < 4) {
    ASSERT_EQ(plant.step(), Status::running);
    ASSERT_EQ(again.step(), Status::running);
    const auto off = [&](const Plant& p, const char* signal, double turn) {
      return p.value(p.signal(signal)) - sqrt2 * rms * std::cos(2 * pi * 50 * p.time_s() - turn);
    };
    const double a = off(plant, "s.va", 0), b = off(plant, "s.vb", 2 * pi / 3), c = off(plant, "t.va", 0);
    ASSERT_EQ(a, off(again, "s.va", 0));
    squares += a * a;
    between_phases += a * b;
    between_seeds += a * c;
    kept.push_back(a);
    ++count;
  }
  const double deviation = std::sqrt(squares / count);
  EXPECT_NEAR(deviation / rms, 0.02, 0.0006);
  EXPECT_LT(std::abs(between_phases / squares), 0.05);
  EXPECT_LT(std::abs(between_seeds / squares), 0.05);
  // Mean power of bands of 100 Hz, about 300 Hz and about 3300 Hz.
  for (const double centre : {300.0, 3300.0}) {
    double power = 0;
    for (double f = centre - 50; f < centre + 50; f += 5) {
      std::complex<double> sum = 0;
      for (std::size_t k = 0; k < kept.size(); ++k)
        sum += kept[k] * std::polar(1.0, -2 * pi * f * 50e-6 * static_cast<double>(k));
      power += std::norm(sum);
    }
    if (centre > 1000) {
      EXPECT_LT(power, 0.02 * low);
    }
    low = power;
  }
}

TEST(Source, FollowsProgrammesOfEachPhase) {
  Network n;
  n.buses = {{"s", 11e3}};
  Source source{.name = "g", .bus = "s"};
  source.magnitude_b = {{0.04, 1}, {0.04, 0.5}, {0.06, 0.5}, {0.08, 1}};
  source.angle_c = {{0.05, 0}, {0.05, 0.4}};
  n.elements = {source,
                Branch{.name = "r", .between = {"s", "ground"}, .resistance_ohm = 30, .inductance_H = 0.1}};
  Plant plant = compile(n, 20e-6);
  const double peak = 11e3 * std::sqrt(2.0 / 3);
  while (plant.time_s() < 0.1) {
    ASSERT_EQ(plant.step(), Status::running);
    const double t = plant.time_s(), turn = 2 * pi * 50 * t;
    const double dip = t < 0.04 + 1e-9 ? 1 : t < 0.06 ? 0.5 : t < 0.08 ? 0.5 + (t - 0.06) / 0.02 * 0.5 : 1;
    ASSERT_NEAR(plant.value(plant.signal("s.va")), peak * std::cos(turn), 1e-6 * peak);
    ASSERT_NEAR(plant.value(plant.signal("s.vb")), dip * peak * std::cos(turn - 2 * pi / 3), 1e-6 * peak);
    ASSERT_NEAR(plant.value(plant.signal("s.vc")),
                peak * std::cos(turn + 2 * pi / 3 + (t < 0.05 + 1e-9 ? 0 : 0.4)), 1e-6 * peak);
  }
  EXPECT_GE(plant.discontinuities(), 4);
}

TEST(DcSource, StandsBetweenAnyPoles) {
  Network n;
  n.buses = {{"d", 800, "pnm"}};
  n.elements = {DcSource{.name = "u", .plus = "d.p", .minus = "d.m", .voltage_V = 400, .resistance_ohm = 0.1},
                DcSource{.name = "l", .plus = "d.m", .minus = "d.n", .voltage_V = 380, .resistance_ohm = 0.1},
                Branch{.name = "e", .between = {"d.m", "ground"}, .resistance_ohm = 1},
                Branch{.name = "r", .between = {"d.p", "d.n"}, .resistance_ohm = 77.8}};
  Plant plant = compile(n, 50e-6);
  for (int k = 0; k < 3; ++k) ASSERT_EQ(plant.step(), Status::running);
  EXPECT_NEAR(plant.value(plant.signal("u.i")), 10, 1e-6);
  EXPECT_NEAR(plant.value(plant.signal("d.vp")), 399, 1e-6);
  EXPECT_NEAR(plant.value(plant.signal("d.vn")), -379, 1e-6);
  n.elements[0] = DcSource{.name = "u", .bus = "d", .plus = "d.p", .minus = "d.m", .voltage_V = 1};
  EXPECT_THROW((void)compile(n), Error);
  n.elements[0] = DcSource{.name = "u", .plus = "d.p", .voltage_V = 1};
  EXPECT_THROW((void)compile(n), Error);
}

}  // namespace
}  // namespace zavrek::emt
