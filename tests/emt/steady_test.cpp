// The steady state that runs start in, where machines and loads make it a matter of rounds.
#include "emt/parts/fixed_point.hpp"

#include <cmath>
#include <numbers>
#include <string>

#include <gtest/gtest.h>

#include "emt/running.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using internal::FixedPoint;

TEST(FixedPoint, SolvesALinearMapInAsManyRoundsAsItHasNumbers) {
  // Eigenvalues up to 0.999: round by round alone this takes 20,000 of them for nine digits.
  const int n = 8;
  Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
  for (int k = 0; k < n; ++k) {
    a(k, k) = 1 - std::pow(10.0, -0.4 * k - 0.2);
    if (k > 0) a(k, k - 1) = 0.1;
  }
  const Eigen::VectorXd b = Eigen::VectorXd::LinSpaced(n, 1, 2);
  const Eigen::VectorXd fixed = internal::solve(Eigen::MatrixXd(Eigen::MatrixXd::Identity(n, n) - a), b);
  FixedPoint rounds(12);
  Eigen::VectorXd z = Eigen::VectorXd::Zero(n);
  for (int round = 0; round < n + 2; ++round) z = rounds.next(z, a * z + b);
  EXPECT_LT((z - fixed).norm(), 1e-8 * fixed.norm());
}

TEST(FixedPoint, FindsTheFixedPointOfCosines) {
  FixedPoint rounds(4);
  Eigen::VectorXd z = Eigen::VectorXd::LinSpaced(3, -1, 2);
  for (int round = 0; round < 12; ++round) z = rounds.next(z, z.array().cos());
  for (int k = 0; k < 3; ++k) EXPECT_NEAR(z[k], 0.7390851332151607, 1e-12);
}

TEST(FixedPoint, LearnsAnewWhenItIsThrownFarAway) {
  FixedPoint rounds(4);
  const auto image = [](const Eigen::VectorXd& z) -> Eigen::VectorXd { return 0.95 * z.array() + 1; };
  Eigen::VectorXd z = Eigen::VectorXd::Zero(2);
  for (int round = 0; round < 3; ++round) z = rounds.next(z, image(z));
  EXPECT_NEAR(z[0], 20, 1e-9);
  z = rounds.next(Eigen::VectorXd::Constant(2, 1e6), image(Eigen::VectorXd::Constant(2, 1e6)));
  EXPECT_NEAR(z[0], 950'001, 1e-6) << "no more than the map itself";
}

/// A row of buses behind a source, a load at each and a small machine at every other.
Network feeder(int buses, double start_voltage, double power_W) {
  Network n;
  n.buses = {{"b0", 11e3}};
  n.elements = {Source{.name = "grid", .bus = "b0", .short_circuit_VA = 150e6}};
  for (int k = 1; k <= buses; ++k) {
    const std::string bus = "b" + std::to_string(k);
    n.buses.push_back({bus, 11e3});
    n.elements.emplace_back(Cable{.name = "c" + std::to_string(k),
                                  .between = {"b" + std::to_string(k - 1), bus},
                                  .length_m = 400,
                                  .r1_ohm_per_m = 1.6e-4,
                                  .x1_ohm_per_m = 1e-4,
                                  .c1_F_per_m = 3.6e-10,
                                  .r0_ohm_per_m = 9e-4,
                                  .x0_ohm_per_m = 3e-4,
                                  .c0_F_per_m = 3.6e-10});
    n.elements.emplace_back(Load{.name = "l" + std::to_string(k),
                                 .bus = bus,
                                 .active_W = 60e3,
                                 .reactive_var = 20e3,
                                 .constant_power = 0.5});
    if (k % 2 == 1) continue;
    n.elements.emplace_back(SynchronousMachine{.name = "g" + std::to_string(k),
                                               .bus = bus,
                                               .rating_VA = 200e3,
                                               .voltage_V = 11e3,
                                               .power_W = power_W,
                                               .start_voltage = start_voltage,
                                               .exciter = "static",
                                               .governor = "steam"});
  }
  return n;
}

class MachinesOnAFeeder : public testing::TestWithParam<int> {};

TEST_P(MachinesOnAFeeder, HoldTheirVoltagesAndPowersAndStayThere) {
  const int buses = GetParam();
  Plant plant = compile(feeder(buses, 1.005, 100e3));
  const double held = 1.005 * 11e3 * std::numbers::sqrt2 / std::numbers::sqrt3;
  for (int k = 2; k <= buses; k += 2) {
    const std::string bus = "b" + std::to_string(k), machine = "g" + std::to_string(k);
    EXPECT_NEAR(std::abs(phasor(plant, bus + ".va")), held, 1e-8 * held) << bus;
    std::complex<double> into = 0;
    for (const char* phase : {"a", "b", "c"})
      into += phasor(plant, bus + ".v" + phase) * std::conj(phasor(plant, machine + ".i" + phase)) / 2.0;
    EXPECT_NEAR(into.real(), -100e3, 1) << machine;
  }
  const std::string last = "b" + std::to_string(buses) + ".va";
  const double omega = 2 * std::numbers::pi * 50;
  for (int k = 0; k < 200; ++k) ASSERT_EQ(plant.step(), Status::running) << plant.culprit();
  const double expected = (phasor(plant, last) * std::polar(1.0, omega * plant.time_s())).real();
  EXPECT_NEAR(value(plant, last), expected, 1e-6 * held);
}

INSTANTIATE_TEST_SUITE_P(Buses, MachinesOnAFeeder, testing::Values(2, 10, 40));

TEST(Steady, NamesTheBusThatGivesInLast) {
  // Many times the short-circuit power of the source.
  Network n = feeder(3, 1, 0);
  std::get<Load>(n.elements[2]).active_W = 4e9;
  std::get<Load>(n.elements[2]).constant_power = 1;
  std::get<Load>(n.elements[2]).least_voltage = 1e-3;
  const std::string message = message_of([&] { (void)compile(n); });
  EXPECT_TRUE(message.starts_with(
      "no steady state found at 50 Hz: the voltages do not settle, least of all that of b"))
      << message;
}

}  // namespace
}  // namespace zavrek::emt
