// Valves and bridges against closed forms and exact solutions.
#include <array>
#include <cmath>
#include <complex>
#include <functional>
#include <numbers>

#include <gtest/gtest.h>

#include "emt/converters.hpp"
#include "emt/running.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using namespace network;
using std::numbers::pi;

using test::diode_rl, test::EdgeFeeder, test::h_bridge, test::rms_error;
const std::string data = ZAVREK_TEST_DATA;

TEST(Diode, FollowsTheExactCurrentOfARectifiedInductiveLoad) {
  const auto reference = test::read_reference(data + "/diode_rl.csv", 1);
  for (const auto& [step, bound] : {std::pair{50e-6, 4e-4}, {25e-6, 2e-4}, {10e-6, 8e-5}}) {
    Plant plant = compile(diode_rl(), step);
    EXPECT_LT(rms_error(plant, "z.ia", reference, [](Plant&) {}), bound) << step;
    EXPECT_EQ(plant.steps_at_event_limit(), 0);
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

TEST(Bridge, KeepsGateEdgesInsideTheStep) {
  const auto reference = test::read_reference(data + "/bridge_pwm.csv", 1);
  for (const auto& [step, bound] : {std::pair{20e-6, 1e-3}, {10e-6, 3e-4}, {5e-6, 1e-4}, {1e-6, 1e-5}}) {
    Plant plant = compile(h_bridge(), step);
    EdgeFeeder feed(plant, data);
    const double error = rms_error(plant, "z.ia", reference, feed);
    EXPECT_LT(error, bound) << step;
    EXPECT_EQ(plant.steps_at_event_limit(), 0);
  }
}

TEST(Bridge, NeverShortsALegAndItsDiodesCarryOnWhenAllGatesAreOff) {
  Plant plant = compile(h_bridge(), 5e-6);
  EdgeFeeder feed(plant, data);
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

TEST(Reference, FollowsADiodeAsTheExactCurrentDoes) {
  Study study;
  study.network = diode_rl();
  study.signals = {"z.ia"};
  const auto exact = test::read_reference(data + "/diode_rl.csv", 1);
  study.sample_s = exact.time_s[1] - exact.time_s[0];
  study.duration_s = exact.time_s.back();
  const Series series = solve_reference(study, 1e-9);
  double worst = 0, peak = 0;
  for (std::size_t k = 0; k < std::min(exact.time_s.size(), series.time_s.size()); ++k) {
    worst = std::max(worst, std::abs(series.values[0][k] - exact.value[k]));
    peak = std::max(peak, std::abs(exact.value[k]));
  }
  EXPECT_LT(worst, 2e-5 * peak);
}

TEST(Reference, FollowsABridgeItsDiodesAndItsControl) {
  // Edges every half millisecond with a dead time, which the diodes bridge, and a breakdown of the gates.
  Study study;
  study.network = h_bridge();
  std::get<Bridge>(study.network.elements[2]).on_resistance_ohm = 2e-3;
  std::get<DcSource>(study.network.elements[0]).resistance_ohm = 5e-3;
  study.signals = {"z.ia"};
  study.duration_s = 8e-3;
  study.drive_period_s = 0.5e-3;
  study.drive = [network = study.network]() -> std::function<void(ControlledPlant&)> {
    const Plant names = compile(network);
    const std::array gates{names.gate("h.a_upper"), names.gate("h.b_lower"), names.gate("h.a_lower"),
                           names.gate("h.b_upper")};
    return [gates](ControlledPlant& plant) {
      const auto period = std::llround(plant.time_s() / 0.5e-3);
      const bool plus = period % 3 != 2, off = period >= 12;
      for (std::size_t k = 0; k < 4; ++k) plant.fire(gates[k], false, plant.time_s() + 13e-6);
      for (std::size_t k = 0; k < 4 && !off; ++k)
        plant.fire(gates[k], (k < 2) == plus, plant.time_s() + 19e-6);
    };
  };
  const Series exact = solve_reference(study, 1e-8), fixed = simulate(study, 2e-6);
  ASSERT_EQ(exact.values[0].size(), fixed.values[0].size());
  double worst = 0, peak = 0;
  for (std::size_t k = 0; k < exact.values[0].size(); ++k) {
    worst = std::max(worst, std::abs(exact.values[0][k] - fixed.values[0][k]));
    peak = std::max(peak, std::abs(exact.values[0][k]));
  }
  EXPECT_GT(peak, 100);
  EXPECT_LT(worst, 2e-4 * peak);
}

TEST(Bridge, BalancesItsPower) {
  Network n = h_bridge();
  std::get<Bridge>(n.elements[2]).on_resistance_ohm = 20e-3;
  std::get<Bridge>(n.elements[2]).drop_V = 1.5;
  Plant plant = compile(n, 1e-6);
  EdgeFeeder feed(plant, data);
  double given = 0, load = 0, lost = 0;
  while (plant.time_s() < 0.04) {
    feed(plant);
    ASSERT_EQ(plant.step(), Status::running);
    if (plant.time_s() <= 0.02) continue;  // the first cycle charges the inductor
    const double i = value(plant, "z.ia");
    given += 800 * value(plant, "e.i") * 1e-6;
    load += 1.2 * i * i * 1e-6;
    for (const char* valve : {"a_upper", "a_lower", "b_upper", "b_lower"}) {
      const double through = value(plant, std::string("h.") + valve + ".i");
      if (value(plant, std::string("h.") + valve + ".on") > 0)
        lost += (20e-3 * through * through + 1.5 * std::abs(through)) * 1e-6;
    }
  }
  EXPECT_GT(lost, 0.01 * given);
  EXPECT_NEAR(given, load + lost, 5e-3 * given);
}

/// A six-pulse bridge of diodes or thyristors onto a load that smooths its current.
Network six_pulse(const std::string& device) {
  Network n;
  n.buses = {{"grid", 400}, {"dc", 540, "pn"}};
  n.elements = {Source{.name = "source", .bus = "grid"},
                Bridge{.name = "r", .dc = "dc", .ac = "grid", .device = device, .on_resistance_ohm = 1e-4},
                Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 5, .inductance_H = 1},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e6}};
  return n;
}

/// Amplitude of a harmonic of a signal over the next cycle.
double harmonic(Plant& plant, const std::string& signal, int order, const std::function<void()>& ahead = {}) {
  const SignalId id = plant.signal(signal);
  std::complex<double> sum;
  const int count = static_cast<int>(std::lround(0.02 / plant.step_s()));
  for (int k = 0; k < count; ++k) {
    if (ahead) ahead();
    EXPECT_EQ(plant.step(), Status::running);
    sum += plant.value(id) * std::polar(2.0 / count, -2 * pi * 50 * order * plant.time_s());
  }
  return order == 0 ? sum.real() / 2 : std::abs(sum);
}

TEST(Bridge, HasTheSpectrumOfSineTriangleModulation) {
  // Natural sampling, legs at +-V: carrier multiple m, sideband n have (4 V/(pi m)) J_n(m pi M/2) sin((m+n)
  // pi/2) (Holmes and Lipo, "Pulse Width Modulation for Power Converters", chapter 3). Read off the current,
  // which knows no jumps, through the impedance at each frequency; every order in the same cycle.
  Plant plant = compile(h_bridge(), 2e-6);
  EdgeFeeder feed(plant, data);
  while (plant.time_s() < 0.06 - 1e-9) {
    feed(plant);
    ASSERT_EQ(plant.step(), Status::running);
  }
  struct Line {
    int multiple, sideband;
  };
  const std::array<Line, 7> lines{{{0, 1}, {1, 0}, {1, 2}, {1, -2}, {2, 1}, {2, -1}, {1, 1}}};
  std::array<std::complex<double>, lines.size()> sums{};
  const SignalId current = plant.signal("z.ia");
  const auto order_of = [](const Line& line) { return 100 * line.multiple + line.sideband; };
  constexpr int count = 10'000;
  for (int k = 0; k < count; ++k) {
    feed(plant);
    ASSERT_EQ(plant.step(), Status::running);
    for (std::size_t l = 0; l < lines.size(); ++l)
      sums[l] +=
          plant.value(current) * std::polar(2.0 / count, -2 * pi * 50 * order_of(lines[l]) * plant.time_s());
  }
  for (std::size_t l = 0; l < lines.size(); ++l) {
    const auto [m, n] = lines[l];
    const double volts =
        std::abs(sums[l] * std::complex<double>(1.2, 2 * pi * 50 * order_of(lines[l]) * 4e-3));
    const double theory =
        m == 0 ? 0.8 * 800
               : 4 * 800 / (pi * m) *
                     std::abs(std::cyl_bessel_j(std::abs(n), m * pi * 0.8 / 2) * std::sin((m + n) * pi / 2));
    EXPECT_NEAR(volts, theory, 2.5) << order_of(lines[l]);
  }
}

TEST(Bridge, OfSixDiodesGivesTheRectifiedVoltageAndTheHarmonicsOfTheory) {
  Plant plant = compile(six_pulse("diode"), 10e-6);
  while (plant.time_s() < 1.2) ASSERT_EQ(plant.step(), Status::running);  // six time constants
  const double mean = 3 * std::numbers::sqrt2 / pi * 400;
  const double current = harmonic(plant, "load.ia", 0);
  EXPECT_NEAR(current * 5, mean, 0.005 * mean);
  const double first = harmonic(plant, "r.ia", 1);
  EXPECT_NEAR(first, 2 * std::sqrt(3.0) / pi * current, 0.003 * first);
  EXPECT_NEAR(harmonic(plant, "r.ia", 5) / first, 1.0 / 5, 0.002);
  EXPECT_NEAR(harmonic(plant, "r.ia", 7) / first, 1.0 / 7, 0.002);
  EXPECT_LT(harmonic(plant, "r.ia", 3) / first, 0.002);
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
}

/// Pulses for the six thyristors of bridge "r", `alpha` behind their natural commutation. Phase a is a
/// cosine; its upper valve can take over 60 deg before its peak.
class SixPulses {
 public:
  explicit SixPulses(double alpha) : alpha_(alpha) {}
  void operator()(Plant& plant) {
    static constexpr const char* order[] = {"a_upper", "c_lower", "b_upper", "a_lower", "c_upper", "b_lower"};
    while (fired_ * pi / 3 + alpha_ - pi / 3 < 2 * pi * 50 * (plant.time_s() + plant.step_s())) {
      const double at = (fired_ * pi / 3 + alpha_ - pi / 3) / (2 * pi * 50);
      // Each pulse starts its valve and, again, the one before it.
      for (const int k : {fired_ % 6, (fired_ + 5) % 6}) {
        const GateId gate = plant.gate(std::string("r.") + order[k]);
        plant.fire(gate, true, at);
        plant.fire(gate, false, at + 0.2e-3);
      }
      ++fired_;
    }
  }

 private:
  double alpha_;
  int fired_ = 0;
};

TEST(Bridge, OfThyristorsFollowsTheCosineOfItsFiringAngle) {
  for (const double alpha : {0.3, 1.0}) {
    Plant plant = compile(six_pulse("thyristor"), 10e-6);
    SixPulses fire(alpha);
    while (plant.time_s() < 1.4) {
      fire(plant);
      ASSERT_EQ(plant.step(), Status::running);
    }
    const double expected = 3 * std::numbers::sqrt2 / pi * 400 * std::cos(alpha);
    EXPECT_NEAR(5 * harmonic(plant, "load.ia", 0, [&] { fire(plant); }), expected, 0.01 * expected) << alpha;
  }
}

/// Mean of the direct voltage behind a source inductance (Mohan, Undeland, Robbins, "Power Electronics",
/// 6-4): 3/pi (sqrt(2) V cos(alpha) - omega L I). And no current of an inductance jumps, whatever the
/// commutations before it came to.
TEST(Bridge, OfThyristorsLosesVoltageToTheSourcesInductance) {
  constexpr double line_V = 690, source_H = 0.2e-3, load_ohm = 4, alpha = 0.5;
  for (const double step_s : {5e-6, 16e-6, 20e-6, 25e-6, 40e-6, 50e-6}) {
    Network n = six_pulse("thyristor");
    n.buses = {{"grid", line_V}, {"dc", 930, "pn"}};
    n.elements[0] = Source{.name = "source",
                           .bus = "grid",
                           .short_circuit_VA = line_V * line_V / (2 * pi * 50 * source_H),
                           .x_over_r = 1e4};
    std::get<Branch>(n.elements[2]).resistance_ohm = load_ohm;
    std::get<Branch>(n.elements[2]).inductance_H = 50e-3;
    Plant plant = compile(n, step_s);
    ASSERT_GT(plant.summary().condensed, 0);
    SixPulses fire(alpha);
    const SignalId line = plant.signal("source.ia");
    const double most = 1.05 * std::numbers::sqrt2 * line_V * step_s / source_H;  // in a step
    double before = plant.value(line);
    while (plant.time_s() < 0.3) {
      fire(plant);
      ASSERT_EQ(plant.step(), Status::running);
      ASSERT_LT(std::abs(plant.value(line) - before), most) << step_s << " s, at " << plant.time_s();
      ASSERT_LT(std::abs(value(plant, "dc.vp") - value(plant, "dc.vn")), 1.6 * line_V) << step_s << " s";
      before = plant.value(line);
    }
    const double current = harmonic(plant, "load.ia", 0, [&] { fire(plant); });
    const double expected =
        3 / pi * (std::numbers::sqrt2 * line_V * std::cos(alpha) - 2 * pi * 50 * source_H * current);
    EXPECT_NEAR(load_ohm * current, expected, 2e-3 * expected) << step_s << " s";
  }
}

/// Into a choke and a capacitance, whose current comes and goes: a commutation learnt at a tiny current once
/// turned off thyristors that carried a large one, and the choke drove the rectified voltage to thousands of
/// volts (2,403 V and 4,034 V in these two, at 20 and 16 us).
TEST(Bridge, OfThyristorsTurnsOffNoneThatCarriesCurrentByWhatItRemembers) {
  constexpr double line_V = 690, source_H = 0.3e-3, alpha = 1;
  for (const double step_s : {16e-6, 20e-6, 40e-6}) {
    Network n;
    n.buses = {{"grid", line_V}, {"ac", line_V}, {"rect", 930, "pn"}, {"dc", 930, "pn"}};
    n.elements = {
        Source{.name = "source",
               .bus = "grid",
               .short_circuit_VA = line_V * line_V / (2 * pi * 50 * source_H),
               .x_over_r = 20},
        Branch{.name = "l", .between = {"grid", "ac"}, .resistance_ohm = 1e-3, .inductance_H = 20e-6},
        Bridge{.name = "r",
               .dc = "rect",
               .ac = "ac",
               .device = "thyristor",
               .on_resistance_ohm = 1e-3,
               .drop_V = 1},
        Branch{
            .name = "choke", .between = {"rect.p", "dc.p"}, .resistance_ohm = 10e-3, .inductance_H = 20e-3},
        Branch{.name = "back", .between = {"rect.n", "dc.n"}, .resistance_ohm = 1e-3},
        Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 10},
        Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e4},
        DcLink{.name = "C", .bus = "dc", .capacitance_F = 1e-3, .earth_ohm = 1e5}};
    Plant remembers = compile(n, step_s), searches = compile(n, step_s);
    ASSERT_GT(remembers.summary().condensed, 0);
    searches.remember_commutations(false);
    SixPulses first(alpha), second(alpha);
    while (remembers.time_s() < 0.2) {
      first(remembers);
      second(searches);
      ASSERT_EQ(remembers.step(), Status::running);
      ASSERT_EQ(searches.step(), Status::running);
      const double volts = value(remembers, "rect.vp") - value(remembers, "rect.vn");
      ASSERT_LT(std::abs(volts), 1.9 * line_V) << step_s << " s, at " << remembers.time_s();
      ASSERT_NEAR(value(remembers, "l.ia"), value(searches, "l.ia"), 1e-6) << "at " << remembers.time_s();
    }
  }
}

