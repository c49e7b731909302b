// A network cut at a line, and at a bus, and its halves in two plants that are told of each other each step,
// against the whole.
#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <tuple>

#include "zavrek/emt.hpp"
#include "zavrek/network/phasor.hpp"

namespace zavrek::emt {
namespace {

using network::Branch;
using network::Breaker;
using network::ImposedCurrent;
using network::ImposedVoltage;
using network::Line;
using network::LineEnd;
using network::Load;
using network::Source;

constexpr double step_s = 20e-6;

Line line_of(double length_m) {
  Line line{.name = "infeed", .between = {"shore", "quay"}, .length_m = length_m};
  line.r1_ohm_per_m = 0.1e-3;
  line.x1_ohm_per_m = 0.35e-3;
  line.c1_F_per_m = 12e-12;
  line.r0_ohm_per_m = 0.3e-3;
  line.x0_ohm_per_m = 1.1e-3;
  line.c0_F_per_m = 6e-12;
  return line;
}

network::Network frame(std::vector<network::Bus> buses) {
  network::Network network;
  network.step_s = step_s;
  network.buses = std::move(buses);
  return network;
}

const Source grid{.name = "grid", .bus = "far", .short_circuit_VA = 400e6};
const Breaker breaker{.name = "Q1", .between = {"far", "shore"}};
const Load load{.name = "ferry", .bus = "quay", .active_W = 3e6, .reactive_var = 1e6};
const Branch feeder{
    .name = "feeder", .between = {"quay", "berth"}, .resistance_ohm = 0.4, .inductance_H = 2e-3};
const Load crane{.name = "crane", .bus = "berth", .active_W = 1e6, .reactive_var = 0.2e6};

/// Phasors of the whole's steady state.
std::vector<std::string> phasors(const Plant& whole, const std::string& stem, const std::string& unit,
                                 const std::string& behind = "") {
  std::vector<std::string> texts;
  for (const char phase : {'a', 'b', 'c'})
    texts.push_back(network::print_phasor(whole.phasor(whole.signal(stem + phase + behind)), unit));
  return texts;
}

LineEnd end_of(const Line& line, const std::string& bus) {
  LineEnd end{.name = line.name, .bus = bus, .length_m = line.length_m};
  end.r1_ohm_per_m = line.r1_ohm_per_m;
  end.x1_ohm_per_m = line.x1_ohm_per_m;
  end.c1_F_per_m = line.c1_F_per_m;
  end.r0_ohm_per_m = line.r0_ohm_per_m;
  end.x0_ohm_per_m = line.x0_ohm_per_m;
  end.c0_F_per_m = line.c0_F_per_m;
  return end;
}

/// Tells `to` what `from` says by now.
class Way {
 public:
  Way(Plant& from, const std::vector<std::string>& said, Plant& to, const std::vector<std::string>& told)
      : from_(from), to_(to) {
    for (std::size_t k = 0; k < said.size(); ++k) {
      for (const char phase : {'a', 'b', 'c'}) {
        said_.push_back(from.signal(said[k] + phase));
        told_.push_back(to.knob(told[k] + phase));
      }
    }
    from_.watch(said_);
    values_.resize(said_.size());
  }
  void read() { from_.read(said_, values_); }
  void tell() {
    for (std::size_t k = 0; k < told_.size(); ++k) to_.turn(told_[k], values_[k]);
  }

