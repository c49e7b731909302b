#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <numbers>

#include <Eigen/Core>

#include "emt/circuits.hpp"
#include "emt/distributed_line.hpp"
#include "emt/solve/dense.hpp"
#include "zavrek/emt/frequency_line.hpp"
#include "zavrek/emt/line_constants.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

LineGeometry flat() {
  LineGeometry g;
  g.name = "tower";
  g.earth_resistivity_ohm_m = 200;
  const char* names[] = {"a", "b", "c"};
  for (int k = 0; k < 3; ++k) {
    g.wires.push_back({.name = names[k],
                       .phase = names[k],
                       .x_m = 6.0 * (k - 1),
                       .height_m = 16,
                       .resistance_ohm_per_m = 6e-5,
                       .diameter_m = 0.028});
  }
  return g;
}

Network corridor(const char* parameters, double length_m, double load_W) {
  Network n;
  n.geometries = {flat()};
  n.buses = {{"s", 110e3}, {"r", 110e3}};
  Line line{.name = "l", .between = {"s", "r"}, .length_m = length_m};
  line.geometry = "tower";
  line.parameters = parameters;
  n.elements = {Source{.name = "g", .bus = "s"}, line,
                Load{.name = "z", .bus = "r", .active_W = load_W, .connection = "grounded star"}};
  return n;
}

TEST(UntransposedLine, AgreesWithManyPiSectionsOfTheSameGeometry) {
  Network waves = corridor("constant", 60e3, 20e6), sections = waves;
  Cable chain{.name = "l", .between = {"s", "r"}, .length_m = 60e3};
  chain.geometry = "tower";
  chain.sections = 60;
  sections.elements[1] = chain;
  const Plant a = compile(waves, 10e-6), b = compile(sections, 10e-6);
  for (const char* signal : {"r.va", "r.vb", "r.vc", "l.ia", "l.ib", "l.ic"}) {
    const auto x = a.phasor(a.signal(signal)), y = b.phasor(b.signal(signal));
    EXPECT_LT(std::abs(x - y), 2e-3 * std::abs(y)) << signal;
  }
  EXPECT_GT(std::abs(a.phasor(a.signal("r.vb"))) - std::abs(a.phasor(a.signal("r.va"))),
            1);  // the middle differs
}

TEST(UntransposedLine, MeetsTheDistributedLineWithAllOfItsResistance) {
  // Earth of poor conductivity and thin wires: the resistance in modes is far from diagonal.
  Network n = corridor("constant", 100e3, 60e6);
  n.geometries[0].earth_resistivity_ohm_m = 2000;
  for (auto& wire : n.geometries[0].wires) wire.resistance_ohm_per_m = 2e-4;
  LineGeometry geometry = n.geometries[0];
  geometry.frequency_Hz = 50;
  const Eigen::MatrixXcd exact = test::chain_of(line_constants(geometry), 2 * pi * 50, 100e3);
  const Plant plant = compile(n, 10e-6);
  Eigen::VectorXcd far(6), near(6);
  for (int k = 0; k < 3; ++k) {
    const std::string letter(1, static_cast<char>('a' + k));
    far[k] = plant.phasor(plant.signal("r.v" + letter));
    far[3 + k] = -plant.phasor(plant.signal("l.i" + letter + "_far"));
    near[k] = plant.phasor(plant.signal("s.v" + letter));
    near[3 + k] = plant.phasor(plant.signal("l.i" + letter));
  }
  const Eigen::VectorXcd expected = internal::product(exact, Eigen::MatrixXcd(far)).col(0);
  double losses = 0, expected_losses = 0;
  for (int k = 0; k < 3; ++k) {
    EXPECT_LT(std::abs(near[k] - expected[k]), 1e-4 * std::abs(expected[k])) << k;
    EXPECT_LT(std::abs(near[3 + k] - expected[3 + k]), 5e-5 * std::abs(expected[3 + k])) << k;
    const double out = (far[k] * std::conj(far[3 + k])).real();
    losses += (near[k] * std::conj(near[3 + k])).real() - out;
    expected_losses += (expected[k] * std::conj(expected[3 + k])).real() - out;
  }
  EXPECT_NEAR(losses, expected_losses, 1e-3 * expected_losses);
}

