// Every function just on either side of its threshold, with each filter and however often it decides.
#include <functional>

#include <gtest/gtest.h>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

constexpr double nominal_V = 6350;

struct Side {
  std::string name;
  FunctionSettings function;
  /// What the places of the relay see at a value of the quantity that is compared.
  std::function<std::vector<Steady>(double)> at;
  double threshold;
  bool above = true;    // operates above its threshold
  double rests_at = 0;  // a value of the healthy state, far on the quiet side
  std::string signal = "f.trip";
  double within = 0.01;  // share of the threshold on either side that must be told apart
};

void PrintTo(const Side& side, std::ostream* out) { *out << side.name; }

template <class Kind, class Fill>
FunctionSettings called_f(Fill&& fill) {
  return function<Kind>("f", fill);
}

std::vector<Steady> phase_current(double amperes) { return {Steady::balanced(amperes, 0.5, nominal_V)}; }

Steady negative_sequence(double amperes, double volts) {
  Steady s;
  for (std::size_t k = 0; k < 3; ++k) {
    const double turn = 2 * pi / 3 * static_cast<double>(k);
    s.current[k] = std::polar(amperes, turn);
    s.voltage[k] = std::polar(volts, turn);
  }
  return s;
}

/// A balanced load with a negative sequence beside it.
std::vector<Steady> unbalanced(double load_A, double amperes, double volts) {
  Steady s = Steady::balanced(load_A, 0.5, nominal_V);
  const Steady n = negative_sequence(amperes, volts);
  for (std::size_t k = 0; k < 3; ++k) {
    s.current[k] += n.current[k];
    s.voltage[k] += n.voltage[k];
  }
  return {s};
}

/// One loop of the three at an impedance, the others far outside.
Steady loop(bool earth, double ohm, double angle_rad, Phasor k0) {
  Steady s = Steady::balanced(0, 0, nominal_V);
  const Phasor z = std::polar(ohm, angle_rad);
  const double amperes = 800;
  if (earth) {
    s.current[0] = amperes;
    s.voltage[0] = z * amperes * (1.0 + k0);
    return s;
  }
  s.current[1] = std::polar(amperes, -pi / 2);
  s.current[2] = -s.current[1];
  const Phasor between = z * (s.current[1] - s.current[2]);
  const Phasor middle = (s.voltage[1] + s.voltage[2]) / 2.0;
  s.voltage[1] = middle + between / 2.0;
  s.voltage[2] = middle - between / 2.0;
  return s;
}

const Phasor k0 = std::polar(0.7, -0.1);

FunctionSettings zone_of(const std::string& shape, const std::string& loops, const std::string& direction) {
  return called_f<Zone>([&](Zone& z) {
    z.shape = shape;
    z.loops = loops;
    z.direction = direction;
    z.reach_ohm = 4;
    z.angle_rad = 1.2;
    z.resistive_reach_ohm = 3;
    z.delay_s = 0.05;
    z.least_current_A = 50;
  });
}

