// A relay that takes over the state of another goes on as that one does, whatever its functions are.
#include <random>
#include <set>

#include <gtest/gtest.h>

#include "protection/relays.hpp"

namespace zavrek::protection {
namespace {

template <class Kind>
Kind quick(const std::string& name) {
  Kind made;
  made.name = name;
  made.delay_s = 0.03;
  return made;
}

/// One of every kind, so that each of them starts and rests while quantities wander.
std::vector<FunctionSettings> one_of_each() {
  auto stage = quick<Stage>("stage");
  stage.pickup_A = 400;
  stage.reset = "definite";
  stage.reset_delay_s = 0.05;
  auto curve = inverse("curve", "IEEE very inverse", 150, 0.05);
  curve.reset = "inverse";
  auto held = quick<Stage>("held");
  held.pickup_A = 300;
  held.direction = "forward";
  held.second_harmonic = 0.15;
  auto over = quick<VoltageStage>("over");
  over.pickup_V = 9000;
  auto frequency = quick<FrequencyStage>("frequency");
  frequency.pickup_Hz = 49.8;
  auto rate = quick<FrequencyStage>("rate");
  rate.when = "falling";
  rate.rate_Hz_per_s = 1;
  auto zone = quick<Zone>("zone");
  zone.reach_ohm = 20;
  zone.resistive_reach_ohm = 10;
  auto mho = quick<Zone>("mho");
  mho.shape = "mho";
  mho.reach_ohm = 15;
  const auto swing = function<PowerSwing>("swing", [](PowerSwing& s) {
    s.outer_ohm = 40;
    s.inner_ohm = 15;
    s.least_time_s = 0.01;
    s.hold_s = 0.3;
  });
  const auto onto = function<SwitchOntoFault>("onto", [](SwitchOntoFault& s) {
    s.when = "stage.start";
    s.dead_voltage_V = 3000;
    s.dead_current_A = 200;
    s.dead_for_s = 0.02;
  });
  const auto differential = function<Differential>("differential", [](Differential& d) {
    d.rated_currents = {"300 A", "300 A"};
    d.hours = {"0", "0"};
    d.earthed = {"no", "no"};
    d.second_harmonic = 0.2;
    d.delay_s = 0.01;
  });
  const auto failure = function<BreakerFailure>("failure", [](BreakerFailure& f) {
    f.current_A = 200;
    f.delay_s = 0.05;
    f.started_by = "stage.trip";
  });
  const auto reclose = function<Reclose>("reclose", [](Reclose& r) {
    r.started_by = "stage.trip";
    r.closed = "input.closed";
    r.dead_times = {"50 ms", "100 ms"};
    r.reclaim_s = 0.3;
  });
  const auto synchro = function<Synchrocheck>("synchro", [](Synchrocheck& s) {
    s.voltage_V = 2000;
    s.difference_V = 6000;
    s.delay_s = 0.01;
    s.slip_Hz = 20;
    s.angle_rad = 2;
  });
  const auto thermal = function<Thermal>("thermal", [](Thermal& t) {
    t.rated_A = 250;
    t.time_constant_s = 0.5;
  });
  auto power = quick<PowerStage>("power");
  power.pickup_W = 2e5;
  auto potential = quick<LossOfPotential>("potential");
  potential.negative_V = 500;
  potential.negative_current_A = 100;
  potential.collapsed_V = 2000;
  potential.change_A = 100;
  auto unbalance = quick<Unbalance>("unbalance");
  unbalance.pickup = 0.2;
  unbalance.least_current_A = 50;
  auto earth = quick<EarthPower>("earth");
  earth.pickup_A = 20;
  earth.voltage_V = 300;
  const auto restricted = function<RestrictedEarth>("restricted", [](RestrictedEarth& r) {
    r.pickup_A = 50;
    r.delay_s = 0.02;
  });
  auto flux = quick<Overfluxing>("flux");
  flux.rated_voltage_V = 8000;
  auto field = quick<FieldLoss>("field");
  field.offset_ohm = 1;
  field.diameter_ohm = 60;
  const auto slip = function<PoleSlip>("slip", [](PoleSlip& p) {
    p.blinder_ohm = 8;
    p.forward_ohm = 60;
    p.reverse_ohm = 60;
    p.least_time_s = 0;
  });
  const auto motor = function<MotorStart>("motor", [](MotorStart& m) {
    m.rated_A = 150;
    m.longest_s = 0.05;
    m.stalled = 2;
    m.stall_delay_s = 0.02;
  });
  const auto shift = function<VectorShift>("shift", [](VectorShift& v) {
    v.angle_rad = 0.2;
    v.least_voltage_V = 1000;
  });
  const auto watch = function<CurrentWatch>("watch", [](CurrentWatch& w) {
    w.residual_current_A = 20;
    w.residual_voltage_V = 4000;
    w.delay_s = 0.02;
  });
  const auto logic = function<Logic>("logic", [](Logic& l) {
    l.when = "stage.start or curve.start";
    l.on_delay_s = 0.02;
    l.off_delay_s = 0.03;
  });
  const auto latch = function<Latch>("latch", [](Latch& l) {
    l.set = "stage.trip";
    l.reset = "not stage.start";
  });
  const auto output = function<Output>("alarm", [](Output& o) { o.when = "logic or latch"; });
  return {stage,        curve,   held,    over,    frequency, rate,  zone,      mho,       swing, onto,
          differential, failure, reclose, synchro, thermal,   power, potential, unbalance, earth, restricted,
          flux,         field,   slip,    motor,   shift,     watch, logic,     latch,     output};
}

/// Two places whose quantities jump to others every so often, with some frequency of their own.
class Wandering {
 public:
  std::array<Sample, 2> next() {
    std::array<Sample, 2> samples;
    if (--left_ <= 0) {
      left_ = std::uniform_int_distribution<int>(100, 700)(random_);
      for (Steady& place : places_) {
        place = Steady::balanced(of(0, 700), of(-pi, pi), of(0, 9000));
        place.frequency_Hz = of(48.5, 51.5);
        if (of(0, 1) < 0.5) place.current[0] *= of(0, 1.5);
        if (of(0, 1) < 0.5) place.voltage[0] *= of(0, 1.2);
      }
      if (of(0, 1) < 0.3) places_[1] = places_[0];
    }
    for (std::size_t k = 0; k < 2; ++k) samples[k] = places_[k].at(static_cast<double>(number_) / rate_Hz);
    ++number_;
    return samples;
  }
  [[nodiscard]] bool coin() { return of(0, 1) < 0.002; }

