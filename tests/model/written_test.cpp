// A network with its control written out in C, beside the Model of the same: every kind of block, every
// function of a formula, and a control that closes its loop over gates, knobs and breakers.
#include <cmath>
#include <random>

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "control/written/blocks.hpp"
#include "emt/converters.hpp"
#include "emt/running.hpp"
#include "emt/written_library.hpp"
#include "zavrek/model.hpp"

namespace zavrek::model {
namespace {

using namespace control;
using test::Written;

template <class Kind>
Kind& add(Description& to, const std::string& name) {
  Kind& block = to.blocks.emplace_back().emplace<Kind>();
  block.name = name;
  return block;
}

/// Both of them, with all outputs of the control and `signals`, step by step.
struct Pair {
  Pair(const network::Network& network, const Description& control, std::vector<std::string> signals,
       const std::string& beside = "")
      : names(std::move(signals)) {
    const Controller controller(control, emt::compile(network).signal_names());
    names.insert(names.end(), controller.outputs().begin(), controller.outputs().end());
    model.emplace(beside.empty() ? network : test::among_many(network, beside), control, names);
    written.emplace(write_c(network, control, {.name = "it", .title = "a test", .outputs = names}));
    peak.assign(names.size(), 0.0);
    difference.assign(names.size(), 0.0);
  }
  void set(const std::string& name, double value) {
    for (std::size_t k = 0; k < model->inputs().size(); ++k) {
      if (model->inputs()[k].name == name) model->set_input(k, value);
    }
    for (std::size_t k = 0; k < model->parameters().size(); ++k) {
      if (model->parameters()[k].name == name) model->set_parameter(k, value);
    }
    EXPECT_EQ(written->set(name, value), 0) << name;
  }
  void run(int steps) {
    for (int k = 0; k < steps; ++k) {
      ASSERT_TRUE(model->step()) << model->failure();
      ASSERT_EQ(written->step(), 0);
      for (std::size_t s = 0; s < names.size(); ++s) {
        const double value = model->output(s);
        peak[s] = std::max(peak[s], std::abs(value));
        difference[s] = std::max(difference[s], std::abs(value - written->get(s)));
      }
    }
  }
  void agree(double within) const {
    for (std::size_t s = 0; s < names.size(); ++s)
      EXPECT_LE(difference[s], within * std::max(peak[s], 1.0)) << names[s] << " of " << peak[s];
  }
  [[nodiscard]] double peak_of(const std::string& name) const {
    return peak[static_cast<std::size_t>(std::find(names.begin(), names.end(), name) - names.begin())];
  }
  std::vector<std::string> names;
  std::optional<Model> model;
  std::optional<Written> written;
  std::vector<double> peak, difference;
};

network::Network quiet() {
  network::Network n;
  n.step_s = 50e-6;
  n.frequency_Hz = 49.3;  // no window holds whole cycles
  n.buses = {{"bar", 400}};
  n.elements = {
      network::Source{
          .name = "grid", .bus = "bar", .short_circuit_VA = 1e6, .harmonics = {{5, 0.06}, {7, 0.03}}},
      network::Branch{.name = "lamp", .between = {"bar.a", "ground"}, .resistance_ohm = 2},
      network::Branch{
          .name = "load", .between = {"bar", "ground"}, .resistance_ohm = 5, .inductance_H = 10e-3}};
  return n;
}

/// Every kind that needs neither gate nor knob nor breaker; names are the kinds'.
Description all_kinds() {
  Description d;
  d.period_s = 100e-6;
  const std::vector<std::string> phases{"bar.va", "bar.vb", "bar.vc"};
  add<Clock>(d, "clock").values = {{0, 0}, {0.05, 1}, {0.06, 0}, {0.15, 2}};
  auto& pll = add<PhaseLock>(d, "pll");
  pll.a = "bar.va", pll.b = "bar.vb", pll.c = "bar.vc";
  auto& to_dq = add<ToDq>(d, "dq");
  to_dq.a = "bar.va", to_dq.b = "bar.vb", to_dq.c = "bar.vc", to_dq.angle = "pll.angle";
  auto& from_dq = add<FromDq>(d, "abc");
  from_dq.d = "dq.d", from_dq.q = "-dq.q", from_dq.angle = "pll.angle";
  auto& alpha = add<ToAlphaBeta>(d, "fixed");
  alpha.a = "bar.va", alpha.b = "bar.vb", alpha.c = "bar.vc";
  auto& back = add<FromAlphaBeta>(d, "back");
  back.alpha = "fixed.alpha", back.beta = "fixed.beta";
  auto& sogi = add<IntegratorLock>(d, "sogi");
  sogi.input = "bar.va";
  auto& parts = add<Separation>(d, "parts");
  parts.a = "bar.va", parts.b = "bar.vb", parts.c = "bar.vc", parts.angle = "pll.angle";
  auto& power = add<Power>(d, "power");
  power.va = "bar.va", power.vb = "bar.vb", power.vc = "bar.vc";
  power.ia = "load.ia", power.ib = "load.ib", power.ic = "load.ic";
  auto& rotor = add<Rotor>(d, "rotor");
  rotor.frequency = "7.3";
  rotor.period_s = 300e-6;
  auto& rms = add<Rms>(d, "rms");
  rms.input = "bar.va";
  auto& sum = add<Sum>(d, "sum");
  sum.inputs = {"bar.va", "-bar.vb", "12 V"}, sum.gain = 0.3;
  auto& product = add<Product>(d, "product");
  product.inputs = {"sum", "dq.d", "0.01"};
  auto& pi = add<control::Pi>(d, "pi");
  pi.input = "sum", pi.integral_per_s = 30, pi.derivative_s = 1e-4, pi.low = -50, pi.high = 60;
  pi.reset = "logic", pi.start = 5;
  auto& low_pass = add<LowPass>(d, "low_pass");
  low_pass.input = "rms", low_pass.time_s = 5e-3, low_pass.start = 3;
  auto& transfer = add<Transfer>(d, "transfer");
  transfer.input = "sum", transfer.numerator = {"1", "40"}, transfer.denominator = {"1e-4", "0.02", "1"};
  auto& limiter = add<Limiter>(d, "limiter");
  limiter.input = "bar.va", limiter.low = -200, limiter.high = 250;
  limiter.rise_per_s = 4e4, limiter.fall_per_s = 6e4;
  auto& curve = add<CurveBlock>(d, "curve");
  curve.input = "bar.va", curve.points = {"-100: 4", "0: 1", "250: 9"};
  auto& delay = add<Delay>(d, "delay");
  delay.input = "sum", delay.periods = 7, delay.start = 2;
  auto& above = add<Comparator>(d, "above");
  above.input = "bar.va", above.on_above = 150, above.off_below = -40;
  auto& timer = add<Timer>(d, "timer");
  timer.input = "above", timer.on_delay_s = 2e-3, timer.off_delay_s = 4e-3;
  auto& latch = add<LatchBlock>(d, "latch");
  latch.set = "timer", latch.reset = "machine.on";
  auto& logic = add<LogicBlock>(d, "logic");
  logic.inputs = {"above", "latch"};
  for (const std::string operation : {"or", "not", "exclusive or"}) {
    auto& other = add<LogicBlock>(d, operation == "exclusive or" ? "odd" : operation + "_of");
    other.operation = operation, other.inputs = {"above", "latch", "timer"};
  }
  auto& select = add<Select>(d, "select");
  select.when = "above", select.then = "rms", select.otherwise = "-clock";
  auto& counter = add<Counter>(d, "counter");
  counter.input = "above", counter.wraps_at = 3;
  add<Setpoint>(d, "wanted").value = 4;
  auto& sensor = add<Sensor>(d, "sensor");
  sensor.input = "bar.va", sensor.gain = 1.01, sensor.offset = 2, sensor.noise = 3, sensor.resolution = 0.5;
  sensor.low = -280;
  auto& tracker = add<PowerTracker>(d, "tracker");
  tracker.voltage = "rms", tracker.current = "2", tracker.high = 40, tracker.period_s = 1e-3;
  auto& machine = add<Sequence>(d, "machine");
  machine.states = {"off", "on", "tripped"};
  machine.steps = {"off > on: above and t > 0.01 after 1 ms", "on > off: bar.va < -100",
                   "* > tripped: clock > 1.5"};
  auto& plan = add<Plan>(d, "plan");
  plan.input = "sum", plan.beat = "counter", plan.otherwise = "-3", plan.lasts_s = 0.015;
  auto& shed = add<LoadShedding>(d, "shed");
  shed.lost = "machine.on", shed.available = "sum", shed.restore_after_s = 1e-3;
  shed.loads = {"light: 30", "heat: rms", "crane: 20"};
  auto& meets = add<Synchroniser>(d, "meets");
  meets.amplitude_1 = "dq.d", meets.frequency_1 = "pll.frequency", meets.angle_1 = "pll.angle";
  meets.amplitude_2 = "sogi.amplitude", meets.frequency_2 = "sogi.frequency", meets.angle_2 = "sogi.angle";
  meets.lasts_s = 5e-3, meets.closing_time_s = 20e-3;
  auto& vehicle = add<Vehicle>(d, "vehicle");
  vehicle.front = "select", vehicle.rear = "4 kNm", vehicle.brake = "clock", vehicle.slope = "0.03";
  vehicle.mass_kg = 2000, vehicle.drawn_kg = 500, vehicle.radius_m = 0.5, vehicle.axle_inertia_kgm2 = 4;
  vehicle.ratio = 3, vehicle.efficiency = 0.95, vehicle.drag_area_m2 = 2, vehicle.brake_force_N = 9e3;
  const std::vector<std::string> formulas{
      "sin(pi*t) + cos(t) * tan(0.3*t) - asin(bar.va/300) / acos(bar.vb/200)",
      "atan(sum) + exp(-t) + log(rms) - sqrt(rms) * abs(sum)",
      "sign(sum) + floor(sum/7) + min(sum, 3) + max(sum, -2) + atan2(bar.va, bar.vb)",
      "hypot(bar.va, bar.vb) + mod(sum, 7) + if(above, 2^1.5, -(3)) + clamp(sum, -1, 5)",
      "if(not (sum < 3 and rms >= 2) or sum > 90 or (sum <= -5 and sum != 1), 1, 2/3)",
      "(sum == 0) + 7/(above - above)"};
  for (const std::string& formula : formulas)
    add<Expression>(d, "f" + std::to_string(&formula - formulas.data())).formula = formula;
  return d;
}

TEST(ControlInC, RunsEveryKindOfBlockAlike) {
  Pair pair(quiet(), all_kinds(), {"bar.va", "load.ia"});
  ASSERT_TRUE(pair.written->stands());
  pair.run(2000);
  pair.set("wanted", 11);
  pair.set("sensor.offset", 30);
  pair.set("pi.proportional", 0.2);
  pair.set("sensor.frozen", 0);
  pair.run(2000);
  pair.agree(1e-9);
  EXPECT_EQ(pair.peak_of("wanted"), 11);
  // Nothing is compared that only stood still.
  for (const char* name : {"timer", "latch", "logic", "odd", "counter", "machine.tripped", "shed", "meets",
                           "plan.fresh", "vehicle", "sensor", "tracker", "f4", "back.c", "parts.negative_d"})
    EXPECT_GT(pair.peak_of(name), 0) << name;
}

/// Kinds that the case above and the one below do not hold would go without.
TEST(ControlInC, KnowsAllKinds) {
  std::set<std::size_t> held;
  for (const Block& block : all_kinds().blocks) held.insert(block.index());
  for (const Block& driving : {Block(Modulator{}), Block(Firing{}), Block(GateDrive{}), Block(Actuator{}),
                               Block(CommandBlock{}), Block(OwnCode{})})
    held.insert(driving.index());
  EXPECT_EQ(held.size(), std::variant_size_v<Block>);
}

/// Blocks of many kinds, numbers and wires as chance has it; what is random is the same for a seed anywhere.
class Chance {
 public:
  explicit Chance(unsigned seed) : random_(seed) {}
  double between(double low, double high) {
    return low + (high - low) * static_cast<double>(random_() % 100'000) / 100'000;
  }
  int up_to(int most) { return static_cast<int>(random_() % static_cast<unsigned>(most + 1)); }
  /// Of what there is so far; now and then its negative, or a number.
  std::string wire(const std::vector<std::string>& known) {
    const int which = up_to(9);
    if (which == 0) return std::to_string(between(0.1, 3));
    const std::string& name = known[static_cast<std::size_t>(up_to(static_cast<int>(known.size()) - 1))];
    return which < 3 ? "-" + name : name;
  }

 private:
  std::mt19937 random_;
};

Description by_chance(unsigned seed) {
  Chance chance(seed);
  Description d;
  d.period_s = 100e-6;
  std::vector<std::string> known{"w0", "w1", "w2"};
  for (const std::string& name : known) {
    auto& wave = add<Expression>(d, name);
    wave.formula = fmt::format("{} * sin({} * t + {}) + {}", chance.between(1, 5), chance.between(50, 900),
                               chance.between(0, 6), chance.between(-1, 1));
  }
  for (int k = 0; k < 24; ++k) {
    const std::string name = "b" + std::to_string(k);
    const auto wire = [&] { return chance.wire(known); };
    const double period = chance.up_to(2) == 0 ? 300e-6 : 100e-6;
    const auto put = [&]<class Kind>(Kind block) {
      block.name = name;
      block.period_s = period;
      d.blocks.emplace_back(block);
    };
    switch (chance.up_to(15)) {
      case 0:
        put(Sum{.inputs = {wire(), wire(), wire()}, .gain = chance.between(-2, 2)});
        break;
      case 1:
        put(Product{.inputs = {wire(), wire()}});
        break;
      case 2:
        put(control::Pi{.input = wire(),
                        .proportional = chance.between(0, 1),
                        .integral_per_s = chance.between(0, 20),
                        .derivative_s = 1e-4,
                        .low = -3,
                        .high = 4,
                        .reset = wire(),
                        .start = 0.5});
        break;
      case 3:
        put(LowPass{.input = wire(), .time_s = chance.between(1e-3, 0.1), .start = 1});
        break;
      case 4:
        put(Transfer{.input = wire(), .numerator = {"0.01", "1"}, .denominator = {"2e-4", "0.03", "1"}});
        break;
      case 5:
        put(Limiter{.input = wire(),
                    .low = -2,
                    .high = 1.5,
                    .rise_per_s = chance.between(10, 900),
                    .fall_per_s = chance.between(10, 900)});
        break;
      case 6:
        put(Delay{.input = wire(), .periods = 1 + chance.up_to(30), .start = chance.between(-1, 1)});
        break;
      case 7:
        put(Comparator{
            .input = wire(), .on_above = chance.between(0, 1), .off_below = chance.between(-1, 0)});
        break;
      case 8:
        put(Timer{
            .input = wire(), .on_delay_s = chance.between(0, 3e-3), .off_delay_s = chance.between(0, 3e-3)});
        break;
      case 9:
        put(LatchBlock{.set = wire(), .reset = wire()});
        break;
      case 10:
        put(Select{.when = wire(), .then = wire(), .otherwise = wire()});
        break;
      case 11:
        put(Counter{.input = wire(), .reset = wire(), .wraps_at = chance.up_to(5)});
        break;
      case 12:
        put(Rms{.input = wire(), .window_s = chance.between(1e-3, 0.01)});
        break;
      case 13:
        put(Plan{
            .input = wire(), .beat = wire(), .otherwise = wire(), .lasts_s = chance.between(1e-3, 0.01)});
        break;
      case 14:
        put(CurveBlock{.input = wire(), .points = {"-1: 2", "0.5: -1", "2: 3"}});
        break;
      default:
        put(Sensor{.input = wire(),
                   .gain = chance.between(0.5, 2),
                   .noise = 0.1,
                   .resolution = chance.between(0.01, 0.2),
                   .seed = k});
        break;
    }
    known.push_back(name);
  }
  return d;
}

TEST(ControlInC, RunsWhateverIsWiredAlike) {
  for (unsigned seed = 1; seed <= 12; ++seed) {
    SCOPED_TRACE(seed);
    Pair pair(quiet(), by_chance(seed), {"bar.va"});
    ASSERT_TRUE(pair.written->stands());
    pair.run(1500);
    pair.agree(1e-9);
  }
}

/// Several turns within a step, and steps without one.
TEST(ControlInC, HasItsTurnsAtItsPeriodWhateverTheStepIs) {
  for (const double period : {20e-6, 50e-6, 70e-6, 1e-3}) {
    SCOPED_TRACE(period);
    Description d;
    d.period_s = period;
    auto& turns = add<Sum>(d, "turns");
    turns.inputs = {"before", "1"};
    auto& before = add<Delay>(d, "before");
    before.input = "turns";
    auto& volts = add<LowPass>(d, "volts");
    volts.input = "bar.va", volts.time_s = 3e-3;
    Pair pair(quiet(), d, {"bar.va"});
    ASSERT_TRUE(pair.written->stands());
    pair.run(1000);
    pair.agree(1e-9);
    EXPECT_NEAR(pair.peak_of("turns"), 1000 * 50e-6 / period, 2);
  }
}

TEST(ControlInC, KeepsWhatIsSetWithinItsBoundsAndIsSavedByACopy) {
  Pair pair(quiet(), all_kinds(), {"bar.va"});
  ASSERT_TRUE(pair.written->stands());
  pair.set("wanted", 1e40);  // a set point has no bounds
  pair.set("sensor.frozen", 7);
  pair.set("pi.low", -1);
  pair.run(300);
  pair.agree(1e-9);
  EXPECT_EQ(pair.written->set("wanted", std::nan("")), 1);
  EXPECT_EQ(pair.written->set("wantd", 1), 1);
  pair.set("sensor.frozen", 0);
  const std::vector<double> kept = pair.written->memory();
  std::vector<std::vector<double>> seen(2);
  for (std::vector<double>& into : seen) {
    pair.written->remember(kept);
    for (int k = 0; k < 400; ++k) {
      ASSERT_EQ(pair.written->step(), 0);
      for (std::size_t s = 0; s < pair.names.size(); ++s) into.push_back(pair.written->get(s));
    }
  }
  EXPECT_EQ(seen[0], seen[1]) << "to the bit";
}

TEST(ControlInC, NamesAndUnitsStandInItsHeader) {
  Description d = all_kinds();
  const emt::WrittenModel model = write_c(
      quiet(), d, {.name = "it", .title = "a test", .outputs = {"pll.frequency", "bar.va", "shed.kept"}});
  for (const char* line :
       {"it_out_pll_frequency, /* pll.frequency, Hz */", "it_out_bar_va, /* bar.va, V */",
        "it_in_wanted, /* wanted, 1 */", "it_in_sensor_frozen, /* sensor.frozen, 1: 0 to 1 */"})
    EXPECT_NE(model.header.find(line), std::string::npos) << line << "\n" << model.header.substr(0, 3000);
  const emt::WrittenModel alone = write_c(quiet(), {}, {.name = "it", .title = "", .outputs = {"bar.va"}});
  EXPECT_EQ(alone.source.find("control_run"), std::string::npos) << "nothing of a control without one";
  EXPECT_EQ(alone.source.find("run_pi"), std::string::npos);
  d.blocks.resize(2);  // a program and a phase lock
  const emt::WrittenModel few = write_c(quiet(), d, {.name = "it", .title = "", .outputs = {"clock"}});
  EXPECT_NE(few.source.find("static void run_phase_lock("), std::string::npos);
  EXPECT_NE(few.source.find("static void to_dq("), std::string::npos) << "what that one calls";
  EXPECT_EQ(few.source.find("static void run_vehicle("), std::string::npos)
      << "what is not wired is not written";
}

/// Two and three levels, centred or not, one and two halves of a carrier in an execution.
TEST(ControlInC, ModulatesAlike) {
  for (const bool three : {false, true}) {
    for (const bool centred : {false, true}) {
      for (const double period : {50e-6, 100e-6}) {
        SCOPED_TRACE(std::to_string(three) + std::to_string(centred) + std::to_string(period));
        network::Network n = test::filtered_converter(three);
        n.step_s = 5e-6;
        Description d = test::CarrierFeeder::description(three);
        d.period_s = period;
        auto& pwm = std::get<Modulator>(d.blocks.back());
        pwm.third_harmonic = centred;
        pwm.enable = "t_on";
        pwm.offset = "0.05";
        add<Clock>(d, "t_on").values = {{0, 1}, {12e-3, 1}, {12.1e-3, 0}, {14e-3, 0}, {14.1e-3, 1}};
        Pair pair(n, d, {"L1.ia", "filter.vb", "C2.v"}, "filter");
        ASSERT_TRUE(pair.written->stands());
        pair.run(4000);
        pair.agree(1e-8);
        EXPECT_GT(pair.peak_of("L1.ia"), 20);
      }
    }
  }
}

TEST(ControlInC, ClosesALoopOverGatesKnobsAndBreakers) {
  network::Network n = test::filtered_converter(false);
  n.step_s = 2e-6;
  n.buses.push_back({"six", 750, "pn"});
  n.buses.push_back({"spur", 400});
  n.elements.push_back(network::Bridge{
      .name = "R", .topology = "two-level", .dc = "six", .ac = "spur", .device = "thyristor"});
  n.elements.push_back(network::Branch{
      .name = "sink", .between = {"six.p", "six.n"}, .resistance_ohm = 30, .inductance_H = 20e-3});
  n.elements.push_back(
      network::Branch{.name = "earthing", .between = {"six.n", "ground"}, .resistance_ohm = 200});
  n.elements.push_back(
      network::Breaker{.name = "Q", .between = {"low", "spur"}, .closed = false, .closing_time_s = 3e-3});
  n.elements.push_back(
      network::Valve{.name = "bypass", .device = "transistor", .from = "six.p", .to = "six.n"});
  Description d = test::CarrierFeeder::description(false);
  auto& pll = add<PhaseLock>(d, "pll");
  pll.a = "low.va", pll.b = "low.vb", pll.c = "low.vc";
  auto& closes = add<Clock>(d, "closes");
  closes.values = {{0, 0}, {2e-3, 0}, {2.1e-3, 1}, {40e-3, 1}, {40.1e-3, 0}};
  auto& q = add<CommandBlock>(d, "q");
  q.operates = "Q", q.input = "closes";
  auto& volts = add<Sum>(d, "volts");
  volts.inputs = {"750", "clock_V"};
  add<Clock>(d, "clock_V").values = {{0, 0}, {10e-3, 0}, {30e-3, -60}};
  auto& knob = add<Actuator>(d, "knob");
  knob.knob = "battery.voltage", knob.input = "volts";
  auto& firing = add<Firing>(d, "firing");
  firing.bridge = "R", firing.angle = "pll.angle", firing.frequency = "pll.frequency", firing.delay = "0.6";
  firing.enable = "closes";
  auto& gate = add<GateDrive>(d, "gate");
  gate.gate = "bypass", gate.input = "late";
  add<Expression>(d, "late").formula = "t > 0.03 and mod(t, 0.004) < 0.001";
  Pair pair(n, d, {"L1.ia", "L2.ib", "filter.vc", "sink.ia", "C2.v"}, "filter");
  ASSERT_TRUE(pair.written->stands());
  pair.run(25000);
  pair.agree(1e-8);
  EXPECT_GT(pair.peak_of("sink.ia"), 5) << "thyristors conduct";
}

/// What drives a knob beyond its range stays at the end of that, what is no number does nothing, a breaker
/// that may not close does not.
TEST(ControlInC, DrivesNothingBeyondItsBounds) {
  network::Network n = quiet();
  n.buses.push_back({"far", 400});
  n.elements.push_back(network::DcSource{.name = "e", .bus = "dc", .voltage_V = 100, .resistance_ohm = 1});
  n.elements.push_back(
      network::Branch{.name = "sink", .between = {"dc.p", "dc.n"}, .resistance_ohm = 9, .inductance_H = 0.1});
  n.elements.push_back(network::Branch{.name = "earth", .between = {"dc.n", "ground"}, .resistance_ohm = 50});
  n.buses.push_back({"dc", 100, "pn"});
  n.elements.push_back(network::Breaker{.name = "Q", .between = {"bar", "far"}});
  n.elements.push_back(
      network::EarthingSwitch{.name = "E", .bus = "far", .travel_time_s = 2e-3, .only_when_open = {"Q"}});
  n.elements.push_back(
      network::Load{.name = "lamps", .bus = "far", .active_W = 5e3, .connection = "grounded star"});
  Description d;
  d.period_s = 200e-6;
  add<Expression>(d, "volts").formula =
      "if(t < 0.02, 80, if(t < 0.04, exp(700) * exp(700), if(t < 0.06, -exp(700), 150)))";
  auto& knob = add<Actuator>(d, "knob");
  knob.knob = "e.voltage", knob.input = "volts";
  add<Expression>(d, "earths").formula = "(t > 0.01 and t < 0.02) or t > 0.05";
  auto& earth = add<CommandBlock>(d, "earth_order");
  earth.operates = "E", earth.input = "earths";
  add<Expression>(d, "closes").formula = "t < 0.03";
  auto& order = add<CommandBlock>(d, "order");
  order.operates = "Q", order.input = "closes";
  Pair pair(n, d, {"sink.ia", "far.va", "lamps.ia", "E.closed", "Q.closed"});
  ASSERT_TRUE(pair.written->stands());
  pair.run(1600);
  for (std::size_t s = 0; s < pair.names.size(); ++s) {
    if (pair.names[s] == "volts" || pair.names[s] == "knob") continue;  // infinite for a while
    EXPECT_LE(pair.difference[s], 1e-8 * std::max(pair.peak[s], 1.0)) << pair.names[s];
  }
  EXPECT_EQ(pair.peak_of("E.closed"), 1) << "once Q was open";
}

TEST(ControlInC, NamesWhatCannotBeWritten) {
  Description d;
  add<OwnCode>(d, "mine").library = "mine.so";
  EXPECT_EQ(emt::message_of([&] { (void)control::internal::written(d.blocks.front(), 1e-4); }),
            "own.mine: is code of its own, which is not written out in C");
  d.blocks.clear();
  add<Setpoint>(d, "wanted").value = 4;
  EXPECT_EQ(
      emt::message_of([&] { (void)write_c(quiet(), d, {.name = "it", .title = "", .outputs = {"wantd"}}); }),
      "\"wantd\" is no signal of the network");
}

}  // namespace
}  // namespace zavrek::model
