#include <gtest/gtest.h>

#include <fstream>
#include <random>
#include <sstream>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

Steady current(double rms) { return Steady::balanced(rms, 0, 0); }
Steady earth_current(double rms) {
  Steady s;
  s.current[0] = rms;
  return s;
}

TEST(Curves, MeetThePublishedTimesWithinTheirRounding) {
  std::ifstream in(std::string(ZAVREK_TEST_DATA) + "/curves.csv");
  std::string line;
  std::getline(in, line);
  int rows = 0;
  while (std::getline(in, line)) {
    std::stringstream cells(line);
    std::string name, multiple, multiplier, time;
    std::getline(cells, name, ',');
    std::getline(cells, multiple, ',');
    std::getline(cells, multiplier, ',');
    std::getline(cells, time, ',');
    const Curve* curve = find_curve(name);
    ASSERT_NE(curve, nullptr) << name;
    EXPECT_NEAR(curve->time_s(std::stod(multiple), std::stod(multiplier)) / std::stod(time), 1, 1e-8) << line;
    ++rows;
  }
  EXPECT_EQ(rows, 210);
}

TEST(RunningPhasor, MeasuresAmplitudeAndAngleAndRejectsHarmonicsAndDirectCurrent) {
  RunningPhasor phasor(80);
  for (int k = 0; k <= 2000; ++k) {
    phasor.push(10 * std::cos(2 * pi * k / 80 + 0.3) + 4 * std::cos(2 * pi * 3 * k / 80) +
                2 * std::cos(2 * pi * 5 * k / 80) + 7);
  }
  EXPECT_NEAR(std::abs(phasor.peak()), 10, 1e-9);
  EXPECT_NEAR(std::arg(phasor.peak()), 0.3, 1e-9);
  EXPECT_NEAR(std::arg(phasor.peak_at_newest()), std::remainder(2 * pi * 2000 / 80 + 0.3, 2 * pi), 1e-9);
  EXPECT_NEAR(phasor.rms(), 10 / std::numbers::sqrt2, 1e-9);
}

TEST(RunningPhasor, OfHalfACycleSeesAChangeInHalfTheTime) {
  RunningPhasor half(80, PhasorFilter::half_cycle), whole(80);
  for (int k = 0; k < 40; ++k) {
    half.push(10 * std::cos(2 * pi * k / 80));
    whole.push(10 * std::cos(2 * pi * k / 80));
  }
  EXPECT_NEAR(std::abs(half.peak()), 10, 1e-9);
  EXPECT_LT(std::abs(whole.peak()), 5.1);
}

TEST(RunningPhasor, OfTheCosineFilterHardlySeesADecayingOffset) {
  double worst[2] = {};
  RunningPhasor cosine(80, PhasorFilter::cosine), fourier(80);
  for (int k = 0; k < 400; ++k) {
    const double value = 10 * std::cos(2 * pi * k / 80 - 1.3) + 9 * std::exp(-k / 160.0);
    cosine.push(value);
    fourier.push(value);
    if (k < 100) continue;
    worst[0] = std::max(worst[0], std::abs(std::abs(cosine.peak()) - 10));
    worst[1] = std::max(worst[1], std::abs(std::abs(fourier.peak()) - 10));
  }
  EXPECT_LT(worst[0], 0.35 * worst[1]);
  EXPECT_NEAR(std::arg(cosine.peak()), -1.3, 0.01);
}

TEST(RunningPhasors, TakeSeveralSamplesAtOnceAsOneByOne) {
  std::mt19937 random(3);
  std::uniform_real_distribution<double> any(-1, 1);
  for (const PhasorFilter filter :
       {PhasorFilter::full_cycle, PhasorFilter::half_cycle, PhasorFilter::cosine}) {
    for (const int channels : {3, 7}) {
      RunningPhasors single(channels, 20, filter), several(channels, 20, filter);
      for (int round = 0; round < 200; ++round) {
        std::array<double, 5 * 8> samples{};
        for (double& value : samples) value = any(random);
        const int count = 1 + round % 5;
        several.push(samples.data(), count, 8);
        for (int k = 0; k < count; ++k) single.push(&samples[static_cast<std::size_t>(8 * k)]);
        for (int c = 0; c < channels; ++c)
          ASSERT_EQ(several.peak(static_cast<std::size_t>(c)), single.peak(static_cast<std::size_t>(c)));
      }
    }
  }
}

