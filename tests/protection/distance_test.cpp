// Zones against faults on a line whose impedances are known: source behind the relay, fault at a share of the
// line, phasors from the sequence networks (Blackburn, Symmetrical Components for Power Systems Engineering).
#include <gtest/gtest.h>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

struct LineFault {
  double share = 0.5;  // of the line; negative: behind the relay
  std::string phases = "AG";
  double resistance_ohm = 0;
};

constexpr double phase_to_earth_V = 38105;  // 66 kV
const Phasor source1(0.4, 4.8), source0(0.7, 4.3), line1(2.6, 8.8), line0(7.0, 27.5);

/// Turns quantities of a fault on A or B-C to the phases wanted.
Steady turned(const Steady& s, std::size_t by) {
  Steady t;
  for (std::size_t k = 0; k < 3; ++k) {
    t.current[(k + by) % 3] = s.current[k] * std::polar(1.0, -2 * pi / 3 * static_cast<double>(by));
    t.voltage[(k + by) % 3] = s.voltage[k] * std::polar(1.0, -2 * pi / 3 * static_cast<double>(by));
  }
  return t;
}

Steady of_sequences(const Phasor i[3], const Phasor v[3]) {
  Steady s;
  const Phasor a = std::polar(1.0, 2 * pi / 3);
  const Phasor turns[3][3] = {{1, 1, 1}, {1, a * a, a}, {1, a, a * a}};  // zero, positive, negative
  for (std::size_t k = 0; k < 3; ++k) {
    for (std::size_t q = 0; q < 3; ++q) {
      s.current[k] += turns[k][q] * i[q];
      s.voltage[k] += turns[k][q] * v[q];
    }
  }
  return s;
}

/// What the relay at the head of a radial line sees. Behind the relay, current flows from a like source at
/// the far end: all currents turn round.
Steady seen(const LineFault& fault) {
  const bool behind = fault.share < 0;
  // Fault behind: the far source feeds through the whole line to a point |share| of a line behind the relay.
  const double x = behind ? -fault.share : fault.share;
  const Phasor above1 = behind ? source1 + line1 : source1, above0 = behind ? source0 + line0 : source0;
  const Phasor z1 = above1 + x * line1, z0 = above0 + x * line0;
  const double rf = fault.resistance_ohm;
  Phasor i[3] = {};  // zero, positive, negative
  const bool earth = fault.phases.back() == 'G';
  const std::size_t count = fault.phases.size() - (earth ? 1 : 0);
  if (count == 3) {
    i[1] = phase_to_earth_V / (z1 + rf);
  } else if (count == 1) {
    i[0] = i[1] = i[2] = phase_to_earth_V / (2.0 * z1 + z0 + 3 * rf);
  } else if (!earth) {
    i[1] = phase_to_earth_V / (2.0 * z1 + rf);
    i[2] = -i[1];
  } else {
    const Phasor back = z1 * (z0 + 3 * rf) / (z1 + z0 + 3 * rf);
    i[1] = phase_to_earth_V / (z1 + back);
    i[2] = -i[1] * (z0 + 3 * rf) / (z1 + z0 + 3 * rf);
    i[0] = -i[1] - i[2];
  }
  Phasor v[3] = {-above0 * i[0], phase_to_earth_V - above1 * i[1], -above1 * i[2]};
  if (behind) {
    for (Phasor& each : i) each = -each;
  }
  const std::size_t first = fault.phases.find_first_of("ABC");
  const std::string which = fault.phases.substr(0, count);
  const std::size_t turn = count == 1      ? static_cast<std::size_t>(which[0] - 'A')
                           : which == "BC" ? 0
                           : which == "CA" ? 1
                           : which == "AB" ? 2
                                           : first;
  return turned(of_sequences(i, v), turn);
}

Zone zone(const std::string& name, double share, double delay_s, const std::string& shape = "quadrilateral") {
  return function<Zone>(name, [&](Zone& z) {
    z.shape = shape;
    z.reach_ohm = share * std::abs(line1);
    z.angle_rad = std::arg(line1);
    z.resistive_reach_ohm = 8;
    z.earth_resistive_reach_ohm = 12;
    z.delay_s = delay_s;
    z.least_current_A = 50;
  });
}

RelaySettings distance(const std::string& shape = "quadrilateral") {
  RelaySettings settings = relay_of({zone("z1", 0.85, 0, shape), zone("z2", 1.2, 0.4, shape)});
  const Phasor k0 = (line0 - line1) / (3.0 * line1);
  settings.residual_factor = std::abs(k0);
  settings.residual_angle_rad = std::arg(k0);
  return settings;
}

const Steady load = Steady::balanced(120, 0.35, phase_to_earth_V);

double trips_after(const RelaySettings& settings, const LineFault& fault, double limit_s = 0.8) {
  Feeder relay(settings);
  relay.feed(load, 0.2);
  return relay.until("trip", seen(fault), limit_s);
}

class TenTypes : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(Distance, TenTypes,
                         testing::Values("AG", "BG", "CG", "AB", "BC", "CA", "ABG", "BCG", "CAG", "ABC"));

