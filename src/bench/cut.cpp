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
constexpr double raised_V = 100;        // likewise
constexpr double wanted_margin = 1.5;   // of what is proposed
constexpr double closed_turn = pi / 2;  // a loop that goes round -1 turns by pi at least

/// What is turned, from what on, by how much, and what is read: phase by phase. A voltage that falls, or a
/// current that grows, is an answer above zero where `size` is of one sign or the other.
struct Places {
  std::vector<emt::KnobId> knobs;
  std::vector<double> begin;
  std::vector<emt::SignalId> read;
  double size = drawn_A;
};

/// Of the differences, the mean of the phases that saw the same.
std::vector<double> answer(const emt::Plant& from, const Places& places, const std::vector<double>& pattern,
                           int steps) {
  emt::Plant still = from.clone(), drawn = from.clone();
  std::vector<double> response;
  const std::vector<emt::SignalId>& read = places.read;
  std::vector<double> a(read.size()), b(read.size());
  for (int k = 0; k < steps; ++k) {
    if (k < 2) {
      for (std::size_t p = 0; p < places.knobs.size(); ++p)
        drawn.turn(places.knobs[p], places.begin[p] + (k == 0 ? places.size * pattern[p] : 0));
    }
    if (still.step() != emt::Status::running || drawn.step() != emt::Status::running)
      throw Error("the model diverges by itself; nothing can be reckoned of a cut");
    still.read(read, a);
    drawn.read(read, b);
    double sum = 0, norm = 0;
    for (std::size_t p = 0; p < read.size(); ++p) {
      sum += pattern[p] * (a[p] - b[p]);
      norm += pattern[p] * pattern[p];
    }
    response.push_back(sum / (norm * places.size));
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
    if (model.zero != model.positive || (loop.draws && loop.draws->zero != loop.draws->positive))
      modes_.push_back(spectrum_of(model.zero));
    if (!loop.draws) return;
    device_.push_back(spectrum_of(loop.draws->positive));
    if (modes_.size() > 1) device_.push_back(spectrum_of(loop.draws->zero));
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
    return share * mean * filtered * std::polar(1.0, -angle * steps_around()) * damped(mode, k);
  }
  /// The same with what a damping takes from the device and gives to the model.
  [[nodiscard]] Complex damped(std::size_t mode, std::size_t k) const {
    if (loop_.damping_S == 0) return around(mode, k);
    const Complex own = loop_.damping_S * modes_[mode][k];
    return (around(mode, k) - loop_.scale * own) / (1.0 + own);
  }
  /// By how much the damping alone changes the voltage.
  [[nodiscard]] Complex held(std::size_t mode, std::size_t k) const {
    return 1.0 / (1.0 + loop_.damping_S * modes_[mode][k]);
  }
  /// Model and device alone, as without a cut.
  [[nodiscard]] Complex around(std::size_t mode, std::size_t k) const {
    if (!device_.empty()) return loop_.scale * device_[mode][k] * modes_[mode][k];
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
  std::vector<std::vector<Complex>> modes_, device_;
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
  if (of.draws)
    return "take shorter steps, cut where one half is stiffer or the other lighter, or cut at a line, which "
           "has no "
           "loop";
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

struct Asked {
  std::string knob, bus, read;
  double size;
};
StepResponse response_at(const network::Network& network, const Asked& asked, int steps) {
  emt::Plant plant = emt::compile(network);
  Places places{.knobs = {}, .begin = {}, .read = {}, .size = asked.size};
  for (const char phase : network.find_bus(asked.bus)->phases) {
    const std::string knob = fmt::format("{}.{}", asked.knob, phase);
    places.knobs.push_back(plant.knob(knob));
    places.begin.push_back(plant.value(plant.signal(knob)));
    places.read.push_back(plant.signal(asked.read + phase));
  }
  StepResponse response;
  response.step_s = plant.step_s();
  if (places.knobs.size() == 3) {
    response.positive = answer(plant, places, {1, -0.5, -0.5}, steps);
    response.zero = answer(plant, places, {1, 1, 1}, steps);
  } else {
    response.positive = response.zero =
        answer(plant, places, std::vector<double>(places.knobs.size(), 1), steps);
  }
  return response;
}

}  // namespace

StepResponse step_response(const network::Network& network, const std::string& draws, int steps) {
  const network::Element* element = network.find_element(draws);
  const auto* imposed = element ? std::get_if<network::ImposedCurrent>(element) : nullptr;
  if (!imposed) throw Error(fmt::format("no imposed_current \"{}\"", draws));
  return response_at(network, {draws, imposed->bus, imposed->bus + ".v", drawn_A}, steps);
}

StepResponse step_response_of_voltage(const network::Network& network, const std::string& imposes,
                                      int steps) {
  const network::Element* element = network.find_element(imposes);
  const auto* imposed = element ? std::get_if<network::ImposedVoltage>(element) : nullptr;
  if (!imposed) throw Error(fmt::format("no imposed_voltage \"{}\"", imposes));
  StepResponse response = response_at(network, {imposes, imposed->bus, imposes + ".i", raised_V}, steps);
  for (std::vector<double>* mode : {&response.positive, &response.zero})
    for (double& amperes : *mode) amperes = -amperes;
  return response;
}

PartnerCut propose_partner_cut(const network::Network& near, const network::Network& far,
                               const std::string& name, int delay) {
  const StepResponse draws = step_response_of_voltage(far, name, steps_looked_at);
  const StepResponse answers = step_response(near, name, steps_looked_at);
  LoopOfCut loop;
  loop.draws = &draws;
  loop.delay_s = (2 * delay - 1) * near.step_s;
  PartnerCut best{judge_loop(answers, loop, near.frequency_Hz), 0};
  if (best.judgement.stable && best.judgement.gain_margin >= wanted_margin) return best;
  // Some way around what the other side answers at once, which the damping stands for.
  for (int k = -8; k <= 16; ++k) {
    loop.damping_S = std::pow(10, k / 8.0) * std::max(0.0, draws.positive.front());
    const CutJudgement judged = judge_loop(answers, loop, near.frequency_Hz);
    const bool better = judged.stable != best.judgement.stable
                            ? judged.stable
                            : judged.gain_margin > best.judgement.gain_margin;
    if (better) best = {judged, loop.damping_S};
  }
  return best;
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
  const Complex cut = opened.held(0, at) / (1.0 + opened.gain(0, at, loop.share, loop.filter_Hz));
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