/// Sums that run never part from those taken afresh, whatever passed through them.
TEST(RunningPhasors, ForgetWhatLeftTheWindow) {
  RunningPhasors phasors(1, 20);
  std::array<double, 4> sample{};
  for (int k = 0; k < 200; ++k) {
    sample[0] = 1e9 * std::sin(0.7 * k);
    phasors.push(sample.data());
  }
  sample[0] = 0;
  for (int k = 0; k < 20; ++k) phasors.push(sample.data());
  EXPECT_LT(std::abs(phasors.peak(0)), 1e-4);
  for (int k = 0; k < 8 * 20; ++k) phasors.push(sample.data());
  EXPECT_EQ(phasors.peak(0), Phasor());
}

TEST(RunningPhasors, MeasureEachChannelAsIfItWereAlone) {
  for (const PhasorFilter filter :
       {PhasorFilter::full_cycle, PhasorFilter::half_cycle, PhasorFilter::cosine}) {
    RunningPhasors together(7, 80, filter, 1);
    std::vector<RunningPhasor> alone(7, RunningPhasor(80, filter));
    EXPECT_EQ(together.window(), alone[0].window());
    for (int k = 0; k < 333; ++k) {
      std::array<double, 8> values{};
      for (std::size_t c = 0; c < 7; ++c) {
        const double phase = static_cast<double>(c);
        values[c] = (1 + phase) * std::cos(2 * pi * k / 80 + phase) + 0.3 * std::sin(0.7 * k * (1 + phase));
        alone[c].push(values[c]);
      }
      together.push(values.data());
      for (std::size_t c = 0; c < 7; ++c) {
        ASSERT_NEAR(std::abs(together.peak(c) - alone[c].peak()), 0, 1e-12) << k;
        ASSERT_NEAR(std::abs(together.peak_at_newest(c) - alone[c].peak_at_newest()), 0, 1e-12) << k;
      }
    }
    together.clear();
    EXPECT_EQ(together.peak(3), Phasor{});
  }
}

TEST(Sequences, OfABalancedSystemArePositiveOnly) {
  const Steady s = Steady::balanced(5, 0.4, 0);
  const Sequences q = sequences_of(s.current[0], s.current[1], s.current[2]);
  EXPECT_NEAR(std::abs(q.positive - std::polar(5.0, -0.4)), 0, 1e-12);
  EXPECT_NEAR(std::abs(q.negative), 0, 1e-12);
  const Sequences swapped = sequences_of(s.current[1], s.current[0], s.current[2]);
  EXPECT_NEAR(std::abs(swapped.positive), 0, 1e-12);
  EXPECT_NEAR(std::abs(swapped.negative), 5, 1e-12);
}

TEST(Overcurrent, TripsADefiniteStageAfterItsDelayAndLessThanACycle) {
  Feeder relay(relay_of({definite("s", 100, 0.3)}));
  const double time = relay.until("trip", current(500), 1);
  EXPECT_GE(time, 0.3);
  EXPECT_LE(time, 0.32);
}

TEST(Overcurrent, FollowsAnInverseCurveWithinACycle) {
  for (const double multiple : {1.5, 3.0, 12.0}) {
    Feeder relay(relay_of({inverse("s", "IEC very inverse", 100, 0.2)}));
    EXPECT_NEAR(relay.until("trip", current(100 * multiple), 10), 0.2 * 13.5 / (multiple - 1) + 0.01, 0.0125);
  }
}

TEST(Overcurrent, FollowsPointsStraightOnLogarithmicAxes) {
  Stage stage = inverse("s", "points", 100, 1);
  stage.points = {{1.5, 4}, {6, 1}, {20, 0.1}};
  EXPECT_DOUBLE_EQ(stage.operate_time_s(300), 2);  // half-way in both logarithms
  EXPECT_EQ(stage.operate_time_s(140), INFINITY);
  EXPECT_DOUBLE_EQ(stage.operate_time_s(3000), 0.1);
  Feeder relay(relay_of({stage}));
  EXPECT_NEAR(relay.until("trip", current(300), 5), 2.01, 0.0125);
}