 private:
  double of(double low, double high) { return std::uniform_real_distribution<double>(low, high)(random_); }
  std::mt19937 random_{7};
  std::array<Steady, 2> places_;
  int left_ = 0;
  long long number_ = 0;
};

TEST(RelayState, IsTakenOverByAnotherOfTheSameSettings) {
  RelaySettings settings = relay_of(one_of_each());
  std::set<std::size_t> kinds;
  for (const FunctionSettings& function : settings.functions) kinds.insert(function.index());
  ASSERT_EQ(kinds.size(), std::variant_size_v<FunctionSettings>) << "one of each kind";
  settings.decisions = 20;
  Relay first(settings, rate_Hz, 50, 2);
  Wandering world;
  std::vector<int> changed(first.signals().size(), 0);
  std::vector<std::byte> kept;
  std::optional<Relay> second;
  bool closed = true;
  for (int k = 0; k < 60'000; ++k) {
    if (k % 3000 == 1234) {  // another takes over, wherever windows and delays stand
      StateArchive out(kept);
      first.visit_state(out);
      ASSERT_TRUE(out.whole());
      second.emplace(settings, rate_Hz, 50, 2);
      StateArchive back{std::span<const std::byte>(kept)};
      second->visit_state(back);
    }
    if (world.coin()) closed = !closed;
    const auto samples = world.next();
    std::vector<bool> before;
    for (std::size_t s = 0; s < changed.size(); ++s) before.push_back(first.signal(s));
    for (Relay* relay : {&first, second ? &*second : nullptr}) {
      if (!relay) continue;
      for (std::size_t i = 0; i < relay->inputs().size(); ++i) relay->set_input(i, closed);
      (void)relay->push(samples);
    }
    for (std::size_t s = 0; s < changed.size(); ++s) {
      changed[s] += first.signal(s) != before[s] ? 1 : 0;
      if (!second) continue;
      ASSERT_EQ(first.signal(s), second->signal(s)) << first.signals()[s] << ", sample " << k;
    }
    if (!second) continue;
    ASSERT_EQ(first.tripped_by(), second->tripped_by());
  }
  // What never changes proves nothing.
  for (std::size_t s = 0; s < changed.size(); ++s) {
    const std::string& name = first.signals()[s];
    if (name.ends_with(".start") || name.find('.') == std::string::npos) {
      EXPECT_GT(changed[s], 0) << name;
    }
  }
}

}  // namespace
}  // namespace zavrek::protection
