#include <gtest/gtest.h>

#include "emt/circuits.hpp"

namespace zavrek::test {
namespace {

class Reference : public testing::TestWithParam<Circuit> {};

TEST_P(Reference, IsMetWithSecondOrderInTheStep) {
  const Circuit& circuit = GetParam();
  const Deviation coarse = deviation_of(circuit, ZAVREK_TEST_DATA, 100e-6);
  const Deviation fine = deviation_of(circuit, ZAVREK_TEST_DATA, 10e-6);
  EXPECT_LT(fine.rms, 1.5e-4);
  EXPECT_LT(fine.largest, 3e-4);
  // Ten times the step: a hundred times the error, unless nothing is left but the digits of the file.
  if (coarse.rms > 1e-8) {
    EXPECT_GT(std::log10(coarse.rms / fine.rms), 1.9);
    EXPECT_LT(std::log10(coarse.rms / fine.rms), 2.6);
  }
}

std::string name_of(const testing::TestParamInfo<Circuit>& info) {
  return info.param.file.substr(0, info.param.file.find('.')) + std::to_string(info.param.column);
}
INSTANTIATE_TEST_SUITE_P(Circuits, Reference, testing::ValuesIn(reference_circuits()), name_of);

TEST(Line, KeepsSecondOrderWhenTheTravelTimeIsNoWholeNumberOfSteps) {
  // 1.7 ms is 56.67 and 113.33 of these steps; where the wave is smooth, interpolation costs (step)^2.
  const auto late_error = [](double step_s) {
    Circuit circuit = reference_circuits()[3];
    circuit.network.start = "steady";
    emt::Plant plant = emt::compile(circuit.network, step_s);
    const double expected = 1 / std::cos(2 * std::numbers::pi * 50 * 1.7e-3);  // open end over sending end
    return std::abs(plant.phasor(plant.signal("f.va")) - expected);
  };
  EXPECT_NEAR(std::log2(late_error(30e-6) / late_error(15e-6)), 2, 0.5);
}

}  // namespace
}  // namespace zavrek::test