TEST(Overcurrent, GetsNoFasterAboveItsFlatMultiple) {
  const Stage stage = inverse("s", "IEC very inverse", 100, 1);
  EXPECT_DOUBLE_EQ(stage.operate_time_s(5000), stage.operate_time_s(2000));
  EXPECT_LT(stage.operate_time_s(2000), stage.operate_time_s(1900));
}

TEST(Overcurrent, StaysQuietAtPickupAndStartsJustAbove) {
  Feeder below(relay_of({definite("s", 100, 0)}));
  EXPECT_EQ(below.until("trip", current(99.9), 1), INFINITY);
  Feeder above(relay_of({definite("s", 100, 0)}));
  EXPECT_LT(above.until("trip", current(100.1), 1), 0.03);
}

TEST(Overcurrent, HoldsItsStartDownToTheDropOffRatio) {
  Stage stage = definite("s", 100, 10);
  stage.drop_off = 0.9;
  Feeder relay(relay_of({stage}));
  relay.feed(current(110), 0.1);
  EXPECT_TRUE(relay.on("start"));
  relay.feed(current(92), 0.1);
  EXPECT_TRUE(relay.on("start"));
  relay.feed(current(88), 0.1);
  EXPECT_FALSE(relay.on("start"));
}

TEST(Overcurrent, MeasuresTheResidualAndTheNegativeSequenceWhereItShould) {
  Stage earth = definite("e", 20, 0.1);
  earth.quantity = "earth";
  Stage negative = definite("n", 20, 0.1);
  negative.quantity = "negative";
  Feeder symmetrical(relay_of({earth, negative}));
  EXPECT_EQ(symmetrical.until("trip", current(1000), 1), INFINITY);
  Feeder relay(relay_of({earth, negative}));
  relay.feed(earth_current(30), 0.2);
  EXPECT_TRUE(relay.on("e.trip"));
  EXPECT_FALSE(relay.on("n.start"));  // a third of it
  relay.feed(earth_current(61), 0.2);
  EXPECT_TRUE(relay.on("n.trip"));
}

TEST(Overcurrent, ResetsAtOnceOrAfterItsDelayOrAlongItsCurve) {
  // Half a second towards a delay of a second, then a pause: what is left to wait.
  const auto left = [](const std::string& reset, double pause_s) {
    Stage stage = definite("s", 100, 1);
    stage.reset = reset;
    stage.reset_delay_s = 0.4;
    Feeder relay(relay_of({stage}));
    relay.feed(current(200), 0.51);
    relay.feed(current(20), pause_s);
    return relay.until("trip", current(200), 2);
  };
  EXPECT_NEAR(left("instant", 0.2), 1.01, 0.02);
  EXPECT_NEAR(left("definite", 0.2), 0.5, 0.03);
  EXPECT_NEAR(left("definite", 0.5), 1.01, 0.02);
  Stage disc = inverse("s", "IEEE very inverse", 100, 1);  // 19.61/3 + 0.491 = 7.028 s at twice pickup
  disc.reset = "inverse";                                  // 21.6/(1 - 0.25) = 28.8 s at half of it
  Feeder relay(relay_of({disc}));
  relay.feed(current(200), 3.524);  // half of the way
  relay.feed(current(50), 7.2);     // a quarter back
  EXPECT_NEAR(relay.until("trip", current(200), 10), 0.75 * 7.028, 0.05);
}