TEST(UntransposedLine, StaysInItsSteadyStateAndIsThatOfTheReferenceThroughAFault) {
  Network n = corridor("constant", 60e3, 20e6);
  std::get<Source>(n.elements[0]).short_circuit_VA = 2e9;
  n.faults = {Fault{.name = "f", .on = "r", .phases = "AG", .resistance_ohm = 5}};
  const Study study{.network = n,
                    .commands = {{0.0021, "f", true}},
                    .duration_s = 0.005,
                    .sample_s = 1e-4,
                    .signals = {"l.ia"}};
  const Series exact = solve_reference(study, 1e-7);
  const auto error = [&](double step_s) {
    const Series fixed = simulate(study, step_s);
    double squares = 0, peak = 0, before = 0;
    for (std::size_t k = 0; k < exact.time_s.size(); ++k) {
      const double off = std::abs(fixed.values[0][k] - exact.values[0][k]);
      squares += off * off;
      peak = std::max(peak, std::abs(exact.values[0][k]));
      if (exact.time_s[k] < 0.002) before = std::max(before, off);
    }
    EXPECT_LT(before, 2e-3 * peak) << step_s;
    return std::sqrt(squares / static_cast<double>(exact.time_s.size())) / peak;
  };
  EXPECT_LT(error(2e-6), 1e-3);
  EXPECT_GT(error(20e-6) / error(2e-6), 5);
}

TEST(FrequencyLine, StaysInItsSteadyState) {
  Plant plant = compile(corridor("frequency", 60e3, 20e6));
  const auto phasor = plant.phasor(plant.signal("r.va"));
  double worst = 0;
  for (int k = 0; k < 4000; ++k) {
    ASSERT_EQ(plant.step(), Status::running);
    const double expected = (phasor * std::polar(1.0, 2 * pi * 50 * plant.time_s())).real();
    worst = std::max(worst, std::abs(plant.value(plant.signal("r.va")) - expected));
  }
  EXPECT_LT(worst, 1e-6 * std::abs(phasor));
  EXPECT_EQ(plant.summary().partitions, compile(corridor("constant", 60e3, 20e6)).summary().partitions);
}

TEST(FrequencyLine, AgreesWithConstantParametersAtTheFrequencyOfTheNetwork) {
  const Plant fitted = compile(corridor("frequency", 60e3, 20e6)),
              constant = compile(corridor("constant", 60e3, 20e6));
  for (const char* signal : {"r.va", "r.vb", "l.ia"}) {
    const auto x = fitted.phasor(fitted.signal(signal)), y = constant.phasor(constant.signal(signal));
    EXPECT_LT(std::abs(x - y), 0.01 * std::abs(y)) << signal;
  }
}

TEST(FrequencyLine, MeetsTheExactAnswerAtEachFrequency) {
  // A stiff source of frequency f feeds the open line: V_r/V_s of the modes, 1/cosh(gamma l), put together.
  for (const double hertz : {50.0, 650.0, 2000.0}) {
    Network n = corridor("frequency", 40e3, 1);
    n.frequency_Hz = hertz;
    const Plant plant = compile(n, 2e-6);
    const FrequencyLine line = fit_line(flat(), {.length_m = 40e3});
    std::complex<double> expected = 0;
    const std::complex<double> a = std::polar(1.0, 2 * pi / 3);
    const std::complex<double> v[] = {1.0, a * a, a};
    for (int m = 0; m < 3; ++m) {
      const auto& mode = line.modes[static_cast<std::size_t>(m)];
      const std::complex<double> s(0, 2 * pi * hertz);
      const auto h = mode.propagation(s) * std::exp(-s * mode.delay_s);
      std::complex<double> vm = 0;
      for (int k = 0; k < 3; ++k) vm += line.currents[static_cast<std::size_t>(3 * k + m)] * v[k];
      expected += line.voltages[static_cast<std::size_t>(m)] * 2.0 * h / (1.0 + h * h) * vm;
    }
    const auto ratio = plant.phasor(plant.signal("r.va")) / plant.phasor(plant.signal("s.va"));
    EXPECT_LT(std::abs(ratio - expected), 2e-3 * std::abs(expected)) << hertz;
  }
}

