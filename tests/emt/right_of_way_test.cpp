// Lines beside each other, against the matrix exponential of all conductors and against closed forms.
#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <numbers>
#include <string>
#include <vector>

#include <Eigen/Core>

#include "emt/rights_of_way.hpp"
#include "zavrek/emt/line_constants.hpp"
#include "zavrek/emt/phase_line.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using Complex = std::complex<double>;
using std::numbers::pi;

using test::deviation_from_distributed;
using test::two_lines;
using test::way_of;

TEST(RightOfWay, OfOneTowerIsTheDistributedLineOfSixConductors) {
  const Network n = two_lines(80e3);
  LineGeometry g = n.geometries[0];
  const LineConstants constants = line_constants(g);
  EXPECT_EQ(constants.phases, (std::vector<std::string>{"1.a", "1.b", "1.c", "2.a", "2.b", "2.c"}));
  EXPECT_LT(deviation_from_distributed(n, constants, 80e3, 10e-6), 2e-4);
}

TEST(RightOfWay, FittedInPhasesIsTheDistributedLineAtEachFrequency) {
  for (const double hertz : {50.0, 350.0, 1000.0}) {
    Network n = two_lines(80e3);
    n.frequency_Hz = hertz;
    way_of(n).parameters = "frequency";
    const LineConstants constants = line_constants_at(n.geometries[0], hertz);
    EXPECT_LT(deviation_from_distributed(n, constants, 80e3, 2e-6), 5e-3) << hertz;
  }
}

/// Per metre; three conductors of a transposed line.
Eigen::MatrixXcd transposed(Complex one, Complex zero) {
  Eigen::MatrixXcd z = Eigen::MatrixXcd::Constant(3, 3, (zero - one) / 3.0);
  z.diagonal().setConstant((zero + 2.0 * one) / 3.0);
  return z;
}

Network coupled_in_the_zero_sequence(double length_m) {
  Network n = two_lines(length_m);
  for (int k : {1, 2}) {
    auto& line = std::get<Line>(n.elements[static_cast<std::size_t>(k)]);
    line.r1_ohm_per_m = 0.08e-3, line.x1_ohm_per_m = 0.40e-3, line.c1_F_per_m = 9e-12;
    line.r0_ohm_per_m = 0.25e-3, line.x0_ohm_per_m = 1.20e-3, line.c0_F_per_m = 5e-12;
  }
  way_of(n) = {.name = "w",
               .lines = {"l", "m"},
               .r0m_ohm_per_m = 0.15e-3,
               .x0m_ohm_per_m = 0.7e-3,
               .c0m_F_per_m = 1.5e-12};
  return n;
}

TEST(RightOfWay, CouplesTwoLinesInTheZeroSequenceAlone) {
  Network n = coupled_in_the_zero_sequence(60e3);
  // An unbalanced load, so that there is a zero sequence.
  n.elements.push_back(Branch{.name = "u", .between = {"r.a", "ground"}, .resistance_ohm = 400});
  LineConstants constants;
  constants.phases.resize(6);
  Eigen::MatrixXcd z = Eigen::MatrixXcd::Constant(6, 6, Complex(0.15e-3, 0.7e-3) / 3.0);
  z.topLeftCorner(3, 3) = z.bottomRightCorner(3, 3) = transposed({0.08e-3, 0.40e-3}, {0.25e-3, 1.20e-3});
  Eigen::MatrixXcd c = Eigen::MatrixXcd::Constant(6, 6, -1.5e-12 / 3.0);
  c.topLeftCorner(3, 3) = c.bottomRightCorner(3, 3) = transposed(9e-12, 5e-12);
  for (Eigen::Index k = 0; k < 36; ++k) {
    constants.series_ohm_per_m.push_back(z(k / 6, k % 6));
    constants.capacitance_F_per_m.push_back(c(k / 6, k % 6).real());
  }
  EXPECT_LT(deviation_from_distributed(n, constants, 60e3, 10e-6), 2e-4);
}

