#include "zavrek/bench/cut.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include <fmt/format.h>
#include <unsupported/Eigen/FFT>

#include "bench/channels.hpp"
#include "zavrek/emt.hpp"

namespace zavrek::bench {
namespace {

using Complex = std::complex<double>;
using std::numbers::pi;

constexpr int steps_looked_at = 1 << 15;
constexpr double drawn_A = 100;         // small for a network, large against rounding
constexpr double wanted_margin = 1.5;   // of what is proposed
constexpr double closed_turn = pi / 2;  // a loop that goes round -1 turns by pi at least

/// Of the differences, the mean of the phases that saw the same.
std::vector<double> answer(const emt::Plant& from, const std::vector<emt::KnobId>& knobs,
                           const std::vector<double>& pattern, const std::vector<emt::SignalId>& volts,
                           int steps) {
  emt::Plant still = from.clone(), drawn = from.clone();
  std::vector<double> response;
  std::vector<double> a(volts.size()), b(volts.size());
  for (int k = 0; k < steps; ++k) {
    if (k < 2) {
      for (std::size_t p = 0; p < knobs.size(); ++p) drawn.turn(knobs[p], k == 0 ? drawn_A * pattern[p] : 0);
    }
    if (still.step() != emt::Status::running || drawn.step() != emt::Status::running)
      throw Error("the model diverges by itself; nothing can be reckoned of a cut");
    still.read(volts, a);
    drawn.read(volts, b);
    double sum = 0, norm = 0;
    for (std::size_t p = 0; p < volts.size(); ++p) {
      sum += pattern[p] * (a[p] - b[p]);
      norm += pattern[p] * pattern[p];
    }
    response.push_back(sum / (norm * drawn_A));
  }
  return response;
}

/// Faded out over its last eighth: what still rings there is not cut off at once.
std::vector<Complex> spectrum_of(const std::vector<double>& response) {
  std::vector<double> faded = response;
  const std::size_t fades = faded.size() / 8;
  for (std::size_t k = 0; k < fades; ++k)
    faded[faded.size() - 1 - k] *=
        0.5 - 0.5 * std::cos(pi * static_cast<double>(k) / static_cast<double>(fades));
  std::vector<Complex> spectrum;
  Eigen::FFT<double> transform;
  transform.fwd(spectrum, faded);
  return spectrum;
}

/// As LowPass has it.
Complex low_pass(double corner_Hz, double step_s, Complex back) {
  const double share = internal::LowPass::share_of(corner_Hz, step_s);
  return share / (1.0 - (1 - share) * back);
}

class Loop {
 public:
  Loop(const StepResponse& model, const LoopOfCut& loop) : step_s_(model.step_s), loop_(loop) {
    modes_.push_back(spectrum_of(model.positive));
    if (model.zero != model.positive) modes_.push_back(spectrum_of(model.zero));
  }
  [[nodiscard]] std::size_t points() const { return modes_[0].size() / 2; }
  [[nodiscard]] std::size_t modes() const { return modes_.size(); }
  [[nodiscard]] double frequency_Hz(std::size_t k) const {
    return static_cast<double>(k) / (static_cast<double>(modes_[0].size()) * step_s_);
  }
  [[nodiscard]] std::size_t nearest(double at_Hz) const {
    return std::min(points() - 1, static_cast<std::size_t>(
                                      std::lround(at_Hz * static_cast<double>(modes_[0].size()) * step_s_)));
  }
  [[nodiscard]] double steps_around() const { return 1 + std::round(loop_.delay_s / step_s_); }
  /// Of the loop, opened, without share and filter where these are given otherwise.
  [[nodiscard]] Complex gain(std::size_t mode, std::size_t k, double share, double filter_Hz) const {
    const double angle = 2 * pi * frequency_Hz(k) * step_s_;
    const Complex back = std::polar(1.0, -angle);  // a step ago
    const Complex mean = loop_.mean ? (1.0 + back) / 2.0 : Complex(1);
    Complex filtered = low_pass(filter_Hz, step_s_, back);
    for (const double corner_Hz : loop_.corners_Hz) filtered *= low_pass(corner_Hz, step_s_, back);
    return share * mean * filtered * std::polar(1.0, -angle * steps_around()) * around(mode, k);
  }
  /// Model and device alone, as without a cut.
  [[nodiscard]] Complex around(std::size_t mode, std::size_t k) const {
    const Complex back = std::polar(1.0, -2 * pi * frequency_Hz(k) * step_s_);
    const Complex s = (1.0 - back) / step_s_;
    Complex admittance = s * loop_.capacitance_F;
    if (loop_.resistance_ohm > 0 || loop_.inductance_H > 0)
      admittance += 1.0 / (loop_.resistance_ohm + s * loop_.inductance_H + 1e-12);
    return loop_.scale * admittance * modes_[mode][k];
  }