const std::vector<Side>& sides() {
  static const std::vector<Side> all{
      {"PhaseCurrent", definite("f", 200, 0.05), phase_current, 200},
      {"ResidualCurrent", called_f<Stage>([](Stage& s) {
         s.quantity = "earth";
         s.pickup_A = 40;
         s.delay_s = 0.05;
       }),
       [](double a) {
         Steady s = Steady::balanced(100, 0.5, nominal_V);
         s.current[0] += a;
         return std::vector{s};
       },
       40},
      {"NegativeSequenceCurrent", called_f<Stage>([](Stage& s) {
         s.quantity = "negative";
         s.pickup_A = 30;
         s.delay_s = 0.05;
       }),
       [](double a) { return unbalanced(100, a, 0); }, 30},
      {"ForwardCurrent", called_f<Stage>([](Stage& s) {
         s.pickup_A = 200;
         s.delay_s = 0.05;
         s.direction = "forward";
       }),
       phase_current, 200},
      {"PhaseVoltageAbove", called_f<VoltageStage>([](VoltageStage& s) {
         s.quantity = "phase";
         s.pickup_V = 7000;
         s.delay_s = 0.05;
       }),
       [](double v) { return std::vector{Steady::balanced(0, 0, v)}; }, 7000, true, nominal_V},
      {"LineVoltageBelow", called_f<VoltageStage>([](VoltageStage& s) {
         s.when = "under";
         s.pickup_V = 9000;
         s.delay_s = 0.05;
       }),
       [](double v) { return std::vector{Steady::balanced(0, 0, v / std::sqrt(3.0))}; }, 9000, false, 11000},
      {"PositiveSequenceVoltageBelow", called_f<VoltageStage>([](VoltageStage& s) {
         s.when = "under";
         s.quantity = "positive";
         s.pickup_V = 5000;
         s.delay_s = 0.05;
       }),
       [](double v) { return std::vector{Steady::balanced(0, 0, v)}; }, 5000, false, nominal_V},
      {"NegativeSequenceVoltage", called_f<VoltageStage>([](VoltageStage& s) {
         s.quantity = "negative";
         s.pickup_V = 600;
         s.delay_s = 0.05;
       }),
       [](double v) { return unbalanced(0, 0, v); }, 600},
      {"ResidualVoltage", called_f<VoltageStage>([](VoltageStage& s) {
         s.quantity = "residual";
         s.pickup_V = 900;
         s.delay_s = 0.05;
       }),
       [](double v) {
         Steady s = Steady::balanced(0, 0, nominal_V);
         s.voltage[1] += v;
         return std::vector{s};
       },
       900},
      {"FrequencyBelow", called_f<FrequencyStage>([](FrequencyStage& s) {
         s.pickup_Hz = 49.5;
         s.delay_s = 0.05;
       }),
       [](double hz) {
         Steady s = Steady::balanced(0, 0, nominal_V);
         s.frequency_Hz = hz;
         return std::vector{s};
       },
       49.5, false, 50, "f.trip", 2e-3},
      {"FrequencyAbove", called_f<FrequencyStage>([](FrequencyStage& s) {
         s.when = "over";
         s.pickup_Hz = 50.6;
         s.delay_s = 0.05;
       }),
       [](double hz) {
         Steady s = Steady::balanced(0, 0, nominal_V);
         s.frequency_Hz = hz;
         return std::vector{s};
       },
       50.6, true, 50, "f.trip", 2e-3},
      {"ActivePowerReversed", called_f<PowerStage>([](PowerStage& s) {
         s.pickup_W = 1e5;
         s.delay_s = 0.05;
       }),
       [](double w) { return std::vector{Steady::balanced(w / 3 / nominal_V, pi, nominal_V)}; }, 1e5},
      {"ReactivePowerForward", called_f<PowerStage>([](PowerStage& s) {
         s.quantity = "reactive";
         s.direction = "forward";
         s.pickup_W = 2e5;
         s.delay_s = 0.05;
       }),
       [](double w) { return std::vector{Steady::balanced(w / 3 / nominal_V, pi / 2, nominal_V)}; }, 2e5},
      {"ThermalAlarm", called_f<Thermal>([](Thermal& t) {
         t.rated_A = 100;
         t.factor = 1;
         t.time_constant_s = 0.05;
         t.alarm = 0.81;
       }),
       phase_current, 90, true, 0, "f.start"},
      {"Mho", zone_of("mho", "phase", "forward"),
       [](double ohm) { return std::vector{loop(false, ohm, 1.2, k0)}; }, 4, false, 20},
      {"MhoToEarth", zone_of("mho", "earth", "forward"),
       [](double ohm) { return std::vector{loop(true, ohm, 1.2, k0)}; }, 4, false, 20},
      {"Quadrilateral", zone_of("quadrilateral", "phase", "forward"),
       [](double ohm) { return std::vector{loop(false, ohm, 1.2, k0)}; }, 4, false, 20},
      {"QuadrilateralToEarth", zone_of("quadrilateral", "earth", "forward"),
       [](double ohm) { return std::vector{loop(true, ohm, 1.2, k0)}; }, 4, false, 20},
      {"ReverseZone", zone_of("quadrilateral", "phase", "reverse"),
       [](double ohm) { return std::vector{loop(false, ohm, 1.2 + pi, k0)}; }, 4, false, 20},
      // Differentials start from close by: the cosine filter overshoots on its way, and what once started
      // rests again further down only. Of a line: what enters at one end and does not leave at the other.
      {"LineDifferential", called_f<Differential>([](Differential& d) {
         d.rated_currents = {"400 A", "400 A"};
         d.pickup = 0.25;
         d.slope = 0.3;
         d.delay_s = 0.05;
       }),
       [](double missing) {
         const Steady in = Steady::balanced(300 + missing / 2, 0.3, nominal_V);
         Steady out = Steady::balanced(300 - missing / 2, 0.3, nominal_V);
         for (Phasor& i : out.current) i = -i;
         return std::vector{in, out};
       },
       100, true, 97},
      // Of a busbar with a feed and two feeders.
      {"BusbarDifferential", called_f<Differential>([](Differential& d) {
         d.rated_currents = {"1000 A", "1000 A", "1000 A"};
         d.pickup = 0.3;
         d.slope = 0.01;
         d.second_slope = 0.01;
         d.delay_s = 0.05;
       }),
       [](double missing) {
         const Steady in = Steady::balanced(800 + missing, 0.3, nominal_V);
         Steady first = Steady::balanced(500, 0.3, nominal_V), second = Steady::balanced(300, 0.3, nominal_V);
         for (std::size_t k = 0; k < 3; ++k) {
           first.current[k] = -first.current[k];
           second.current[k] = -second.current[k];
         }
         return std::vector{in, first, second};
       },
       300, true, 291},
  };
  return all;
}