TEST(Overcurrent, LooksOneWayOnly) {
  const auto tripping = [](const std::string& direction, const Steady& fault) {
    Stage stage = definite("s", 100, 0.05);
    stage.direction = direction;
    stage.angle_rad = pi / 4;
    Feeder relay(relay_of({stage}));
    relay.feed(Steady::balanced(20, 0.3, 6000), 0.2);
    return relay.until("trip", fault, 0.3) < 1;
  };
  const Steady ahead = Steady::balanced(500, pi / 3, 2000);
  const Steady behind = Steady::balanced(500, pi / 3 - pi, 2000);
  EXPECT_TRUE(tripping("forward", ahead));
  EXPECT_FALSE(tripping("forward", behind));
  EXPECT_FALSE(tripping("reverse", ahead));
  EXPECT_TRUE(tripping("reverse", behind));
  // Earth: the residual voltage of a fault ahead stands against what the residual current drives.
  Stage earth = definite("e", 50, 0.05);
  earth.quantity = "earth";
  earth.direction = "forward";
  earth.angle_rad = pi / 3;
  Steady fault = Steady::balanced(0, 0, 6000);
  fault.voltage[0] *= 0.3;
  fault.current[0] = std::polar(300.0, -pi / 3);
  Feeder forward(relay_of({earth}));
  EXPECT_LT(forward.until("trip", fault, 0.3), 0.1);
  fault.current[0] = -fault.current[0];
  Feeder backward(relay_of({earth}));
  EXPECT_EQ(backward.until("trip", fault, 0.3), INFINITY);
}

TEST(Overcurrent, RemembersTheVoltageOfACloseFault) {
  Stage stage = definite("s", 100, 0.05);
  stage.direction = "forward";
  stage.least_voltage_V = 50;
  for (const double lag : {1.2, 1.2 - pi}) {
    Feeder relay(relay_of({stage}));
    relay.feed(Steady::balanced(20, 0.3, 6000), 0.2);
    EXPECT_EQ(relay.until("trip", Steady::balanced(5000, lag, 0), 0.3) < 1, lag > 0) << lag;
  }
}

TEST(Overcurrent, IsHeldBackByTheSecondHarmonicOfAnInrush) {
  for (const double share : {0.1, 0.2}) {
    Stage stage = definite("s", 100, 0.05);
    stage.second_harmonic = 0.15;
    Relay relay(relay_of({stage}), rate_Hz, 50);
    bool tripped = false;
    for (int k = 0; k < 2000; ++k) {
      Sample sample;
      for (std::size_t p = 0; p < 3; ++p) {
        const double angle = 2 * pi * (k / 80.0 - static_cast<double>(p) / 3);
        sample.current_A[p] = 700 * (std::cos(angle) + share * std::cos(2 * angle));
      }
      relay.push(sample);
      tripped = tripped || relay.trip();
    }
    EXPECT_EQ(tripped, share < 0.15) << share;
  }
}

TEST(Relay, ReadsSecondarySettingsThroughTheRatio) {
  RelaySettings settings = relay_of({definite("s", 1.2, 0.05)});
  settings.values = "secondary";
  settings.ct_primary_A = 400;
  Feeder below(settings), above(settings);
  EXPECT_EQ(below.until("trip", current(479), 0.5), INFINITY);
  EXPECT_LT(above.until("trip", current(481), 0.5), 0.08);
}

TEST(Voltage, StartsBeyondItsPickupAndRestsBeforeIt) {
  const auto stage = [](const char* when, const char* of, double pickup) {
    return function<VoltageStage>("v", [&](VoltageStage& s) {
      s.when = when;
      s.of = of;
      s.quantity = "phase";
      s.pickup_V = pickup;
      s.delay_s = 0.1;
      s.block_below_V = 500;
    });
  };
  const auto time = [](const VoltageStage& s, const Steady& what) {
    Feeder relay(relay_of({s}));
    relay.feed(Steady::balanced(0, 0, 6350), 0.2);
    return relay.until("trip", what, 0.5);
  };
  Steady one_high = Steady::balanced(0, 0, 6350);
  one_high.voltage[1] *= 1.3;
  EXPECT_NEAR(time(stage("over", "any", 7500), one_high), 0.11, 0.015);
  EXPECT_EQ(time(stage("over", "all", 7500), one_high), INFINITY);
  EXPECT_EQ(time(stage("over", "any", 8300), one_high), INFINITY);
  EXPECT_NEAR(time(stage("under", "all", 5000), Steady::balanced(0, 0, 4900)), 0.12, 0.015);
  EXPECT_EQ(time(stage("under", "all", 5000), Steady::balanced(0, 0, 5100)), INFINITY);
  EXPECT_EQ(time(stage("under", "all", 5000), Steady::balanced(0, 0, 100)), INFINITY);  // dead line
}

