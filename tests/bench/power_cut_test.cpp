// A device at an amplifier: what is reckoned of its loop beforehand against what the loop does, and the port
// against the network without a cut.
#include <gtest/gtest.h>

#include <cmath>
#include <complex>
#include <deque>
#include <numbers>
#include <random>

#include <unistd.h>

#include "bench/probe.hpp"
#include "zavrek/bench.hpp"
#include "zavrek/bench/stand_ins.hpp"

namespace zavrek::bench {
namespace {

constexpr double cut_step_s = 50e-6;

/// A stiff source behind R and L, with R to ground at the bus, from which a current is drawn.
network::Network cut_network(double ohm, double henry, double shunt_ohm) {
  network::Network network;
  network.step_s = cut_step_s;
  network.buses = {{"quay", 400}, {"box", 400}};
  network.elements = {
      network::Source{.name = "grid", .bus = "quay"},
      network::Branch{
          .name = "feeder", .between = {"quay", "box"}, .resistance_ohm = ohm, .inductance_H = henry},
      network::Load{.name = "lights",
                    .bus = "box",
                    .active_W = 400 * 400 / shunt_ohm,
                    .reactive_var = 0,
                    .connection = "grounded star"},
      network::ImposedCurrent{.name = "device", .bus = "box"}};
  return network;
}

TEST(StepResponse, IsThatOfTheTrapezoidalRule) {
  const StepResponse response = step_response(cut_network(0.5, 1e-3, 40), "device", 4096);
  ASSERT_EQ(response.positive.size(), 4096U);
  for (const double at_Hz : {50.0, 700.0, 5000.0, 9500.0}) {
    const auto back = std::polar(1.0, -2 * std::numbers::pi * at_Hz * cut_step_s);
    const std::complex<double> series = 0.5 + 1e-3 * (2 / cut_step_s) * (1.0 - back) / (1.0 + back);
    const std::complex<double> wanted = 1.0 / (1.0 / series + 1.0 / 40);
    for (const auto* mode : {&response.positive, &response.zero}) {
      std::complex<double> is = 0;
      for (std::size_t k = 0; k < mode->size(); ++k) is += (*mode)[k] * std::pow(back, k);
      EXPECT_LT(std::abs(is - wanted), 1e-3 * std::abs(wanted)) << at_Hz;
    }
  }
  EXPECT_THROW((void)step_response(cut_network(0.5, 1e-3, 40), "lights", 10), Error);
}

LoopOfCut loop_with(double ohm, double henry, double scale = 1) {
  LoopOfCut loop;
  loop.resistance_ohm = ohm;
  loop.inductance_H = henry;
  loop.scale = scale;
  return loop;
}

/// A loop of resistances is stable while the model's is the smaller, whatever the delay.
TEST(Cut, OfResistancesIsStableByTheirRatio) {
  for (const double delay_s : {0.0, 100e-6, 1e-3}) {
    const StepResponse model = step_response(cut_network(1, 0, 1e6), "device", 4096);
    for (const auto& [device_ohm, stable] :
         {std::pair{0.9, false}, std::pair{1.1, true}, std::pair{2.0, true}}) {
      LoopOfCut loop = loop_with(device_ohm, 0);
      loop.delay_s = delay_s;
      const CutJudgement judgement = judge_loop(model, loop, 50);
      EXPECT_EQ(judgement.stable, stable) << device_ohm;
      EXPECT_NEAR(judgement.gain_margin, device_ohm, 0.01 * device_ohm);
      EXPECT_NEAR(judgement.delay_s, delay_s + cut_step_s, 1e-9);
      EXPECT_EQ(judgement.words.starts_with("stable"), stable) << judgement.words;
    }
    // Half of the currents are fed back, or they come by a transformer of 2 : 1.
    LoopOfCut half = loop_with(0.9, 0);
    half.share = 0.5;
    EXPECT_TRUE(judge_loop(model, half, 50).stable);
    EXPECT_TRUE(judge_loop(model, loop_with(0.9, 0, 0.5), 50).stable);
    EXPECT_FALSE(judge_loop(model, loop_with(1.9, 0, 2), 50).stable);
  }
}

/// The largest voltage behind some hundred steps of the loop as it runs: model, delays, device.
double grown(const network::Network& network, const LoopOfCut& of) {
  emt::Plant plant = emt::compile(network);
  LoadAtBoard load;
  load.resistance_ohm = of.resistance_ohm;
  load.inductance_H = of.inductance_H;
  load.capacitance_F = of.capacitance_F;
  LoadPhase device(load, cut_step_s);
  const emt::KnobId knob = plant.knob("device.a");
  const emt::SignalId volts = plant.signal("box.va");
  std::deque<double> under_way(static_cast<std::size_t>(std::lround(of.delay_s / cut_step_s)), 0.0);
  const double kept = of.filter_Hz > 0 ? 1 - std::exp(-2 * std::numbers::pi * of.filter_Hz * cut_step_s) : 1;
  double filtered = 0, told = 0, before = 0, largest = 0;
  for (int k = 0; k < 6000; ++k) {
    plant.turn(knob, told);
    if (plant.step() != emt::Status::running) return INFINITY;
    const double is = plant.value(volts);
    if (k > 5000) largest = std::max(largest, std::abs(is));
    under_way.push_back(device.next(of.mean ? (is + before) / 2 : is));
    before = is;
    filtered += kept * (under_way.front() - filtered);
    under_way.pop_front();
    told = of.share * of.scale * filtered;
  }
  return largest;
}

TEST(Cut, IsReckonedAsItsLoopRuns) {
  std::mt19937 random(11);
  const auto any = [&](double low, double high) {
    return low * std::pow(high / low, std::uniform_real_distribution<double>()(random));
  };
  int stable = 0, unstable = 0;
  for (int trial = 0; trial < 60; ++trial) {
    const network::Network network = cut_network(any(0.05, 5), any(1e-5, 5e-3), any(20, 2000));
    LoopOfCut loop = loop_with(any(0.5, 50), any(1e-5, 1e-2));
    loop.capacitance_F = trial % 3 == 0 ? any(1e-7, 1e-5) : 0;
    loop.delay_s = cut_step_s * static_cast<double>(random() % 4);
    loop.filter_Hz = trial % 2 == 0 ? any(300, 5000) : 0;
    loop.mean = trial % 5 == 0;
    const CutJudgement judgement = judge_loop(step_response(network, "device", 1 << 15), loop, 50);
    if (std::abs(judgement.gain_margin - 1) < 0.05) continue;
    const double largest = grown(network, loop);
    EXPECT_EQ(judgement.stable, largest < 1000)
        << trial << ": " << judgement.words << ", largest " << largest;
    ++(judgement.stable ? stable : unstable);
  }
  EXPECT_GT(stable, 10);
  EXPECT_GT(unstable, 10);
}

TEST(Cut, ThatIsUnstableIsToldWhatHelps) {
  const StepResponse model = step_response(cut_network(2, 1e-3, 60), "device", 1 << 15);
  const LoopOfCut loop = loop_with(3, 0);
  const CutJudgement judgement = judge_loop(model, loop, 50);
  ASSERT_FALSE(judgement.stable);
  ASSERT_NE(judgement.words.find("or filter them at "), std::string::npos) << judgement.words;
  LoopOfCut helped = loop;
  helped.filter_Hz = std::stod(judgement.words.substr(judgement.words.find("filter them at ") + 15));
  EXPECT_TRUE(judge_loop(model, helped, 50).stable);
  helped = loop;
  helped.share = 0.98 * judgement.gain_margin;
  EXPECT_TRUE(judge_loop(model, helped, 50).stable);
}

// --- the port --------------------------------------------------------------------------------------

bench::Setup box_with_amplifier(const std::string& board, double device_ohm, double device_henry) {
  bench::Setup setup;
  setup.network = cut_network(0.1, 0.1e-3, 40);
  Card card;
  card.name = "board";
  card.address = board;
  AnalogueOut out;
  out.name = "out";
  out.card = "board";
  out.signals = {"box.va", "box.vb", "box.vc"};
  out.full_scale = "1 kV";
  out.bits = 0;
  AnalogueIn in;
  in.name = "in";
  in.card = "board";
  in.values = {"ia", "ib", "ic"};
  in.unit = "A";
  in.full_scale = "100 A";
  in.bits = 0;
  PowerCut cut;
  cut.name = "cut";
  cut.gives = "out";
  cut.takes = "in";
  cut.draws = "device";
  cut.resistance_ohm = device_ohm;
  cut.inductance_H = device_henry;
  setup.bench.ports = {card, out, in, cut};
  return setup;
}

/// The device in step with the plant, at the other side of the board.
struct DeviceInStep {
  explicit DeviceInStep(const std::string& board, const LoadAtBoard& load)
      : name(board), phases(3, LoadPhase(load, cut_step_s)) {}
  void step() {
    if (!at) at.emplace(card::Board::find(name));
    for (std::size_t k = 0; k < 3; ++k)
      at->put(card::Board::Part::in, k, phases[k].next(at->get(card::Board::Part::out, k)));
  }
  std::string name;
  std::vector<LoadPhase> phases;
  std::optional<card::Board> at;
};

TEST(PowerCut, GivesTheCurrentsOfTheNetworkWithoutACut) {
  const std::string board = "cut" + std::to_string(getpid());
  const bench::Setup setup = box_with_amplifier(board, 10, 8e-3);
  ASSERT_TRUE(validate(setup).empty());
  LoadAtBoard load;
  load.resistance_ohm = 10;
  load.inductance_H = 8e-3;
  DeviceInStep device(board, load);
  bench::Run run(setup, setup.network, {.free = true});
  auto probe = std::make_unique<Probe>();
  probe->taken = [&](Exchange&) { device.step(); };
  run.add(std::move(probe));
  run.record(0.4, 0, {"device.ia", "box.va"});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.4);
  run.end();
  ASSERT_EQ(run.failure(), "");
  const record::Record record = run.take_record(0);
  network::Network uncut = setup.network;
  uncut.elements.back() = network::Branch{
      .name = "device", .between = {"box", "ground"}, .resistance_ohm = 10, .inductance_H = 8e-3};
  emt::Plant plant = emt::compile(uncut);
  double peak = 0;
  for (int k = 0; k < 400; ++k) {
    (void)plant.step();
    peak = std::max(peak, std::abs(plant.value(plant.signal("device.ia"))));
  }
  const auto& drawn = record.find_analog("device.ia")->samples;
  const double last_peak = *std::max_element(drawn.end() - 80, drawn.end());
  // Of the bus's voltage so much is wrong as is reckoned beforehand.
  const double error = judge_cut(setup, *setup.bench.all<PowerCut>()[0]).error;
  EXPECT_LT(error, 2e-3);
  EXPECT_NEAR(last_peak / peak, 1, 2 * error + 3e-3);
}

TEST(PowerCut, ThatIsUnstableDoesNotBeginUnlessToldSo) {
  const std::string board = "cutter" + std::to_string(getpid());
  bench::Setup setup = box_with_amplifier(board, 0.05, 0);
  {
    bench::Run run(setup, setup.network, {.free = true});
    const std::string why = run.start();
    EXPECT_NE(why.find("power_cut.cut: unstable"), std::string::npos) << why;
  }
  std::get<PowerCut>(setup.bench.ports[3]).even_unstable = true;
  std::get<PowerCut>(setup.bench.ports[3]).most_A = 50;
  LoadAtBoard load;
  load.resistance_ohm = 0.05;
  DeviceInStep device(board, load);
  bench::Run run(setup, setup.network, {.free = true});
  auto probe = std::make_unique<Probe>();
  probe->taken = [&](Exchange&) { device.step(); };
  run.add(std::move(probe));
  run.record(0.1, 0, {"device.ia"});
  ASSERT_EQ(run.start(), "");
  (void)run.execute(0.1);
  EXPECT_NE(run.failure().find("its device drew more than 50 A"), std::string::npos) << run.failure();
  const record::Record record = run.take_record(0);
  EXPECT_EQ(record.find_analog("device.ia")->samples.back(), 0) << "the loop is open";
}

TEST(PowerCut, NamesWhatDoesNotFit) {
  bench::Setup setup = box_with_amplifier("none", 10, 0);
  const auto flaw = [&] {
    const std::vector<Flaw> flaws = validate(setup);
    return flaws.empty() ? std::string() : flaws[0].field + " " + flaws[0].text;
  };
  EXPECT_EQ(flaw(), "");
  std::get<AnalogueOut>(setup.bench.ports[1]).signals[1] = "quay.vb";
  EXPECT_NE(flaw().find("\"quay.vb\" of it is no phase voltage of bus box"), std::string::npos) << flaw();
  setup = box_with_amplifier("none", 0, 0);
  EXPECT_NE(flaw().find("a short circuit"), std::string::npos) << flaw();
  setup = box_with_amplifier("none", 10, 0);
  std::get<PowerCut>(setup.bench.ports[3]).draws = "lights";
  EXPECT_NE(flaw().find("imposed_current"), std::string::npos) << flaw();
}

}  // namespace
}  // namespace zavrek::bench
