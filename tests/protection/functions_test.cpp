// Functions of machines, transformers and sensitive earth faults, against their equations.
#include <gtest/gtest.h>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

/// One place with these phasors.
Measured steady(std::array<Phasor, 3> current, std::array<Phasor, 3> voltage, double frequency_Hz = 50) {
  Measured m;
  End& end = m.ends.emplace_back();
  for (std::size_t k = 0; k < 3; ++k) {
    end.current[k] = current[k];
    end.voltage[k] = voltage[k];
  }
  end.frequency_Hz = frequency_Hz;
  end.frequency_valid = true;
  Measuring::complete(end, false);
  end.v1_memory = end.v.positive;
  return m;
}
std::array<Phasor, 3> balanced(Phasor a, int sequence = 1) {
  std::array<Phasor, 3> all;
  for (int k = 0; k < 3; ++k)
    all[static_cast<std::size_t>(k)] = a * std::polar(1.0, -sequence * 2 * pi / 3 * k);
  return all;
}
std::array<Phasor, 3> sum(std::array<Phasor, 3> a, const std::array<Phasor, 3>& b) {
  for (std::size_t k = 0; k < 3; ++k) a[k] += b[k];
  return a;
}
constexpr double volts = 6350;

double time_of(const FunctionSettings& function, const Measured& before, const Measured& during) {
  return expected_operation(relay_of({function}), before, during, 60).time_s;
}
const Measured quiet = steady({}, balanced(volts));

TEST(Unbalance, IsTheShareOfNegativeSequenceWhileThereIsCurrent) {
  const auto open = function<Unbalance>("open", [](Unbalance& u) {
    u.pickup = 0.2;
    u.least_current_A = 100;
    u.delay_s = 3;
  });
  const auto with = [&](double positive_A, double negative_current_A) {
    return time_of(open, quiet,
                   steady(sum(balanced(positive_A), balanced(negative_current_A, -1)), balanced(volts)));
  };
  EXPECT_NEAR(with(200, 41), 3, 1e-6);
  EXPECT_FALSE(std::isfinite(with(200, 39)));
  EXPECT_FALSE(std::isfinite(with(90, 90))) << "too little current";
  // Phase a is open: b and c carry I and -I, so that both sequences are alike.
  EXPECT_NEAR(time_of(open, quiet, steady({0, 200, -200}, balanced(volts))), 3, 1e-6);
}

TEST(EarthPower, CountsOnlyWhatIsInLineWithTheResidualVoltageOrAcross) {
  auto active = function<EarthPower>("watt", [](EarthPower& e) {
    e.pickup_A = 2;
    e.voltage_V = 3000;
    e.delay_s = 0.5;
  });
  // Residual voltage 3 V0 = -6 kV, so that minus it stands at 0 degrees.
  const auto at = [&](const EarthPower& e, Phasor residual_current_A, double residual_voltage_V = 6000) {
    return time_of(e, quiet,
                   steady(balanced(residual_current_A / 3.0, 0),
                          sum(balanced(volts), balanced(-residual_voltage_V / 3, 0))));
  };
  EXPECT_NEAR(at(active, 2.1), 0.5, 1e-6);
  EXPECT_FALSE(std::isfinite(at(active, 1.9)));
  EXPECT_NEAR(at(active, std::polar(20.0, 80 * pi / 180)), 0.5, 1e-6) << "20 A cos 80 deg = 3.5 A";
  EXPECT_FALSE(std::isfinite(at(active, std::polar(20.0, 88 * pi / 180)))) << "20 A cos 88 deg = 0.7 A";
  EXPECT_FALSE(std::isfinite(at(active, -5))) << "behind";
  EXPECT_FALSE(std::isfinite(at(active, 5, 2500))) << "too little voltage";
  active.direction = "reverse";
  EXPECT_NEAR(at(active, -5), 0.5, 1e-6);
  EarthPower reactive = active;
  reactive.direction = "forward";
  reactive.quantity = "reactive";
  EXPECT_NEAR(at(reactive, Phasor(0, 2.1)), 0.5, 1e-6) << "the capacitive current of all other feeders";
  EXPECT_FALSE(std::isfinite(at(reactive, Phasor(0, -20)))) << "its own, in a healthy feeder";
}