/// The rms of the difference to the variable-step solution over its peak, at the far end of a line that a
/// fault strikes.
double reference_error(const Study& study, const Series& exact, double step_s) {
  const Series fixed = simulate(study, step_s);
  double squares = 0, peak = 0;
  for (std::size_t k = 0; k < exact.time_s.size(); ++k) {
    squares += std::pow(fixed.values[0][k] - exact.values[0][k], 2);
    peak = std::max(peak, std::abs(exact.values[0][k]));
  }
  return std::sqrt(squares / static_cast<double>(exact.time_s.size())) / peak;
}

TEST(FrequencyLine, ConvergesToTheVariableStepSolutionThroughAFault) {
  Network n = corridor("frequency", 60e3, 20e6);
  std::get<Source>(n.elements[0]).short_circuit_VA = 2e9;
  n.faults = {Fault{.name = "f", .on = "r", .phases = "AG", .resistance_ohm = 5}};
  const Study study{.network = n,
                    .commands = {{0.0101, "f", true}},
                    .duration_s = 0.016,
                    .sample_s = 1e-4,
                    .signals = {"l.ia", "r.vb"}};
  const Series exact = solve_reference(study);
  // In its steady state the line is the plant's own to the plant's step.
  EXPECT_NEAR(exact.values[0][50], simulate(study, 5e-6).values[0][50],
              1e-4 * std::abs(exact.values[0][50]) + 1);
  // What jumps at one end is spread over a step on its way: first order.
  const double coarse = reference_error(study, exact, 20e-6), fine = reference_error(study, exact, 5e-6);
  EXPECT_LT(fine, 2e-3);
  EXPECT_GT(coarse / fine, 3);
}

TEST(FrequencyLine, DampsTheWavesOfAnEnergisationMoreThanConstantParameters) {
  const auto ripple = [](const char* parameters) {
    Network n = corridor(parameters, 60e3, 1);
    n.start = "zero";
    Plant plant = compile(n, 10e-6);
    double most = 0;
    while (plant.time_s() < 0.08) {
      EXPECT_EQ(plant.step(), Status::running);
      if (plant.time_s() > 0.06) most = std::max(most, std::abs(plant.value(plant.signal("r.va"))));
    }
    return most / (110e3 * std::sqrt(2.0 / 3));
  };
  const double constant = ripple("constant"), follows = ripple("frequency");
  EXPECT_LT(follows, constant);
  EXPECT_LT(follows, 1.25);
}