TEST(RightOfWay, OfAPartIsWhatLinesAndAWayBetweenBusesOfTheirOwnAre) {
  Network part = coupled_in_the_zero_sequence(100e3);
  std::get<Line>(part.elements[2]).length_m = 60e3;
  way_of(part).from = {"30 km", "10 km"};
  way_of(part).length_m = 40e3;
  Network whole = part;
  for (const char* bus : {"l1", "l2", "m1", "m2"}) whole.buses.push_back({bus, 110e3});
  const Line pattern = std::get<Line>(part.elements[1]);
  const auto piece = [&](const char* name, const char* from, const char* to, double length_m) {
    Line line = pattern;
    line.name = name, line.between = {from, to}, line.length_m = length_m;
    return line;
  };
  whole.elements[1] = piece("la", "s", "l1", 30e3);
  whole.elements[2] = piece("ma", "s", "m1", 10e3);
  way_of(whole) = way_of(part);
  way_of(whole).lines = {"lb", "mb"};
  way_of(whole).from.clear();
  way_of(whole).length_m = unset;
  for (const Line& line : {piece("lb", "l1", "l2", 40e3), piece("lc", "l2", "r", 30e3),
                           piece("mb", "m1", "m2", 40e3), piece("mc", "m2", "q", 10e3)})
    whole.elements.emplace_back(line);
  const Plant a = compile(part, 10e-6), b = compile(whole, 10e-6);
  const auto expect_same = [&](const char* one, const char* other) {
    const Complex x = a.phasor(a.signal(one)), y = b.phasor(b.signal(other));
    EXPECT_LT(std::abs(x - y), 1e-9 * std::abs(y)) << one;
  };
  expect_same("l.ia", "la.ia");
  expect_same("l.ic_far", "lc.ic_far");
  expect_same("m.ib", "ma.ib");
  expect_same("q.va", "q.va");
  EXPECT_EQ(a.summary().states, b.summary().states);
}

TEST(RightOfWay, JoinsPhasesOfTwoCircuitsInAFault) {
  Network n = two_lines(80e3);
  n.faults = {Fault{.name = "f",
                    .on = "l",
                    .at = 0.25,
                    .phases = "A",
                    .resistance_ohm = 2,
                    .with = "m",
                    .with_phases = "B"}};
  Plant plant = compile(n, 10e-6);
  plant.close(plant.operable("f"), 0.02);
  double largest = 0, off = 0, across = 0;
  while (plant.time_s() < 0.06) {
    ASSERT_EQ(plant.step(), Status::running);
    const double here = plant.value(plant.signal("f.ia")), there = plant.value(plant.signal("f.with_ib"));
    largest = std::max(largest, std::abs(here));
    off = std::max(off, std::abs(here + there));
    if (plant.time_s() > 0.021)
      across = std::max(across, std::abs(plant.value(plant.signal("f.va")) - 2 * here));
  }
  EXPECT_GT(largest, 800);
  EXPECT_LT(off, 1e-9 * largest);
  // 2 ohm lie between the two, the second on another line's phase at the same place.
  EXPECT_GT(across, 10e3);
  // On a place of another line that no right of way tells it has to be said where.
  n.faults[0].on = "s";
  n.faults[0].at = unset;
  EXPECT_THROW((void)compile(n, 10e-6), Error);
  n.faults[0].with_at = 0.25;
  EXPECT_NO_THROW((void)compile(n, 10e-6));
  n.faults[0].with.clear();
  EXPECT_THROW((void)compile(n, 10e-6), Error);
  n.faults[0].with_phases.clear();
  EXPECT_THROW((void)compile(n, 10e-6), Error);
}

TEST(RightOfWay, InPhasesConvergesToTheVariableStepSolutionThroughAFault) {
  const Study study = test::track_fault();
  const Series exact = solve_reference(study);
  for (const std::size_t signal : {0, 1}) {
    const double coarse = test::error_beside_fronts(study, exact, signal, 20e-6),
                 fine = test::error_beside_fronts(study, exact, signal, 5e-6);
    EXPECT_LT(fine, 3e-4) << signal;
    EXPECT_GT(coarse / fine, 8) << signal;
  }
}

TEST(RightOfWay, GoesOnWithTheSameBitsWhenSetBackInTheMiddleOfAFault) {
  for (const char* parameters : {"constant", "frequency"}) {
    Network n = test::two_tracks(40e3);
    way_of(n).parameters = parameters;
    n.faults = {Fault{.name = "f", .on = "m", .at = 0.4, .phases = "AG", .resistance_ohm = 3}};
    Plant plant = compile(n, 20e-6);
    const auto go_on = [](Plant& one) {
      std::vector<double> values;
      for (int k = 0; k < 400; ++k) {
        if (k == 20) one.close(one.operable("f"), one.time_s() + 7e-6);
        if (k == 90) one.open(one.operable("f"), one.time_s() + 13e-6);
        EXPECT_EQ(one.step(), Status::running);
        for (const char* signal : {"l.ia", "m.ia_far", "q.va"})
          values.push_back(one.value(one.signal(signal)));
      }
      return values;
    };
    (void)go_on(plant);
    for (int k = 0; k < 30; ++k) ASSERT_EQ(plant.step(), Status::running);
    const PlantState kept = plant.save();
    Plant clone = plant.clone();
    const std::vector<double> first = go_on(plant);
    EXPECT_EQ(go_on(clone), first) << parameters;
    plant.restore(kept);
    EXPECT_EQ(go_on(plant), first) << parameters;
  }
}