TEST(RestrictedEarth, RestsWithWhatPassesThroughAndTripsWithWhatDoesNot) {
  const auto restricted = function<RestrictedEarth>("ref", [](RestrictedEarth& r) {
    r.pickup_A = 50;
    r.slope = 0.5;
    r.delay_s = 0.02;
  });
  const auto with = [&](Phasor line_A, Phasor neutral_A) {
    Measured m = steady(balanced(line_A / 3.0, 0), balanced(volts));
    m.ends.push_back(steady(balanced(neutral_A / 3.0, 0), {}).ends[0]);
    Measured before = quiet;
    before.ends.push_back(steady({}, {}).ends[0]);
    return time_of(restricted, before, m);
  };
  EXPECT_FALSE(std::isfinite(with(1000, -1000))) << "through";
  EXPECT_FALSE(std::isfinite(with(1000, -1400))) << "through, a transformer saturates: 400 < 50 + 0.5 x 1200";
  EXPECT_NEAR(with(0, 100), 0.02, 1e-6) << "inside, fed by the neutral alone: 100 > 50 + 0.5 x 50";
  EXPECT_FALSE(std::isfinite(with(0, 60))) << "60 < 50 + 0.5 x 30";
  EXPECT_NEAR(with(300, 300), 0.02, 1e-6);
}

TEST(Overfluxing, IsVoltageOverFrequency) {
  auto flux = function<Overfluxing>("flux", [](Overfluxing& f) {
    f.rated_voltage_V = 11000;
    f.pickup = 1.1;
    f.delay_s = 2;
  });
  const auto at = [&](double voltage_pu, double frequency_Hz) {
    return time_of(flux, quiet, steady({}, balanced(voltage_pu * 11000 / std::sqrt(3.0)), frequency_Hz));
  };
  EXPECT_FALSE(std::isfinite(at(1.09, 50)));
  EXPECT_NEAR(at(1.11, 50), 2, 1e-6);
  EXPECT_NEAR(at(1, 45), 2, 1e-6) << "1 / 0.9 = 1.11";
  EXPECT_FALSE(std::isfinite(at(1.2, 56))) << "1.2 / 1.12 = 1.07";
  flux.characteristic = "inverse";
  flux.time_multiplier = 0.8;
  EXPECT_NEAR(at(1.32, 50), 0.8 / (1.32 / 1.1 - 1), 1e-3);
}

TEST(FieldLoss, IsAnImpedanceInACircleBelowTheOrigin) {
  const auto field = function<FieldLoss>("field", [](FieldLoss& f) {
    f.offset_ohm = 1;
    f.diameter_ohm = 10;
    f.delay_s = 0.5;
    f.current = "into";
  });
  const auto at = [&](Phasor ohm) {
    return time_of(field, quiet, steady(balanced(volts / ohm), balanced(volts)));
  };
  EXPECT_NEAR(at({0, -6}), 0.5, 1e-6) << "its centre";
  EXPECT_NEAR(at({4.9, -6}), 0.5, 1e-6);
  EXPECT_FALSE(std::isfinite(at({5.1, -6})));
  EXPECT_NEAR(at({0, -10.9}), 0.5, 1e-6);
  EXPECT_FALSE(std::isfinite(at({0, -11.1})));
  EXPECT_FALSE(std::isfinite(at({0, -0.9})));
  EXPECT_FALSE(std::isfinite(at({3, 6}))) << "a load";
  FieldLoss out = field;
  out.current = "out";
  EXPECT_NEAR(time_of(out, quiet, steady(balanced(-volts / Phasor(0, -6)), balanced(volts))), 0.5, 1e-6);
}

TEST(PoleSlip, CountsImpedancesThatCrossBothBlindersSlowly) {
  const auto slip = function<PoleSlip>("slip", [](PoleSlip& p) {
    p.blinder_ohm = 2;
    p.forward_ohm = 10;
    p.reverse_ohm = 10;
    p.angle_rad = pi / 2;
    p.slips = 2;
  });
  /// Trips by the end of passages from `from` to `to` ohm, each in `time_s`.
  const auto trips = [&](double from, double to, double time_s, int passages, double reactance = 3) {
    Relay relay(relay_of({slip}), rate_Hz, 50);
    constexpr double step_s = 1e-3;
    for (int n = 0; n < passages; ++n) {
      for (double t = 0; t < time_s; t += step_s) {
        const Phasor ohm(from + (to - from) * t / time_s, reactance);
        relay.decide(steady(balanced(volts / ohm), balanced(volts)), step_s);
      }
    }
    return relay.trip();
  };
  EXPECT_TRUE(trips(20, -20, 0.8, 2));
  EXPECT_FALSE(trips(20, -20, 0.8, 1)) << "two are wanted";
  EXPECT_TRUE(trips(-20, 20, 0.8, 2)) << "the other way";
  EXPECT_FALSE(trips(20, -20, 0.05, 4)) << "a fault is faster: 5 ms between the blinders";
  EXPECT_FALSE(trips(20, -20, 0.8, 4, 15)) << "far away, beyond its reach";
  EXPECT_FALSE(trips(20, 0.5, 0.8, 4)) << "a swing that turns back";
}

