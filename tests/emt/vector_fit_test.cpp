#include "zavrek/emt/vector_fit.hpp"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "emt/circuits.hpp"
#include "zavrek/emt/frequency_line.hpp"

namespace zavrek::emt {
namespace {

using Complex = std::complex<double>;

std::vector<double> frequencies(double from, double to, int count) {
  std::vector<double> omega;
  for (int k = 0; k < count; ++k)
    omega.push_back(2 * std::numbers::pi * from * std::pow(to / from, k / (count - 1.0)));
  return omega;
}

TEST(VectorFit, FindsTheVeryPolesOfARationalFunction) {
  const std::vector<double> omega = frequencies(1, 1e4, 200);
  const auto exact = [](Complex s) {
    return 3.0 + 500.0 / (s + 40.0) + Complex(2e3, 1e3) / (s - Complex(-300, 9000)) +
           Complex(2e3, -1e3) / (s - Complex(-300, -9000));
  };
  std::vector<Complex> f;
  for (const double w : omega) f.push_back(exact(Complex(0, w)));
  const RationalFit fit = vector_fit(omega, f, {.poles = 3});
  EXPECT_LT(fit.error, 1e-8);
  EXPECT_NEAR(fit.constant, 3, 1e-6);
  bool real = false, pair = false;
  for (const Complex p : fit.poles) {
    real = real || std::abs(p - Complex(-40, 0)) < 1e-3;
    pair = pair || std::abs(p - Complex(-300, 9000)) < 1e-2;
  }
  EXPECT_TRUE(real);
  EXPECT_TRUE(pair);
}

TEST(VectorFit, KeepsItsPolesInTheLeftHalfPlane) {
  const std::vector<double> omega = frequencies(1, 1e5, 150);
  std::vector<Complex> f;
  for (const double w : omega) f.push_back(std::sqrt(Complex(1, w / 100)));
  const RationalFit fit = vector_fit(omega, f, {.poles = 10, .relative = true});
  EXPECT_LT(fit.error, 1e-3);
  for (const Complex p : fit.poles) EXPECT_LT(p.real(), 0);
  EXPECT_THROW((void)vector_fit({1, 2}, {1, 2}, {.poles = 10}), Error);
}

TEST(FrequencyLine, FitsAdmittanceAndPropagationPassively) {
  const FrequencyLine line = fit_line(test::four_wires(), {.length_m = 60e3});
  ASSERT_EQ(line.modes.size(), 3U);
  for (const FittedMode& mode : line.modes) {
    EXPECT_LT(mode.admittance.error, 0.01);
    EXPECT_LT(mode.propagation.error, 0.015);
    // Not faster than light, not much slower.
    EXPECT_GT(mode.delay_s, 0.999 * 60e3 / 299792458.0);
    EXPECT_LT(mode.delay_s, 1.6 * 60e3 / 299792458.0);
  }
  EXPECT_TRUE(line.passive());
}

}  // namespace
}  // namespace zavrek::emt