TEST_P(TenTypes, ReachTheirZonesAndNoFurther) {
  for (const char* shape : {"quadrilateral", "mho"}) {
    const auto time = [&](double share) { return trips_after(distance(shape), {share, GetParam(), 0}); };
    for (const double share : {0.0, 0.1, 0.4, 0.8}) EXPECT_LT(time(share), 0.03) << shape << share;
    for (const double share : {0.9, 1.0, 1.15}) EXPECT_NEAR(time(share), 0.415, 0.015) << shape << share;
    EXPECT_EQ(time(1.3), INFINITY) << shape;
    for (const double share : {-0.05, -0.4}) EXPECT_EQ(time(share), INFINITY) << shape << share;
  }
}

TEST(Distance, AQuadrilateralCoversResistanceThatAMhoDoesNot) {
  EXPECT_LT(trips_after(distance(), {0.3, "AG", 8}), 0.05);
  EXPECT_EQ(trips_after(distance("mho"), {0.05, "AG", 40}), INFINITY);
  EXPECT_EQ(trips_after(distance(), {0.3, "AG", 40}), INFINITY);
}

TEST(Distance, LooksBackwardsWhereItIsToldTo) {
  RelaySettings settings = distance();
  for (FunctionSettings& function : settings.functions) std::get<Zone>(function).direction = "reverse";
  for (const char* phases : {"AG", "BC", "CAG", "ABC"}) {
    EXPECT_LT(trips_after(settings, {-0.3, phases, 0}), 0.05) << phases;
    EXPECT_EQ(trips_after(settings, {0.3, phases, 0}), INFINITY) << phases;
  }
}

TEST(Distance, SeesNoFaultInHeavyLoadBehindItsLoadRegion) {
  RelaySettings settings = relay_of({zone("z3", 6, 0.2)});
  std::get<Zone>(settings.functions[0]).resistive_reach_ohm = 60;
  const Steady heavy = Steady::balanced(900, 0.2, phase_to_earth_V);  // 42 ohm
  for (const bool region : {false, true}) {
    if (region) settings.load_resistance_ohm = 30;
    Feeder relay(settings);
    EXPECT_EQ(relay.until("trip", heavy, 1) < 1, !region);
  }
  Feeder fault(settings);
  fault.feed(load, 0.2);
  EXPECT_LT(fault.until("trip", seen({1.1, "ABC", 0}), 1), 0.3);
}

TEST(Distance, PowerSwingBlocksAndAnUnbalancedFaultDuringItIsFree) {
  RelaySettings settings = distance();
  for (FunctionSettings& function : settings.functions) std::get<Zone>(function).blocked_by = "swing.start";
  settings.functions.emplace_back(function<PowerSwing>("swing", [](PowerSwing& p) {
    p.outer_ohm = 40;
    p.inner_ohm = 16;
  }));
  Feeder relay(settings);
  relay.feed(load, 0.2);
  for (double ohms = 80; ohms > 4; ohms *= 0.985) {  // 4 s from 80 to 4 ohm
    relay.feed(Steady::balanced(0.5 * phase_to_earth_V / ohms, 1.2, 0.5 * phase_to_earth_V), 0.02);
    ASSERT_FALSE(relay.on("trip")) << ohms;
  }
  EXPECT_TRUE(relay.on("swing.start"));
  EXPECT_LT(relay.until("trip", seen({0.4, "BG", 0}), 0.5), 0.08);
  Feeder sudden(settings);  // a fault passes between the rings at once
  sudden.feed(load, 0.2);
  EXPECT_LT(sudden.until("trip", seen({0.4, "ABC", 0}), 0.5), 0.05);
}

TEST(Distance, TripsAtOnceWhenSwitchedOntoAFault) {
  RelaySettings settings = distance();
  settings.functions.emplace_back(function<SwitchOntoFault>("sotf", [](SwitchOntoFault& s) {
    s.when = "z2.start";
    s.dead_voltage_V = 5000;
    s.dead_current_A = 20;
  }));
  Feeder dead(settings);
  dead.feed(Steady{}, 0.5);
  EXPECT_LT(dead.until("trip", seen({1.0, "ABC", 0}), 0.5), 0.05);
  Feeder live(settings);
  live.feed(load, 0.5);
  EXPECT_NEAR(live.until("trip", seen({1.0, "ABC", 0}), 0.5), 0.415, 0.015);
}

/// Currents (rms, primary) of both sides of a 25 MVA 66/11 kV transformer, flowing into it.
struct Sides {
  Steady high, low;
};
constexpr double high_A = 218.7, low_A = 1312.2;

/// `through` times rated current from high to low, Dyn11: the low side leads by 30 deg.
Sides through_current(double times) {
  Sides s;
  for (std::size_t k = 0; k < 3; ++k) {
    const double turn = -2 * pi / 3 * static_cast<double>(k);
    s.high.current[k] = std::polar(times * high_A, turn);
    s.low.current[k] = -std::polar(times * low_A, turn + pi / 6);
  }
  return s;
}

