// Elements of one's own: an inductance written by a user is the built-in one; what cannot be is named.
#include <gtest/gtest.h>

#include <cmath>

#include "zavrek/emt.hpp"

namespace zavrek::emt {
namespace {

using network::OwnElement;
using network::OwnLaw;

/// R and L in series, phase by phase. `gives`: what it gives instead at one instant.
class Coil : public OwnLaw {
 public:
  std::vector<Parameter> parameters() const override {
    return {{"resistance", "ohm", 0.5, 0, 1e6}, {"inductance", "H", 1e-3, 1e-9, 1e3}};
  }
  void conductance(Numbers p, double step_s, std::span<double> g) const override {
    g[0] = 1 / (p[0] + 2 * p[1] / step_s);
  }
  void admittance(Numbers p, std::complex<double> s, double,
                  std::span<std::complex<double>> y) const override {
    y[0] = 1.0 / (p[0] + s * p[1]);
  }
  bool begin(const Span& span, Numbers p, Numbers, Numbers v, Numbers i, std::span<double> history,
             std::span<double>) const noexcept override {
    const double kept = 2 * p[1] / span.step_s;
    history[0] = (kept * i[0] + (span.whole ? v[0] - p[0] * i[0] : 0)) / (p[0] + kept);
    return false;
  }
};

network::Network feeder(network::Element element) {
  network::Network network;
  network.step_s = 50e-6;
  network.buses = {{"quay", 400}, {"mid", 400}, {"berth", 400}};
  network.elements = {network::Source{.name = "grid", .bus = "quay", .short_circuit_VA = 5e6},
                      std::move(element), network::Breaker{.name = "Q1", .between = {"mid", "berth"}},
                      network::Load{.name = "crane", .bus = "berth", .active_W = 30e3, .reactive_var = 10e3}};
  return network;
}
OwnElement coil(std::shared_ptr<const OwnLaw> law) {
  return {.name = "feeder",
          .between = {"quay", "mid"},
          .library = {},
          .code = {},
          .parameters = {},
          .law = law ? network::kept(std::move(law)) : network::OwnLawSource()};
}

TEST(OwnElement, IsTheBuiltInOneToRoundingUntilSomethingSwitches) {
  OwnElement own = coil(std::make_shared<Coil>());
  own.parameters = {"inductance: 2 mH"};
  Plant one = compile(feeder(own)),
        other = compile(feeder(network::Branch{
            .name = "feeder", .between = {"quay", "mid"}, .resistance_ohm = 0.5, .inductance_H = 2e-3}));
  for (Plant* plant : {&one, &other}) {
    plant->open(plant->operable("Q1"), 33e-3);
    plant->close(plant->operable("Q1"), 71.23e-3);
  }
  double calm = 0, worst = 0;
  for (int k = 0; k < 3000; ++k) {
    ASSERT_EQ(one.step(), Status::running);
    ASSERT_EQ(other.step(), Status::running);
    for (const char* name : {"feeder.ia", "feeder.ic", "berth.vb", "mid.va"})
      worst = std::max(worst, std::abs(one.value(one.signal(name)) - other.value(other.signal(name))));
    if (one.discontinuities() == 0) calm = worst;
  }
  EXPECT_LT(calm, 1e-7);
  // Behind an event built-in parts go on from corrected slopes, models from values alone.
  EXPECT_LT(worst, 0.3);
  EXPECT_GE(one.discontinuities(), 3);
}

/// A resistor that warms: conductance and a state.
class Warming final : public OwnLaw {
 public:
  std::vector<State> states() const override { return {{"warmth", "K"}}; }
  std::vector<Parameter> parameters() const override { return {{"grows", "", 0.01, 0, 1, true}}; }
  bool varies() const override { return true; }
  void conductance(Numbers, double, std::span<double> g) const override { g[0] = 0.2; }
  void admittance(Numbers, std::complex<double>, double, std::span<std::complex<double>> y) const override {
    y[0] = 0.2;
  }
  bool begin(const Span&, Numbers p, Numbers x, Numbers, Numbers, std::span<double> history,
             std::span<double> g) const noexcept override {
    history[0] = 0;
    g[0] = 0.2 / (1 + p[0] * x[0]);
    return true;
  }
  void finish(const Span& span, Numbers, Numbers x, Numbers v, Numbers i,
              std::span<double> next) const noexcept override {
    next[0] = x[0] + (span.whole ? 1 : 0.5) * span.step_s * (v[0] * i[0] / 50 - x[0]);
  }
};

TEST(OwnElement, HasStatesThatArePutBackAndKnobs) {
  Plant plant = compile(feeder(coil(std::make_shared<Warming>())));
  const SignalId warmth = plant.signal("feeder.warmth_b"), current = plant.signal("feeder.ib");
  for (int k = 0; k < 2000; ++k) (void)plant.step();
  EXPECT_GT(plant.value(warmth), 0.5);
  PlantState kept;
  plant.save(kept);
  Plant copy = plant.clone();
  std::vector<double> first;
  for (int k = 0; k < 500; ++k) {
    (void)plant.step();
    (void)copy.step();
    first.push_back(plant.value(current));
    ASSERT_EQ(plant.value(current), copy.value(current));
  }
  plant.restore(kept);
  for (int k = 0; k < 500; ++k) {
    (void)plant.step();
    ASSERT_EQ(plant.value(current), first[static_cast<std::size_t>(k)]);
  }
  plant.turn(plant.knob("feeder.grows"), 0);
  (void)plant.step();
  const double drop = plant.value(plant.signal("quay.vb")) - plant.value(plant.signal("mid.vb"));
  EXPECT_NEAR(plant.value(current), 0.2 * drop, 1e-6 * std::abs(drop));
}

std::string refusal(std::shared_ptr<const OwnLaw> law, std::vector<std::string> parameters = {}) {
  OwnElement own = coil(std::move(law));
  own.parameters = std::move(parameters);
  try {
    (void)compile(feeder(own));
  } catch (const Error& error) {
    return error.what();
  }
  return "";
}

class Giving final : public Coil {
  void conductance(Numbers, double, std::span<double> g) const override { g[0] = -1; }
};
class Skewed final : public Coil {
  int ends() const override { return 3; }
  void conductance(Numbers, double, std::span<double> g) const override {
    for (std::size_t k = 0; k < 9; ++k) g[k] = static_cast<double>(k);
  }
};
class ForTwo final : public Coil {
  int ends() const override { return 2; }
};
class Lost final : public Coil {
  bool begin(const Span& span, Numbers, Numbers, Numbers, Numbers, std::span<double> history,
             std::span<double>) const noexcept override {
    history[0] = span.until_s > 0.01 ? NAN : 0;
    return false;
  }
};

TEST(OwnElement, ThatCannotBeIsNamed) {
  const auto says = [](const std::string& text, const char* part) {
    EXPECT_NE(text.find(part), std::string::npos) << text;
    EXPECT_NE(text.find("own_element.feeder"), std::string::npos) << text;
  };
  says(refusal(std::make_shared<Giving>()), "its conductance gives energy: it has an eigenvalue of -1 S");
  says(refusal(std::make_shared<Skewed>()), "its conductance is not symmetric");
  says(refusal(std::make_shared<ForTwo>()), "its buses have 3 phases in common, the library 2 ends");
  says(refusal(nullptr), "missing; a library, or code that the program gives");
  says(refusal(std::make_shared<Coil>(), {"inductence: 2 mH"}), "did you mean \"inductance\"?");
  says(refusal(std::make_shared<Coil>(), {"inductance: -2 mH"}), "is not within");
  says(refusal(std::make_shared<Coil>(), {"inductance: 2 ohm"}), "inductance");
  Plant plant = compile(feeder(coil(std::make_shared<Lost>())));
  Status status = Status::running;
  for (int k = 0; k < 400 && status == Status::running; ++k) status = plant.step();
  EXPECT_EQ(status, Status::diverged);
  says(plant.culprit(), "what it gave is no number");
}

}  // namespace
}  // namespace zavrek::emt