TEST(MotorStart, TripsWhenTooLongWhenStalledAndForbidsTooMany) {
  const auto motor = function<MotorStart>("motor", [](MotorStart& m) {
    m.rated_A = 100;
    m.starting = 2;
    m.longest_s = 5;
    m.stalled = 3;
    m.stall_delay_s = 1;
    m.most_starts = 2;
    m.within_s = 600;
  });
  const auto at = [](double current_A) { return steady(balanced(current_A), balanced(volts)); };
  Relay relay(relay_of({motor}), rate_Hz, 50);
  const std::size_t inhibit = relay.find_signal("motor.inhibit"), start = relay.find_signal("motor.start");
  const auto hold = [&](double current_A, double for_s) {
    for (double t = 0; t < for_s - 1e-9; t += 0.01) relay.decide(at(current_A), 0.01);
  };
  hold(0, 1);
  hold(500, 4);
  EXPECT_TRUE(relay.signal(start));
  hold(90, 10);
  EXPECT_FALSE(relay.signal(start) || relay.trip() || relay.signal(inhibit));
  hold(350, 0.9);
  EXPECT_FALSE(relay.trip());
  hold(350, 0.2);
  EXPECT_TRUE(relay.trip()) << "stalled";
  hold(0, 1);
  hold(500, 4.9);
  EXPECT_FALSE(relay.trip());
  EXPECT_TRUE(relay.signal(inhibit)) << "the second start of two";
  hold(500, 0.2);
  EXPECT_TRUE(relay.trip()) << "too long";
  hold(0, 601);
  EXPECT_FALSE(relay.signal(inhibit));
}

TEST(Overcurrent, IsRestrainedOrControlledByVoltage) {
  Stage stage = inverse("v", "IEC very inverse", 400, 0.2);
  stage.full_voltage_V = 11000;
  const auto at = [&](double voltage_share, double current_A) {
    const double phase_V = voltage_share * 11000 / std::sqrt(3.0);
    return time_of(stage, quiet, steady(balanced(current_A), balanced(phase_V)));
  };
  stage.voltage = "restrains";
  // 13.5 T / (M - 1), M over the pickup as voltage leaves it.
  EXPECT_NEAR(at(1, 800), 13.5 * 0.2 / (2 - 1), 1e-2);
  EXPECT_NEAR(at(0.5, 800), 13.5 * 0.2 / (4 - 1), 1e-2);
  EXPECT_NEAR(at(0.1, 800), 13.5 * 0.2 / (8 - 1), 1e-2) << "not below a quarter";
  EXPECT_FALSE(std::isfinite(at(1, 390)));
  stage.voltage = "controls";
  EXPECT_FALSE(std::isfinite(at(1, 4000)));
  EXPECT_NEAR(at(0.9, 800), 13.5 * 0.2 / (2 - 1), 1e-2);
}

TEST(Thermal, IsHeatedMoreByNegativeSequence) {
  const auto thermal = function<Thermal>("heat", [](Thermal& t) {
    t.rated_A = 100;
    t.factor = 1;
    t.time_constant_s = 10;
    t.negative_factor = 4;
  });
  // I^2 = 90^2 + 4 x 60^2 = 150^2: IEC 60255-149 from cold, tau ln(I^2 / (I^2 - 1)).
  EXPECT_NEAR(time_of(thermal, quiet, steady(sum(balanced(90), balanced(60, -1)), balanced(volts))),
              10 * std::log(2.25 / 1.25), 2e-3);
}

TEST(CurrentWatch, TellsABrokenCircuitFromAnEarthFault) {
  const auto watch = function<CurrentWatch>("ct", [](CurrentWatch& w) {
    w.residual_current_A = 20;
    w.residual_voltage_V = 500;
    w.delay_s = 0.5;
  });
  const auto says = [&](const std::array<Phasor, 3>& current, const std::array<Phasor, 3>& voltage) {
    Relay relay(relay_of({watch, definite("trips", 1e6, 1)}), rate_Hz, 50);
    for (int k = 0; k < 100; ++k) relay.decide(steady(current, voltage), 0.01);
    return relay.signal(relay.find_signal("ct.start"));
  };
  const auto load = balanced(100);
  EXPECT_TRUE(says({load[0], load[1], 0}, balanced(volts)));
  EXPECT_FALSE(says(load, balanced(volts)));
  EXPECT_FALSE(says({load[0], load[1], 0}, {volts, balanced(volts)[1], 0}))
      << "an earth fault has voltage too";
}

