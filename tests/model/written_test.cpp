// A network with its control written out in C, beside the Model of the same: every kind of block, every
// function of a formula, and a control that closes its loop over gates, knobs and breakers.
#include <cmath>

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