TEST(Voltage, OfAnInverseStageFollowsItsFormula) {
  VoltageStage stage;
  stage.name = "v";
  stage.quantity = "positive";
  stage.characteristic = "inverse";
  stage.pickup_V = 6000;
  stage.time_multiplier = 0.5;
  EXPECT_DOUBLE_EQ(stage.operate_time_s(7500), 2);
  Feeder relay(relay_of({stage}));
  EXPECT_NEAR(relay.until("trip", Steady::balanced(0, 0, 7500), 3), 2.01, 0.02);
}

TEST(Frequency, IsMeasuredToAMillihertzAndItsStagesJudgeIt) {
  FrequencyStage under;
  under.name = "f";
  under.pickup_Hz = 49;
  under.delay_s = 0.1;
  Feeder relay(relay_of({under}));
  Steady s = Steady::balanced(10, 0, 6350);
  s.frequency_Hz = 49.02;
  EXPECT_EQ(relay.until("trip", s, 1), INFINITY);
  EXPECT_NEAR(relay.relay.measured().ends[0].frequency_Hz, 49.02, 1e-3);
  Feeder low(relay_of({under}));
  s.frequency_Hz = 48.9;
  EXPECT_LT(low.until("trip", s, 1), 0.35);
  Feeder high(relay_of({under}));
  s.frequency_Hz = 57.5;  // more than half a turn within the window
  high.feed(s, 0.5);
  EXPECT_NEAR(high.relay.measured().ends[0].frequency_Hz, 57.5, 0.02);
  Steady dead;
  Feeder none(relay_of({under}));
  EXPECT_EQ(none.until("trip", dead, 1), INFINITY);
}

TEST(Frequency, IsLeftOutWhereNoFunctionAsksForIt) {
  Feeder relay(relay_of({definite("s", 1e6, 1)}));
  relay.feed(Steady::balanced(10, 0, 6350), 1);
  EXPECT_FALSE(relay.relay.measured().ends[0].frequency_valid);
}

TEST(Frequency, RateOfChangeIsSeenOnARamp) {
  FrequencyStage falling;
  falling.name = "r";
  falling.when = "falling";
  falling.rate_Hz_per_s = 1;
  falling.delay_s = 0.1;
  for (const double rate : {-0.8, -1.3}) {
    Relay relay(relay_of({falling}), rate_Hz, 50);
    double angle = 0, f = 50;
    bool tripped = false;
    for (int k = 0; k < 6000; ++k) {
      if (k > 2000) f += rate / rate_Hz;
      angle += 2 * pi * f / rate_Hz;
      Sample sample;
      for (std::size_t p = 0; p < 3; ++p)
        sample.voltage_V[p] = 9000 * std::cos(angle - 2 * pi / 3 * static_cast<double>(p));
      relay.push(sample);
      tripped = tripped || relay.trip();
    }
    EXPECT_EQ(tripped, rate < -1) << rate;
    EXPECT_NEAR(relay.measured().ends[0].frequency_rate, rate, 0.02);
  }
}

TEST(Frequency, TrackedKeepsMagnitudesTrueFarFromNominal) {
  for (const bool tracked : {false, true}) {
    FrequencyStage under;
    under.name = "f";
    under.pickup_Hz = 40;
    under.delay_s = 1;
    RelaySettings settings = relay_of({under});
    settings.track_frequency = tracked;
    Feeder relay(settings);
    Steady s = Steady::balanced(100, 0.3, 6350);
    s.frequency_Hz = 46.5;
    relay.feed(s, 3);
    double worst = 0;
    for (int k = 0; k < 100; ++k) {
      relay.feed(s, 0.001);
      worst = std::max(worst, std::abs(std::abs(relay.relay.measured().ends[0].current[0]) - 100));
    }
    EXPECT_NEAR(relay.relay.measured().ends[0].frequency_Hz, 46.5, 0.01) << tracked;
    EXPECT_EQ(worst < 0.2, tracked) << worst;
  }
}