/// A three-level leg of either kind onto an inductive load, driven through all three levels.
std::vector<double> three_level_current(const std::string& topology) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 800, "pnm"}, {"ac", 400, "a"}};
  n.elements = {DcSource{.name = "e", .bus = "dc", .voltage_V = 800, .resistance_ohm = 1e-3},
                DcLink{.name = "c", .bus = "dc", .capacitance_F = 20e-3, .voltage_V = 800, .earth_ohm = 1},
                Bridge{.name = "h", .topology = topology, .dc = "dc", .ac = "ac", .on_resistance_ohm = 1e-4},
                Branch{.name = "z", .between = {"ac.a", "dc.m"}, .resistance_ohm = 2, .inductance_H = 2e-3}};
  Plant plant = compile(n, 2e-6);
  const auto level = [&](int up, double at) {  // 1, 0 or -1
    const bool on[] = {up > 0, up >= 0, up <= 0, up < 0};
    for (int k = 0; k < 4; ++k) {
      const GateId gate = plant.gate("h.a_" + std::to_string(k + 1));
      plant.fire(gate, on[k], on[k] ? at + 1e-6 : at);  // dead time
    }
  };
  std::vector<double> currents;
  const int levels[] = {0, 1, 0, -1};
  for (int k = 0; k < 12; ++k) {
    level(levels[k % 4], plant.time_s() + 0.3e-6);
    run(plant, 0.5e-3);
    currents.push_back(value(plant, "z.ia"));
  }
  EXPECT_EQ(plant.steps_at_event_limit(), 0);
  return currents;
}