 private:
  double step_s_;
  LoopOfCut loop_;
  std::vector<std::vector<Complex>> modes_;
};

struct Margin {
  double gain = INFINITY, at_Hz = 0;
  bool encircled = false;
};
/// The largest crossing of the negative axis, and whether -1 is gone round.
Margin margin_of(const Loop& loop, double share, double filter_Hz) {
  Margin margin;
  for (std::size_t mode = 0; mode < loop.modes(); ++mode) {
    double turned = 0;
    Complex before = loop.gain(mode, 0, share, filter_Hz);
    for (std::size_t k = 1; k < loop.points(); ++k) {
      const Complex is = loop.gain(mode, k, share, filter_Hz);
      turned += std::arg((1.0 + is) / (1.0 + before));
      const bool crosses = (is.imag() < 0) != (before.imag() < 0);
      if (crosses && is.real() < 0 && before.real() < 0) {
        const double part = before.imag() / (before.imag() - is.imag());
        const double size = -(before.real() + part * (is.real() - before.real()));
        if (1 / size < margin.gain) {
          margin.gain = 1 / size;
          margin.at_Hz = loop.frequency_Hz(k);
        }
      }
      before = is;
    }
    // At half the rate of the steps every gain is real.
    if (before.real() < 0 && 1 / -before.real() < margin.gain) {
      margin.gain = 1 / -before.real();
      margin.at_Hz = loop.frequency_Hz(loop.points());
    }
    margin.encircled = margin.encircled || std::abs(turned) > closed_turn;
  }
  return margin;
}

std::string helps(const StepResponse& model, const Loop& loop, const LoopOfCut& of, double gain_margin) {
  LoopOfCut meant = of;
  meant.mean = true;
  if (const Margin with = margin_of(Loop(model, meant), of.share, of.filter_Hz);
      !of.mean && with.gain >= wanted_margin && !with.encircled)
    return "the steps' own ripple goes round; let the mean of two go out (mean = true of its analogue_out)";
  std::string text =
      fmt::format("feed back less than {:.2g} of the currents (share)", of.share * gain_margin);
  for (const double filter_Hz :
       {10'000.0, 5'000.0, 3'000.0, 2'000.0, 1'000.0, 700.0, 500.0, 300.0, 200.0, 100.0, 50.0}) {
    if (of.filter_Hz > 0 && filter_Hz >= of.filter_Hz) continue;
    const Margin with = margin_of(loop, of.share, filter_Hz);
    if (with.gain < wanted_margin || with.encircled) continue;
    return text + fmt::format(", or filter them at {:g} Hz", filter_Hz);
  }
  return text + ", or cut where the model is stiffer";
}

}  // namespace

StepResponse step_response(const network::Network& network, const std::string& draws, int steps) {
  const network::Element* element = network.find_element(draws);
  const auto* imposed = element ? std::get_if<network::ImposedCurrent>(element) : nullptr;
  if (!imposed) throw Error(fmt::format("no imposed_current \"{}\"", draws));
  const emt::Plant plant = emt::compile(network);
  std::vector<emt::KnobId> knobs;
  std::vector<emt::SignalId> volts;
  for (const char phase : network.find_bus(imposed->bus)->phases) {
    knobs.push_back(plant.knob(fmt::format("{}.{}", draws, phase)));
    volts.push_back(plant.signal(fmt::format("{}.v{}", imposed->bus, phase)));
  }
  StepResponse response;
  response.step_s = plant.step_s();
  if (knobs.size() == 3) {
    response.positive = answer(plant, knobs, {1, -0.5, -0.5}, volts, steps);
    response.zero = answer(plant, knobs, {1, 1, 1}, volts, steps);
  } else {
    response.positive = response.zero =
        answer(plant, knobs, std::vector<double>(knobs.size(), 1), volts, steps);
  }
  return response;
}

CutJudgement judge_loop(const StepResponse& model, const LoopOfCut& loop, double frequency_Hz) {
  const Loop opened(model, loop);
  const Margin margin = margin_of(opened, loop.share, loop.filter_Hz);
  CutJudgement judgement;
  judgement.gain_margin = margin.gain;
  judgement.at_Hz = margin.at_Hz;
  judgement.stable = margin.gain > 1 && !margin.encircled;
  judgement.delay_s = (opened.steps_around() + (loop.mean ? 0.5 : 0)) * model.step_s;
  const std::size_t at = opened.nearest(frequency_Hz);
  const Complex uncut = 1.0 / (1.0 + opened.around(0, at));
  const Complex cut = 1.0 / (1.0 + opened.gain(0, at, loop.share, loop.filter_Hz));
  judgement.error = std::abs(cut - uncut) / std::abs(uncut);
  const std::string where = std::isinf(margin.gain)
                                ? "no gain makes it oscillate"
                                : fmt::format("{:.3g} times its gain oscillates at {}", margin.gain,
                                              print_rounded(margin.at_Hz, "Hz", 3));
  judgement.words =
      judgement.stable
          ? fmt::format("stable: {}; {} once around, {:.2g} % of the voltage wrong at {:g} Hz", where,
                        print_rounded(judgement.delay_s, "s", 3), 100 * judgement.error, frequency_Hz)
          : fmt::format("unstable at {}: {}", print_rounded(margin.at_Hz, "Hz", 3),
                        helps(model, opened, loop, margin.gain));
  return judgement;
}

CutJudgement judge_cut(const Setup& setup, const PowerCut& cut) {
  const auto find = [&](const auto& ports, const std::string& name) {
    const auto at =
        std::find_if(ports.begin(), ports.end(), [&](const auto* one) { return one->name == name; });
    if (at == ports.end()) throw Error(fmt::format("power_cut.{}: no port \"{}\"", cut.name, name));
    return *at;
  };
  const AnalogueOut& out = *find(setup.bench.all<AnalogueOut>(), cut.gives);
  const AnalogueIn& in = *find(setup.bench.all<AnalogueIn>(), cut.takes);
  LoopOfCut loop;
  loop.resistance_ohm = cut.resistance_ohm;
  loop.inductance_H = cut.inductance_H;
  loop.capacitance_F = cut.capacitance_F;
  loop.scale = out.ratio * in.ratio;
  loop.share = cut.share;
  loop.filter_Hz = cut.filter_Hz;
  loop.corners_Hz = {out.filter_Hz, out.bandwidth_Hz, in.filter_Hz};
  loop.mean = out.mean;
  loop.delay_s = cut.delay_s + out.delay_s + in.delay_s;
  return judge_loop(step_response(setup.network, cut.draws, steps_looked_at), loop,
                    setup.network.frequency_Hz);
}

}  // namespace zavrek::bench