 private:
  Plant &from_, &to_;
  std::vector<SignalId> said_;
  std::vector<KnobId> told_;
  std::vector<double> values_;
};

struct Watched {
  const char* name;
  Plant* half;
};

/// Largest difference of each from the whole, of the whole's largest. Ways to each half, as many as steps
/// that what is said is late.
double worst_difference(Plant& whole, std::vector<Way>& there, std::vector<Way>& back,
                        std::array<Plant*, 2> halves, const std::vector<Watched>& watched, int steps,
                        void (*operate)(Plant&)) {
  double worst = 0;
  std::vector<double> peaks(watched.size(), 1e-9), apart(watched.size(), 0.0);
  const auto delay = static_cast<int>(there.size());
  for (int k = 0; k < steps; ++k) {
    if (k == 777) {
      operate(whole);
      operate(*halves[0]);
    }
    for (std::vector<Way>* ways : {&there, &back}) {
      (*ways)[static_cast<std::size_t>(k % delay)].read();
      if (k + 1 >= delay) (*ways)[static_cast<std::size_t>((k + 1) % delay)].tell();
    }
    for (Plant* plant : {&whole, halves[0], halves[1]}) EXPECT_EQ(plant->step(), Status::running);
    for (std::size_t w = 0; w < watched.size(); ++w) {
      const double is = whole.value(whole.signal(watched[w].name));
      peaks[w] = std::max(peaks[w], std::abs(is));
      apart[w] =
          std::max(apart[w], std::abs(watched[w].half->value(watched[w].half->signal(watched[w].name)) - is));
    }
  }
  for (std::size_t w = 0; w < watched.size(); ++w) worst = std::max(worst, apart[w] / peaks[w]);
  return worst;
}

void leave_alone(Plant& /*plant*/) {}
void open_and_close(Plant& plant) {
  const OperableId breaker_of = plant.operable("Q1");
  plant.open(breaker_of, plant.time_s() + 3.3e-6);
  plant.close(breaker_of, plant.time_s() + 40e-3 + 7.7e-6);
}

/// Whatever its travel is in steps, whole or not, and with a delay that is longer.
TEST(LineEnd, TwoHalvesAreTheWholeToRounding) {
  // 5.47 km a step, by x1 and c1; the zero sequence is slower.
  for (const auto& [length_m, delay, switches] :
       {std::tuple{25'300.0, 1, false}, {52'700.0, 4, false}, {25'300.0, 1, true}, {52'700.0, 4, true}}) {
    const Line line = line_of(length_m);
    network::Network whole = frame({{"far", 20'000}, {"shore", 20'000}, {"quay", 20'000}, {"berth", 20'000}});
    whole.elements = {line, grid, breaker, load, feeder, crane};
    const Plant start = compile(whole);
    LineEnd at_shore = end_of(line, "shore"), at_quay = end_of(line, "quay");
    at_shore.delay_steps = at_quay.delay_steps = delay;
    at_shore.far_voltage = phasors(start, "quay.v", "V");
    at_shore.far_current = phasors(start, "infeed.i", "A", "_far");
    at_quay.far_voltage = phasors(start, "shore.v", "V");
    at_quay.far_current = phasors(start, "infeed.i", "A");
    network::Network one = frame({{"far", 20'000}, {"shore", 20'000}}),
                     other = frame({{"quay", 20'000}, {"berth", 20'000}});
    one.elements = {at_shore, grid, breaker};
    other.elements = {at_quay, load, feeder, crane};
    Plant near = compile(one), far = compile(other), all = compile(whole);
    EXPECT_NEAR(near.value(near.signal("shore.va")), all.value(all.signal("shore.va")), 1e-6)
        << "at the start";
    const std::vector<std::string> said{"infeed.leaving_", "infeed.left_"},
        told{"infeed.arriving_", "infeed.arrived_"};
    Way there(near, said, far, told), back(far, said, near, told);
    // A longer delay: what was said comes later.
    const auto late = static_cast<std::size_t>(delay);
    std::vector<Way> theirs(late, there), ours(late, back);
    const double worst = worst_difference(all, theirs, ours, {&near, &far},
                                          {{"shore.va", &near},
                                           {"quay.vb", &far},
                                           {"berth.vc", &far},
                                           {"infeed.ia", &near},
                                           {"feeder.ib", &far}},
                                          6000, switches ? open_and_close : leave_alone);
    // Behind an event the whole takes damped half steps on both sides of the line, a half only where it was.
    EXPECT_LT(worst, switches ? 5e-4 : 1e-9) << length_m << " m";
  }
}

/// A part between two cuts: a line's end, and a bus told its voltages.
TEST(LineEnd, StandsBesideAnImposedVoltage) {
  network::Network part = frame({{"shore", 20'000}, {"quay", 20'000}});
  const Branch tie{
      .name = "tie", .between = {"shore", "quay"}, .resistance_ohm = 0.05, .inductance_H = 0.5e-3};
  part.elements = {end_of(line_of(25'300), "shore"), tie, ImposedVoltage{.name = "hall", .bus = "quay"}};
  std::get<ImposedVoltage>(part.elements.back()).starts_with = {"16 kV at 0 deg", "16 kV at -120 deg",
                                                                "16 kV at 120 deg"};
  Plant plant = compile(part);
  EXPECT_NEAR(plant.value(plant.signal("hall.ia")), -plant.value(plant.signal("tie.ia")), 1e-9)
      << "what flows out of the bus flows into the tie's other end";
  EXPECT_EQ(plant.step(), Status::running);
}

TEST(LineEnd, ThatIsTooNearIsRefused) {
  network::Network network = frame({{"far", 20'000}, {"shore", 20'000}});
  network.elements = {end_of(line_of(12'000), "shore"), grid, breaker};
  try {
    (void)compile(network);
    FAIL() << "it was taken";
  } catch (const Error& error) {
    EXPECT_NE(std::string(error.what()).find("to be told of them in time"), std::string::npos)
        << error.what();
  }
  std::get<LineEnd>(network.elements.front()).length_m = 25'000;
  std::get<LineEnd>(network.elements.front()).far_voltage = {"5 kV"};
  EXPECT_THROW((void)compile(network), Error);
}

/// A bus cut in two: voltages one way, currents the other, each a step late.
TEST(ImposedVoltage, WithItsCurrentsIsTheWholeAfterTwoSteps) {
  network::Network whole = frame({{"far", 20'000}, {"shore", 20'000}, {"quay", 20'000}, {"berth", 20'000}});
  const Branch tie{
      .name = "tie", .between = {"shore", "quay"}, .resistance_ohm = 0.05, .inductance_H = 0.5e-3};
  whole.elements = {grid, breaker, tie, load, feeder, crane};
  network::Network near = frame({{"far", 20'000}, {"shore", 20'000}, {"quay", 20'000}});
  near.elements = {grid, breaker, tie, load, ImposedCurrent{.name = "hall", .bus = "quay"}};
  network::Network far = frame({{"quay", 20'000}, {"berth", 20'000}});
  far.elements = {ImposedVoltage{.name = "hall", .bus = "quay"}, feeder, crane};
  Plant all = compile(whole);
  std::get<ImposedCurrent>(near.elements.back()).starts_with = phasors(all, "feeder.i", "A");
  std::get<ImposedVoltage>(far.elements.front()).starts_with = phasors(all, "quay.v", "V");
  Plant one = compile(near), other = compile(far);
  EXPECT_NEAR(one.value(one.signal("quay.va")), all.value(all.signal("quay.va")), 1e-6) << "at the start";
  EXPECT_NEAR(other.value(other.signal("crane.ib")), all.value(all.signal("crane.ib")), 1e-6);
  std::vector<Way> there{{one, {"quay.v"}, other, {"hall."}}}, back{{other, {"hall.i"}, one, {"hall."}}};
  // In the steady state two steps of 20 us turn a current by 0.72 deg, of which this much reaches the
  // voltage.
  const double worst =
      worst_difference(all, there, back, {&one, &other},
                       {{"quay.va", &one}, {"berth.vb", &other}, {"feeder.ic", &other}}, 700, leave_alone);
  EXPECT_LT(worst, 0.015);
  EXPECT_GT(worst, 1e-4) << "the delay is there";
}

}  // namespace
}  // namespace zavrek::emt