TEST(Bridge, OfThreeLevelsClampedOrTTypeDrivesTheSameCurrentThroughAllLevels) {
  const std::vector<double> clamped = three_level_current("neutral-point clamped");
  const std::vector<double> t_type = three_level_current("t-type");
  double i = 0;
  const double tau = 1e-3, share = std::exp(-0.5e-3 / tau);
  const int levels[] = {0, 1, 0, -1};
  for (std::size_t k = 0; k < clamped.size(); ++k) {
    i = i * share + 400 * levels[k % 4] / 2.0 * (1 - share);
    EXPECT_NEAR(clamped[k], i, 1.5) << k;
    EXPECT_NEAR(t_type[k], i, 1.5) << k;
  }
}

TEST(Valve, FailsShortOrDeadAndStaysSo) {
  Network n = h_bridge();
  Plant plant = compile(n, 5e-6);
  EdgeFeeder feed(plant, data);
  const auto go = [&](double seconds) {
    const double until = plant.time_s() + seconds;
    while (plant.time_s() < until) {
      feed(plant);
      ASSERT_EQ(plant.step(), Status::running);
    }
  };
  go(5e-3);
  plant.fail(plant.gate("h.a_upper"), Failure::dead);
  go(15e-3);
  double greatest = -1e9;
  for (int k = 0; k < 4000; ++k) {
    go(5e-6);
    greatest = std::max(greatest, value(plant, "z.ia"));
  }
  EXPECT_LT(greatest, 1) << "without its upper valve the leg gives no positive current";
  plant.fail(plant.gate("h.b_upper"), Failure::shorted);
  go(0.3e-3);
  EXPECT_EQ(value(plant, "h.b_upper.on"), 1);
}