TEST(Thermal, FollowsTheClosedFormHotAndCold) {
  Thermal thermal;
  thermal.name = "t";
  thermal.rated_A = 100;
  thermal.factor = 1;
  thermal.time_constant_s = 10;
  EXPECT_NEAR(thermal.operate_time_s(200), 10 * std::log(4.0 / 3), 1e-12);
  EXPECT_NEAR(thermal.operate_time_s(200, 90), 10 * std::log((4 - 0.81) / 3), 1e-12);
  Feeder cold(relay_of({thermal}));
  EXPECT_NEAR(cold.until("trip", current(200), 10), thermal.operate_time_s(200), 0.02);
  Feeder never(relay_of({thermal}));
  EXPECT_EQ(never.until("trip", current(99), 30), INFINITY);
  EXPECT_TRUE(never.on("t.start"));  // the alarm
}

TEST(Power, CountsOneWay) {
  PowerStage reverse;
  reverse.name = "p";
  reverse.pickup_W = 1e5;
  reverse.delay_s = 0.2;
  Feeder motoring(relay_of({reverse})), generating(relay_of({reverse}));
  EXPECT_NEAR(motoring.until("trip", Steady::balanced(20, pi, 6000), 1), 0.22, 0.02);
  EXPECT_EQ(generating.until("trip", Steady::balanced(20, 0, 6000), 1), INFINITY);
}

TEST(LossOfPotential, TellsAFuseFromAFault) {
  LossOfPotential watch;
  watch.name = "vt";
  watch.negative_V = 600;
  watch.negative_current_A = 20;
  watch.collapsed_V = 1000;
  watch.change_A = 15;
  const Steady well = Steady::balanced(100, 0.4, 6350);
  Steady one_fuse = well, fault = well, all_fuses = Steady::balanced(100, 0.4, 0);
  one_fuse.voltage[1] = 0;
  fault.voltage[1] *= 0.1;
  fault.current[1] *= 12;
  const auto seen = [&](const Steady& what) {
    Feeder relay(relay_of({watch}));
    relay.feed(well, 0.3);
    return relay.until("vt.start", what, 0.3) < 1;
  };
  EXPECT_TRUE(seen(one_fuse));
  EXPECT_TRUE(seen(all_fuses));
  EXPECT_FALSE(seen(fault));
  EXPECT_FALSE(seen(Steady::balanced(1800, 1.2, 300)));
  EXPECT_FALSE(seen(well));
}

TEST(Synchrocheck, ReleasesOnlyWhatFits) {
  Synchrocheck check;
  check.name = "sync";
  check.voltage_V = 5000;
  check.difference_V = 500;
  const auto released = [&](double volts, double angle, double slip) {
    Feeder relay(relay_of({check}), 2);
    Steady a = Steady::balanced(0, 0, 6350), b = Steady::balanced(0, 0, volts);
    for (Phasor& v : b.voltage) v *= std::polar(1.0, angle);
    b.frequency_Hz = 50 + slip;
    return relay.until("sync.release", {a, b}, 0.6) < 1;
  };
  EXPECT_TRUE(released(6200, 0.2, 0));
  EXPECT_FALSE(released(5500, 0.2, 0));
  EXPECT_FALSE(released(6200, 0.5, 0));
  EXPECT_FALSE(released(6200, -1.2, 0.6));
}

TEST(BreakerFailure, OperatesOnlyWhileCurrentFlowsOn) {
  BreakerFailure failure;
  failure.name = "bf";
  failure.current_A = 50;
  failure.delay_s = 0.15;
  Feeder stuck(relay_of({definite("s", 100, 0.1), failure}));
  EXPECT_NEAR(stuck.until("bf.trip", current(500), 1), 0.25, 0.02);
  Feeder opens(relay_of({definite("s", 100, 0.1), failure}));
  opens.feed(current(500), 0.16);
  EXPECT_TRUE(opens.on("bf.start"));
  EXPECT_EQ(opens.until("bf.trip", current(0), 0.5), INFINITY);
}