TEST(RightOfWay, InPhasesStaysBoundedOnOpenLinesForLong) {
  for (const double step_s : {5e-6, 50e-6}) {
    Network n = two_lines(60e3);
    way_of(n).parameters = "frequency";
    n.elements.resize(4);
    n.start = "zero";
    Plant plant = compile(n, step_s);
    const SignalId far = plant.signal("r.va");
    double early = 0, late = 0;
    while (plant.time_s() < 2) {
      ASSERT_EQ(plant.step(), Status::running);
      double& most = plant.time_s() < 0.02 ? early : late;
      if (plant.time_s() < 0.02 || plant.time_s() > 1.9) most = std::max(most, std::abs(plant.value(far)));
    }
    EXPECT_LT(late, 1.05 * 110e3 * std::sqrt(2.0 / 3)) << step_s;
    EXPECT_GT(early, 1.2 * late) << step_s;
  }
}

TEST(Lines, OfPolesAndOfOneConductorCarryWhatTheirResistanceLetsThrough) {
  Network n;
  n.buses = {{"d", 200e3, "pn"}, {"e", 200e3, "pn"}};
  LineGeometry g;
  g.name = "poles";
  for (const char* pole : {"p", "n"}) {
    g.wires.push_back({.name = pole,
                       .phase = pole,
                       .x_m = *pole == 'p' ? -6.0 : 6.0,
                       .height_m = 25,
                       .resistance_ohm_per_m = 3e-5,
                       .diameter_m = 0.03});
  }
  n.geometries = {g};
  Line line{.name = "l", .between = {"d", "e"}, .length_m = 150e3};
  line.r_matrix_ohm_per_m = {3e-5, 0, 3e-5};
  line.x_matrix_ohm_per_m = {6e-4, 2e-4, 6e-4};
  line.b_matrix_S_per_m = {3e-9, -0.5e-9, 3e-9};
  n.elements = {DcSource{.name = "g", .bus = "d", .voltage_V = 200e3, .resistance_ohm = 1e-3}, line,
                Branch{.name = "z", .between = {"e.p", "e.n"}, .resistance_ohm = 400}};
  const auto far_V = [](const Network& network) {
    Plant plant = compile(network, 20e-6);
    while (plant.time_s() < 0.3) EXPECT_EQ(plant.step(), Status::running);
    return plant.value(plant.signal("e.vp")) - plant.value(plant.signal("e.vn"));
  };
  const double expected = 200e3 * 400 / (400 + 2 * 4.5);
  EXPECT_NEAR(far_V(n), expected, 1e-4 * expected);
  // From its geometry, following the frequency: at standstill the resistance of the wires alone.
  auto& fitted = std::get<Line>(n.elements[1]);
  fitted.r_matrix_ohm_per_m.clear();
  fitted.x_matrix_ohm_per_m.clear();
  fitted.b_matrix_S_per_m.clear();
  fitted.geometry = "poles";
  fitted.parameters = "frequency";
  fitted.fit_in = "phases";
  EXPECT_NEAR(far_V(n), expected, 2e-3 * expected);
}