TEST(Battery, GivesItsVoltageBehindItsResistancesAndCountsItsCharge) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {Battery{.name = "b",
                        .bus = "dc",
                        .capacity_C = 36e3,  // 10 A h
                        .charge = 0.8,
                        .open_circuit = {{0, 600}, {0.5, 700}, {1, 760}},
                        .resistance_ohm = 0.1,
                        .fast_resistance_ohm = 0.05,
                        .fast_time_s = 0.2,
                        .slow_resistance_ohm = 0.2,
                        .slow_time_s = 2},
                Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 7},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e3}};
  Plant plant = compile(n, 1e-3);
  const double open = 700 + 0.6 * 60;
  run(plant, 2e-3);
  EXPECT_NEAR(value(plant, "load.ia"), open / 7.1, 0.02 * open / 7.1);
  double taken = 0;
  while (plant.time_s() < 12) {  // six slow time constants
    ASSERT_EQ(plant.step(), Status::running);
    taken += value(plant, "b.i") * 1e-3;
  }
  const double charge = value(plant, "b.charge");
  EXPECT_NEAR(charge, 0.8 - taken / 36e3, 1e-4);
  const double now_open = 700 + (charge - 0.5) / 0.5 * 60;
  EXPECT_NEAR(value(plant, "load.ia"), now_open / 7.35, 1e-3 * now_open / 7.35);
}