TEST(Reclose, GoesThroughItsShotsToLockoutAndReclaims) {
  Reclose reclose;
  reclose.name = "r";
  reclose.closed = "input.closed";
  reclose.dead_times = {"0.3 s", "1 s"};
  reclose.reclaim_s = 2;
  Feeder relay(relay_of({definite("s", 100, 0.05), reclose}));
  ASSERT_EQ(relay.relay.inputs(), std::vector<std::string>{"closed"});
  const auto fault_and_open = [&] {
    relay.relay.set_input(0, true);
    relay.feed(current(500), 0.1);
    relay.relay.set_input(0, false);
  };
  relay.relay.set_input(0, true);
  relay.feed(current(10), 0.5);
  fault_and_open();
  EXPECT_NEAR(relay.until("r.close", current(0), 2), 0.3, 0.03);
  fault_and_open();  // still there
  EXPECT_NEAR(relay.until("r.close", current(0), 2), 1, 0.15);
  fault_and_open();
  relay.feed(current(0), 0.5);
  EXPECT_TRUE(relay.on("r.lockout"));
  relay.relay.set_input(0, true);
  relay.feed(current(10), 2.5);
  EXPECT_FALSE(relay.on("r.lockout"));
  fault_and_open();
  EXPECT_NEAR(relay.until("r.close", current(0), 2), 0.3, 0.03);  // the first shot again
}

TEST(Logic, BlocksDelaysLatchesAndSends) {
  Stage bus = definite("bus", 100, 0.05);
  bus.blocked_by = "feeders";
  const auto feeders = function<Logic>("feeders", [](Logic& l) {
    l.when = "input.f1 or (input.f2 and not input.test)";
    l.off_delay_s = 0.1;
  });
  const auto latch = function<Latch>("lock", [](Latch& l) {
    l.set = "trip";
    l.reset = "input.reset";
  });
  const auto output = function<Output>("alarm", [](Output& o) { o.when = "lock and not bus.start"; });
  Feeder relay(relay_of({bus, feeders, latch, output}));
  EXPECT_EQ(relay.relay.outputs(), (std::vector<std::string>{"start", "trip", "alarm"}));
  const auto set = [&](const std::string& name, bool on) {
    const auto& known = relay.relay.inputs();
    relay.relay.set_input(
        static_cast<std::size_t>(std::find(known.begin(), known.end(), name) - known.begin()), on);
  };
  set("f2", true);
  EXPECT_EQ(relay.until("trip", current(500), 0.3), INFINITY);
  set("test", true);  // takes f2 away, after the off-delay
  EXPECT_NEAR(relay.until("trip", current(500), 0.5), 0.15, 0.01);
  EXPECT_FALSE(relay.on("alarm"));
  relay.feed(current(0), 0.1);
  EXPECT_TRUE(relay.on("alarm"));
  set("reset", true);
  relay.feed(current(0), 0.01);
  EXPECT_FALSE(relay.on("lock"));
}

TEST(Settings, AreRefusedWhenTheyCannotWork) {
  RelaySettings settings = relay_of({definite("fast", 100, 0.1), definite("slow", 200, 0.5)});
  settings.functions.emplace_back(function<Stage>("bare", [](Stage& s) { s.pickup_A = 300; }));
  settings.functions.emplace_back(inverse("late", "IEC very inverse", 150, 40));
  settings.functions.emplace_back(
      function<Logic>("l", [](Logic& l) { l.when = "fast.trap or (slow.start"; }));
  settings.functions.emplace_back(function<Latch>("k", [](Latch& l) { l.set = "fast.trap"; }));
  settings.functions.emplace_back(function<Zone>("z", [](Zone& z) {
    z.reach_ohm = 4;
    z.delay_s = 0;
  }));
  settings.values = "secondary";
  std::string lines;
  for (const Flaw& flaw : validate(settings)) lines += to_string(flaw) + "\n";
  EXPECT_EQ(
      lines,
      "relay, ct_primary: missing; settings in secondary values need the CT ratio\n"
      "relay, vt_primary: missing; voltages and impedances in secondary values need the VT ratio\n"
      "stage.slow, pickup: can never operate first: stage fast picks up at 100 A and trips after 0.1 s\n"
      "stage.bare, delay: missing; a definite stage needs its operating time, such as \"0.1 s\"\n"
      "stage.late, pickup: can never operate first: stage fast picks up at 100 A and trips after 0.1 s\n"
      "zone.z, resistive_reach: missing; a quadrilateral needs it, such as \"8 ohm\"\n"
      "logic.l, when: the condition \"fast.trap or (slow.start\": a parenthesis is not closed\n"
      "latch.k, set: no signal \"fast.trap\", did you mean \"fast.trip\"?\n");
}