using Asked = std::tuple<Side, std::string, int>;
class BothSides : public testing::TestWithParam<Asked> {
 protected:
  [[nodiscard]] bool operates(double factor) const {
    const auto& [side, filter, decisions] = GetParam();
    RelaySettings settings = relay_of({side.function});
    settings.filter = filter;
    settings.decisions = decisions;
    settings.residual_factor = std::abs(k0);
    settings.residual_angle_rad = std::arg(k0);
    const std::vector<Steady> healthy = side.at(side.rests_at > 0 ? side.rests_at : 0.5 * side.threshold);
    Feeder relay(settings, static_cast<int>(healthy.size()));
    relay.feed(healthy, 0.4);
    relay.feed(side.at(factor * side.threshold), 0.8);
    return relay.on(side.signal);
  }
};

TEST_P(BothSides, AreToldApart) {
  const Side& side = std::get<0>(GetParam());
  const double quiet = side.above ? 1 - side.within : 1 + side.within;
  const double loud = side.above ? 1 + side.within : 1 - side.within;
  EXPECT_FALSE(operates(quiet));
  EXPECT_TRUE(operates(loud));
}

std::string name_of(const testing::TestParamInfo<Asked>& asked) {
  std::string filter = std::get<1>(asked.param);
  std::erase(filter, ' ');
  return std::get<0>(asked.param).name + "_" + filter + "_" + std::to_string(std::get<2>(asked.param));
}
INSTANTIATE_TEST_SUITE_P(Functions, BothSides,
                         testing::Combine(testing::ValuesIn(sides()),
                                          testing::Values("full cycle", "half cycle", "cosine"),
                                          testing::Values(0, 8, 20)),
                         name_of);

TEST(Decisions, SeeThePhasorsThatEverySampleWouldSee) {
  MeasuringOptions options;
  Measuring every(options);
  options.decisions = 16;
  Measuring seldom(options);
  EXPECT_DOUBLE_EQ(seldom.interval_s(), 5 / rate_Hz);
  Steady s = Steady::balanced(70, 0.4, nominal_V);
  s.frequency_Hz = 49.2;
  s.current[1] *= 1.7;
  int decided = 0;
  for (int k = 0; k < 2000; ++k) {
    const Sample sample = s.at(k / rate_Hz);
    ASSERT_TRUE(every.push(std::span(&sample, 1)));
    if (!seldom.push(std::span(&sample, 1))) continue;
    ++decided;
    EXPECT_EQ((k + 1) % 5, 0);
    const End &a = every.measured().ends[0], &b = seldom.measured().ends[0];
    for (std::size_t p = 0; p < 4; ++p) ASSERT_EQ(a.current[p], b.current[p]) << k;
    ASSERT_EQ(a.v.positive, b.v.positive);
    ASSERT_EQ(a.v1_memory, b.v1_memory);
  }
  EXPECT_EQ(decided, 400);
  EXPECT_NEAR(seldom.measured().ends[0].frequency_Hz, 49.2, 1e-3);
}

TEST(Decisions, ComeLaterThanEverySampleByLessThanOneInterval) {
  for (const double amperes : {150.0, 400.0, 2000.0}) {
    RelaySettings settings = relay_of({definite("s", 100, 0.1)});
    Feeder every(settings);
    const double at_once = every.until("trip", phase_current(amperes), 1);
    for (const int decisions : {4, 10, 20, 40}) {
      settings.decisions = decisions;
      Feeder seldom(settings);
      const double late = seldom.until("trip", phase_current(amperes), 1) - at_once;
      EXPECT_GE(late, -1.5 / (50.0 * decisions)) << decisions;
      EXPECT_LT(late, 1 / (50.0 * decisions) + 1e-9) << decisions;
    }
  }
}

TEST(Decisions, FallOnWholeSamplesOnly) {
  RelaySettings settings = relay_of({definite("s", 100, 0.1)});
  settings.decisions = 7;
  const std::vector<Flaw> flaws = validate(settings);
  ASSERT_EQ(flaws.size(), 1U);
  EXPECT_EQ(flaws[0].field, "decisions");
  EXPECT_EQ(flaws[0].text,
            "7 of them do not share the 80 samples of a cycle evenly; choose 4, 5, 8, 10, 16, 20, 40 or 80");
  MeasuringOptions options;
  options.decisions = 3;
  EXPECT_THROW(Measuring{options}, Error);
}

TEST(Decisions, ChangeNothingInWhatSettingsAreExpectedToDo) {
  RelaySettings settings = relay_of({inverse("s", "IEC normal inverse", 100, 0.1)});
  RecordedInputs seen;
  seen.ends.resize(1);
  seen.inception = 800;
  for (int k = 0; k < 4000; ++k) seen.ends[0].push_back(phase_current(k < 800 ? 50 : 700)[0].at(k / rate_Hz));
  const ExpectedOperation every = expected_operation(settings, seen);
  settings.decisions = 5;
  EXPECT_EQ(expected_operation(settings, seen).time_s, every.time_s);
  EXPECT_NEAR(every.time_s, settings.all<Stage>()[0]->operate_time_s(700), 1e-6);
}

}  // namespace
}  // namespace zavrek::protection