TEST(Battery, AnswersAStepOfLoadAlongItsTwoExponentials) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {
      Battery{.name = "b",
              .bus = "dc",
              .capacity_C = 1e9,
              .open_circuit = {{0, 700}, {1, 700}},
              .resistance_ohm = 0.1,
              .fast_resistance_ohm = 0.05,
              .fast_time_s = 0.01,
              .slow_resistance_ohm = 0.02,
              .slow_time_s = 0.1},
      Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 700},  // stiff beside it
      Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e3}};
  Plant plant = compile(n, 100e-6);
  for (const double t : {5e-3, 20e-3, 80e-3}) {
    while (plant.time_s() < t - 1e-9) ASSERT_EQ(plant.step(), Status::running);
    const double i = value(plant, "b.i");
    const double sag = 0.1 + 0.05 * (1 - std::exp(-t / 0.01)) + 0.02 * (1 - std::exp(-t / 0.1));
    EXPECT_NEAR(700 - value(plant, "b.i") * 700, i * sag, 2e-3 * i * sag + 1e-6) << t;
  }
}

/// A battery of ten cells on a load of 7 ohm, with what fails from the start.
Network battery_of_ten(double shorted, double added_resistance_ohm) {
  Network n;
  n.start = "zero";
  n.buses = {{"dc", 700, "pn"}};
  n.elements = {Battery{.name = "b",
                        .bus = "dc",
                        .capacity_C = 1e9,
                        .open_circuit = {{0, 700}, {1, 700}},
                        .resistance_ohm = 0.1,
                        .fast_resistance_ohm = 0.2,
                        .fast_time_s = 0.01,
                        .cells = 10,
                        .shorted_cells = shorted,
                        .added_resistance_ohm = added_resistance_ohm},
                Branch{.name = "load", .between = {"dc.p", "dc.n"}, .resistance_ohm = 7},
                Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 1e3}};
  return n;
}