TEST(LineErrors, NameTheFieldAndTheCure) {
  const auto refusal = [](const Network& n) {
    try {
      (void)compile(n);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  Network n = corridor("constant", 60e3, 1e6);
  std::get<Line>(n.elements[1]).geometry = "towr";
  EXPECT_EQ(refusal(n), "line.l, geometry: no geometry \"towr\", did you mean \"tower\"?");
  std::get<Line>(n.elements[1]).geometry.clear();
  std::get<Line>(n.elements[1]).r_matrix_ohm_per_m = {1, 2};
  std::get<Line>(n.elements[1]).x_matrix_ohm_per_m = {1, 2};
  EXPECT_EQ(refusal(n), "line.l, r_matrix: has 2 numbers; the lower triangle for 3 phases has 6");
  std::get<Line>(n.elements[1]).r_matrix_ohm_per_m = {1, 0, 1, 0, 0, 1};
  std::get<Line>(n.elements[1]).x_matrix_ohm_per_m = {1, 2, 1, 0, 0, 1};
  EXPECT_EQ(refusal(n),
            "line.l, x_matrix: makes no passive line: its matrix is not positive definite; check mutual and "
            "self values");
}

TEST(CableConstants, OfOneCableFollowTheClosedForms) {
  LineGeometry g;
  g.cores = {{.name = "a",
              .phase = "a",
              .x_m = 0,
              .depth_m = 1,
              .core_diameter_m = 0.02,
              .core_resistance_ohm_per_m = 1e-4,
              .insulation_diameter_m = 0.04,
              .permittivity = 2.4,
              .screen_diameter_m = 0.042,
              .screen_resistance_ohm_per_m = 8e-4,
              .jacket_diameter_m = 0.048}};
  const LineConstants c = line_constants(g);
  EXPECT_NEAR(c.capacitance_F_per_m[0], 2 * pi * 8.8541878128e-12 * 2.4 / std::log(2.0), 1e-16);
  // Screen earthed at one end carries nothing: the loop core-earth. Resistance: that of the core (skin effect
  // small at 50 Hz) and of the earth, w mu0/8; inductance from the core's GMR to the equivalent depth of the
  // return.
  g.bonding = "one end";
  const LineConstants open = line_constants(g);
  const double omega = 2 * pi * 50;
  EXPECT_NEAR(open.series_ohm_per_m[0].real(), 1e-4 + omega * 4e-7 * pi / 8, 4e-6);
  const double depth = 658.87 * std::sqrt(100.0 / 50), gmr = 0.01 * std::exp(-0.25);
  EXPECT_NEAR(open.series_ohm_per_m[0].imag(), omega * 2e-7 * std::log(depth / gmr),
              0.01 * omega * 2e-7 * 12);
  // Earthed at both ends the screen takes the return over: less reactance, more resistance.
  EXPECT_LT(c.series_ohm_per_m[0].imag(), 0.75 * open.series_ohm_per_m[0].imag());
  EXPECT_GT(c.series_ohm_per_m[0].real(), open.series_ohm_per_m[0].real());
}

TEST(CableConstants, CrossBondingTakesTheScreensOutOfThePositiveSequence) {
  LineGeometry g;
  const char* names[] = {"a", "b", "c"};
  for (int k = 0; k < 3; ++k) {
    g.cores.push_back({.name = names[k],
                       .phase = names[k],
                       .x_m = 0.2 * k,
                       .depth_m = 1,
                       .core_diameter_m = 0.02,
                       .core_resistance_ohm_per_m = 1e-4,
                       .insulation_diameter_m = 0.04,
                       .permittivity = 2.4,
                       .screen_diameter_m = 0.042,
                       .screen_resistance_ohm_per_m = 3e-4,
                       .jacket_diameter_m = 0.048});
  }
  const LineConstants both = line_constants(g);
  g.bonding = "cross-bonded";
  const LineConstants crossed = line_constants(g);
  g.bonding = "one end";
  const LineConstants open = line_constants(g);
  EXPECT_NEAR(std::abs(crossed.z1_ohm_per_m / open.z1_ohm_per_m), 1, 0.01);
  EXPECT_GT(both.z1_ohm_per_m.real(), 1.1 * crossed.z1_ohm_per_m.real());
  // The zero sequence returns through the screens either way.
  EXPECT_NEAR(std::abs(crossed.z0_ohm_per_m / both.z0_ohm_per_m), 1, 0.02);
  EXPECT_LT(std::abs(crossed.z0_ohm_per_m), 0.7 * std::abs(open.z0_ohm_per_m));
}

}  // namespace
}  // namespace zavrek::emt