TEST(Settings, AreRefusedWhenAFileCouldNotHoldThem) {
  RelaySettings settings = relay_of({inverse("phase", "IEC quite inverse", 150, 0.2)});
  settings.functions.emplace_back(function<Stage>("earth", [](Stage& s) {
    s.pickup_A = -20;
    s.delay_s = 0.1;
  }));
  const std::vector<Flaw> flaws = validate(settings);
  ASSERT_EQ(flaws.size(), 2);
  EXPECT_TRUE(
      to_string(flaws[0]).starts_with("stage.phase, characteristic: \"IEC quite inverse\" is none of "))
      << to_string(flaws[0]);
  EXPECT_EQ(to_string(flaws[1]), "stage.earth, pickup: -20 A is too small; more than 0 A is wanted");
}

TEST(ExpectedOperation, TakesTheFirstStageOfTheCompositeAndFollowsAChangingCurrent) {
  const RelaySettings settings =
      relay_of({inverse("inverse", "IEC very inverse", 100, 1), definite("definite", 1000, 0.1)});
  const auto seen = [](double first, double change_s, double second, double hold_s) {
    RecordedInputs s;
    s.ends.resize(1);
    s.inception = 800;
    for (int k = 0; k < 800 + std::lround((change_s + 0.1) * rate_Hz); ++k) {
      const double t = k / rate_Hz - 0.2;
      s.ends[0].push_back(current(t < 0 ? 10 : t < change_s ? first : second).at(k / rate_Hz));
    }
    s.hold_s = hold_s;
    return s;
  };
  auto expected = expected_operation(settings, seen(2000, 0.3, 2000, 1));
  EXPECT_EQ(expected.stage, "definite");
  EXPECT_NEAR(expected.time_s, 0.1, 1e-6);
  // Half of the way at 3 times pickup (6.75 s), the rest at 10 times (1.5 s).
  expected = expected_operation(settings, seen(300, 3.375, 999.99, 5));
  EXPECT_EQ(expected.stage, "inverse");
  EXPECT_NEAR(expected.time_s, 3.375 + 0.75, 0.012);
  EXPECT_EQ(expected_operation(settings, seen(90, 0.3, 90, 20)).time_s, INFINITY);
  EXPECT_EQ(expected_operation(settings, seen(300, 0.3, 300, 2)).time_s, INFINITY);  // held too short
}

TEST(ExpectedOperation, OfSteadyQuantitiesIsTheComposite) {
  const RelaySettings settings =
      relay_of({inverse("inverse", "IEC very inverse", 100, 0.2), definite("definite", 1000, 0.1)});
  const auto at = [&](double amperes) {
    Measured none, fault;
    none.ends.resize(1);
    fault.ends.resize(1);
    fault.ends[0].current = {amperes, 0, 0, 0};
    Measuring::complete(fault.ends[0], false);
    return expected_operation(settings, none, fault, 30);
  };
  EXPECT_NEAR(at(300).time_s, 1.35, 1e-9);
  EXPECT_EQ(at(300).stage, "inverse");
  EXPECT_NEAR(at(1500).time_s, 0.1, 1e-9);
  EXPECT_EQ(at(1500).stage, "definite");
  EXPECT_EQ(at(99).time_s, INFINITY);
}

}  // namespace
}  // namespace zavrek::protection