TEST(Battery, LosesWhatItsShortedCellsGaveAndResisted) {
  Plant plant = compile(battery_of_ten(0, 0), 100e-6);
  const auto settled = [&] { return run(plant, plant.time_s() + 0.1), value(plant, "load.ia"); };
  EXPECT_NEAR(settled(), 700 / 7.3, 1e-6 * 100);
  plant.turn(plant.knob("b.shorted_cells"), 3);
  run(plant, plant.time_s() + 0.2e-3);
  EXPECT_NEAR(value(plant, "load.ia"), 0.7 * (700 - 0.2 * 700 / 7.3) / 7.07, 1)
      << "its fast pair is as it was";
  EXPECT_NEAR(settled(), 490 / (7 + 0.21), 1e-4);
  plant.turn(plant.knob("b.added_resistance"), 2.0);
  EXPECT_NEAR(settled(), 490 / (9 + 0.21), 1e-4);
  plant.turn(plant.knob("b.shorted_cells"), 0);
  plant.turn(plant.knob("b.added_resistance"), 0);
  EXPECT_NEAR(settled(), 700 / 7.3, 1e-4);
  Plant from_the_start = compile(battery_of_ten(3, 2), 100e-6);
  run(from_the_start, 0.1);
  EXPECT_NEAR(value(from_the_start, "load.ia"), 490 / 9.21, 1e-4);
}

TEST(Battery, HasCellsThatFailOnlyWhereItSaysHowMany) {
  EXPECT_THROW((void)compile(battery_of_ten(10, 0), 100e-6), Error);
  Network without = battery_of_ten(1, 0);
  std::get<Battery>(without.elements[0]).cells = 0;
  EXPECT_THROW((void)compile(without, 100e-6), Error);
  without = battery_of_ten(0, 0);
  std::get<Battery>(without.elements[0]).cells = 0;
  EXPECT_THROW((void)compile(without, 100e-6).knob("b.shorted_cells"), Error);
}

}  // namespace
}  // namespace zavrek::emt