TEST(VectorShift, TellsAJumpOfTheAngleFromAFrequencyThatIsOff) {
  const auto shift = function<VectorShift>("shift", [](VectorShift& v) {
    v.angle_rad = 8 * pi / 180;
    v.least_voltage_V = 3000;
  });
  /// Trips behind a jump, at a frequency.
  const auto trips = [&](double jump_deg, double frequency_Hz, double volts_after = volts) {
    Relay relay(relay_of({shift}), rate_Hz, 50);
    Steady wave = Steady::balanced(0, 0, volts);
    wave.frequency_Hz = frequency_Hz;
    bool tripped = false;
    for (int k = 0; k < 2000; ++k) {
      if (k == 1200) {
        for (Phasor& v : wave.voltage) v *= std::polar(volts_after / volts, jump_deg * pi / 180);
      }
      relay.push(wave.at(k / rate_Hz));
      if (k > 600) tripped = tripped || relay.trip();
    }
    return tripped;
  };
  EXPECT_TRUE(trips(9, 50));
  EXPECT_TRUE(trips(-9, 50));
  EXPECT_FALSE(trips(7, 50));
  EXPECT_FALSE(trips(0, 51)) << "14 degrees in two cycles, steadily";
  EXPECT_TRUE(trips(10, 51));
  EXPECT_FALSE(trips(0, 50, 5000)) << "a dip without a jump";
}

TEST(Differential, IsRestrainedByTheMeanTheSumOrTheLargest) {
  auto d = function<Differential>("d", [](Differential& s) {
    s.rated_currents = {"1000 A", "1000 A"};
    s.pickup = 0.2;
    s.slope = 0.5;
    s.knee = 10;
  });
  // 2 in at the first, 1.1 out at the second: 0.9 differ; mean 1.55, sum 3.1, largest 2.
  const auto trips = [&](const std::string& restraint, double out) {
    d.restraint = restraint;
    Measured m = steady(balanced(2000), {}), before = steady({}, {});
    m.ends.push_back(steady(balanced(-1000 * out), {}).ends[0]);
    before.ends.push_back(before.ends[0]);
    return std::isfinite(time_of(d, before, m));
  };
  EXPECT_TRUE(trips("mean", 1.1)) << "0.9 > 0.775";
  EXPECT_FALSE(trips("mean", 1.3)) << "0.7 < 0.825";
  EXPECT_FALSE(trips("largest", 1.1)) << "0.9 < 1";
  EXPECT_TRUE(trips("largest", 0.9)) << "1.1 > 1";
  EXPECT_FALSE(trips("sum", 0.9)) << "1.1 < 1.45";
  EXPECT_TRUE(trips("sum", 0.6)) << "1.4 > 1.3";
}

TEST(Zone, HasACompensationOfItsOwn) {
  const auto zone = [](double factor) {
    return function<Zone>("z", [&](Zone& z) {
      z.reach_ohm = 10;
      z.resistive_reach_ohm = 10;
      z.delay_s = 0;
      z.loops = "earth";
      z.residual_factor = factor;
      z.residual_angle_rad = 0;
    });
  };
  RelaySettings relay = relay_of({zone(0.5)});
  relay.residual_factor = 3;
  // 1350 V at 100 A, whose residual current is that of phase a: 9 ohm with a factor of a half.
  const auto faulted =
      steady({std::polar(100.0, -75 * pi / 180), 0, 0}, {1350, balanced(volts)[1], balanced(volts)[2]});
  EXPECT_TRUE(std::isfinite(expected_operation(relay, quiet, faulted, 1).time_s));
  relay.functions = {zone(0.2)};
  EXPECT_FALSE(std::isfinite(expected_operation(relay, quiet, faulted, 1).time_s)) << "11.25 ohm";
  relay.functions = {zone(network::unset)};
  EXPECT_TRUE(std::isfinite(expected_operation(relay, quiet, faulted, 1).time_s))
      << "3.4 ohm, by the relay's";
}

}  // namespace
}  // namespace zavrek::protection