TEST(Lines, OfScreenedCablesInPhasesAreTheDistributedLine) {
  LineGeometry g;
  g.name = "trench";
  g.earth_resistivity_ohm_m = 80;
  for (int k = 0; k < 3; ++k) {
    g.cores.push_back({.name = std::string(1, static_cast<char>('a' + k)),
                       .phase = std::string(1, static_cast<char>('a' + k)),
                       .x_m = 0.075 * k,
                       .depth_m = 0.9,
                       .core_diameter_m = 18.4e-3,
                       .core_resistance_ohm_per_m = 0.125e-3,
                       .insulation_diameter_m = 29.6e-3,
                       .screen_diameter_m = 30.6e-3,
                       .screen_resistance_ohm_per_m = 0.72e-3,
                       .jacket_diameter_m = 36e-3});
  }
  const PhaseLine fit = fit_line_in_phases(g, {.length_m = 12e3});
  EXPECT_TRUE(fit.passive());
  EXPECT_LT(fit.propagation_error, 1e-4);
  for (const double hertz : {50.0, 500.0}) {
    Network n;
    n.frequency_Hz = hertz;
    n.geometries = {g};
    n.buses = {{"s", 11e3}, {"r", 11e3}};
    Line line{.name = "l", .between = {"s", "r"}, .length_m = 12e3};
    line.geometry = "trench";
    line.parameters = "frequency";
    line.fit_in = "phases";
    n.elements = {Source{.name = "g", .bus = "s"}, line,
                  Branch{.name = "z", .between = {"r.a", "r.b"}, .resistance_ohm = 60},
                  Branch{.name = "y", .between = {"r.c", "ground"}, .resistance_ohm = 90}};
    const Eigen::MatrixXcd exact = test::chain_of(line_constants_at(g, hertz), 2 * pi * hertz, 12e3);
    const Plant plant = compile(n, 2e-6);
    Eigen::VectorXcd near(6), far(6);
    for (int k = 0; k < 3; ++k) {
      const std::string letter(1, static_cast<char>('a' + k));
      near[k] = plant.phasor(plant.signal("s.v" + letter));
      near[3 + k] = plant.phasor(plant.signal("l.i" + letter));
      far[k] = plant.phasor(plant.signal("r.v" + letter));
      far[3 + k] = -plant.phasor(plant.signal("l.i" + letter + "_far"));
    }
    const Eigen::VectorXcd expected = internal::product(exact, Eigen::MatrixXcd(far)).col(0);
    for (int k = 0; k < 6; ++k) {
      const double scale = expected.segment(k < 3 ? 0 : 3, 3).cwiseAbs().maxCoeff();
      EXPECT_LT(std::abs(near[k] - expected[k]), 1e-3 * scale) << hertz << " " << k;
    }
  }
}

TEST(RightOfWay, SaysWhatDoesNotFit) {
  const auto refusal = [](const Network& n) {
    try {
      (void)compile(n, 10e-6);
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  const Network good = two_lines(60e3);
  Network n = coupled_in_the_zero_sequence(60e3);
  way_of(n).lines = {"l"};
  EXPECT_EQ(refusal(n), "right_of_way.w, lines: two lines at least are wanted");
  way_of(n).lines = {"l", "z"};
  EXPECT_EQ(refusal(n), "right_of_way.w, lines: \"z\" is no line");
  way_of(n).lines = {"l", "k"};
  EXPECT_EQ(refusal(n), "right_of_way.w, lines: no element \"k\", did you mean \"g\"?");
  way_of(n).lines = {"l", "l"};
  EXPECT_EQ(refusal(n), "right_of_way.w, lines: \"l\" stands there twice");
  n = good;
  way_of(n).from = {"10 km", "70 km"};
  EXPECT_EQ(refusal(n), "right_of_way.w, from: \"70 km\" does not lie on \"m\", which is 60 km long");
  way_of(n).from = {"10 km", "20 km"};
  way_of(n).length_m = 50e3;
  EXPECT_EQ(refusal(n), "right_of_way.w, length: goes beyond the end of \"m\", of which 40 km are left");
  n = good;
  RightOfWay second = way_of(n);
  second.name = "w2";
  n.elements.emplace_back(second);
  EXPECT_EQ(
      refusal(n),
      "right_of_way.w2, from: \"l\" runs in another right of way there already; describe all lines of a "
      "stretch in one");
  n = good;
  n.geometries[0].wires[0].circuit = 3;
  EXPECT_EQ(refusal(n),
            "right_of_way.w, geometry: \"tower\" has the phases 1.b 1.c 2.a 2.b 2.c 3.a; its buses have 1.a "
            "1.b 1.c 2.a 2.b 2.c");
  n = good;
  way_of(n).geometry.clear();
  EXPECT_EQ(refusal(n).find("line.l, r1: missing"), std::string::npos) << refusal(n);
  n = coupled_in_the_zero_sequence(60e3);
  way_of(n).x0m_ohm_per_m = 2e-3;
  EXPECT_EQ(
      refusal(n),
      "right_of_way.w, x0m: makes no passive line: its matrix is not positive definite; check mutual and "
      "self values");
  way_of(n).length_m = 1e3;
  way_of(n).x0m_ohm_per_m = 0.7e-3;
  EXPECT_EQ(refusal(n), "accepted") << "a pi section, being shorter than a step's travel";
}

}  // namespace
}  // namespace zavrek::emt