RelaySettings transformer_differential() {
  Differential d;
  d.name = "diff";
  d.rated_currents = {"218.7 A", "1312.2 A"};
  d.hours = {"0", "11"};
  d.earthed = {"no", "yes"};
  d.second_harmonic = 0.15;
  d.fifth_harmonic = 0.3;
  d.unrestrained = 8;
  return relay_of({d});
}

TEST(Differential, RestsOnThroughCurrentAndOperatesInside) {
  for (const double times : {0.5, 1.0, 8.0}) {
    Feeder relay(transformer_differential(), 2);
    const Sides s = through_current(times);
    EXPECT_EQ(relay.until("trip", {s.high, s.low}, 0.3), INFINITY) << times;
  }
  Feeder inside(transformer_differential(), 2);
  Sides s = through_current(1);
  inside.feed({s.high, s.low}, 0.2);
  s.high.current[1] += std::polar(0.8 * high_A, -2.4);
  EXPECT_LT(inside.until("trip", {s.high, s.low}, 0.3), 0.04);
}

TEST(Differential, KeepsQuietOnAnEarthFaultOutsideOnTheEarthedSide) {
  // Low side a to earth, outside: 3 times rated in one phase. The delta carries it between two lines.
  Sides s;
  s.low.current[0] = -3 * low_A;
  const double line = 3 * high_A / std::sqrt(3.0);  // turns ratio of a Dyn is ratio / sqrt 3
  s.high.current[0] = line;
  s.high.current[1] = -line;
  // Dyn11 joins low a to the delta's a - b limb.
  Feeder relay(transformer_differential(), 2);
  EXPECT_EQ(relay.until("trip", {s.high, s.low}, 0.3), INFINITY);
}

TEST(Differential, MatchesEveryClockFigure) {
  for (int hour = 0; hour < 12; ++hour) {
    RelaySettings settings = transformer_differential();
    std::get<Differential>(settings.functions[0]).hours = {"0", std::to_string(hour)};
    Sides s;
    for (std::size_t k = 0; k < 3; ++k) {
      const double turn = -2 * pi / 3 * static_cast<double>(k);
      s.high.current[k] = std::polar(high_A, turn);
      s.low.current[k] = -std::polar(low_A, turn - hour * pi / 6);
    }
    Feeder right(settings, 2);
    EXPECT_EQ(right.until("start", {s.high, s.low}, 0.2), INFINITY) << hour;
    std::get<Differential>(settings.functions[0]).hours[1] = std::to_string((hour + 1) % 12);
    Feeder wrong(settings, 2);
    EXPECT_LT(wrong.until("start", {s.high, s.low}, 0.2), 0.1) << hour;
  }
}

TEST(Differential, OperatesJustAboveItsLineAndNotJustBelow) {
  Differential d;
  d.pickup = 0.2;
  d.slope = 0.3;
  d.knee = 2;
  d.second_slope = 0.7;
  EXPECT_DOUBLE_EQ(d.threshold(0.5), 0.2);
  EXPECT_DOUBLE_EQ(d.threshold(1.5), 0.45);
  EXPECT_DOUBLE_EQ(d.threshold(3), 1.3);
  // Two places of a busbar: a in, b out gives sum a - b, restraint (a + b) / 2.
  d.name = "bus";
  d.rated_currents = {"1000 A", "1000 A"};
  for (const double restraint : {0.3, 1.0, 1.9, 2.5, 5.0}) {
    for (const double factor : {0.93, 1.03}) {
      const double sum = factor * d.threshold(restraint);
      Feeder relay(relay_of({d}), 2);
      const Steady in = Steady::balanced(1000 * (restraint + sum / 2), 0, 0);
      Steady out = Steady::balanced(1000 * std::abs(restraint - sum / 2), 0, 0);
      for (Phasor& i : out.current) i *= restraint > sum / 2 ? -1.0 : 1.0;
      relay.feed({in, out}, 0.2);  // it may operate while the windows fill
      EXPECT_EQ(relay.on("trip"), factor > 1.0) << restraint;
    }
  }
}

TEST(Differential, HoldsBackInrushAndOverexcitationButNotAHighFault) {
  const auto trips = [](double peak, int harmonic, double share) {
    Relay relay(transformer_differential(), rate_Hz, 50, 2);
    for (int k = 0; k < 1200; ++k) {
      Sample samples[2];
      for (std::size_t p = 0; p < 3; ++p) {
        const double angle = 2 * pi * (k / 80.0 - static_cast<double>(p) / 3);
        samples[0].current_A[p] =
            peak * std::sqrt(2) * high_A * (std::cos(angle) + share * std::cos(harmonic * angle));
      }
      relay.push(samples);
      // While the windows fill, everything is a harmonic.
      if (k > 160 && relay.trip()) return true;
    }
    return false;
  };
  EXPECT_TRUE(trips(2, 2, 0.05));
  EXPECT_FALSE(trips(2, 2, 0.25));
  EXPECT_TRUE(trips(2, 5, 0.2));
  EXPECT_FALSE(trips(2, 5, 0.4));
  EXPECT_TRUE(trips(10, 2, 0.25));
}

}  // namespace
}  // namespace zavrek::protection
