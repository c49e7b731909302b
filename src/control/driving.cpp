// What drives the plant: modulators, firing, gates, knobs, breakers.
#include <algorithm>
#include <array>
#include <cmath>

#include "control/function.hpp"

namespace zavrek::control {

namespace {
/// Natural sampling of references that are held for a period: edges where they cross a triangle that starts
/// at -1 and rises. Three levels: two triangles, one above the other; the upper pair of valves (1 against 3)
/// follows the upper one, the lower pair (2 against 4) the lower one.
class ModulatorFunction final : public BlockFunction {
 public:
  ModulatorFunction(const Modulator& b, double period)
      : legs_(b.references.size()),
        three_(b.levels == "three"),
        centred_(b.third_harmonic),
        half_(0.5 / b.carrier_Hz),
        dead_(b.dead_time_s),
        halves_(static_cast<int>(std::llround(period / half_))),
        upper_(legs_ * (three_ ? 2 : 1), State::off) {}

  void step(const Instant& instant, const double* in, double* out) noexcept override {
    const bool enabled = is_on(in[legs_]);
    double shift = in[legs_ + 1];
    if (centred_) {
      const auto [low, high] = std::minmax_element(in, in + legs_);
      shift -= (*low + *high) / 2;
    }
    for (std::size_t leg = 0; leg < legs_; ++leg) {
      const double reference = in[leg] + shift;
      out[leg] = reference;
      if (!three_) {
        pair(instant, leg, reference, enabled);
      } else {  // upper triangle from 0 to 1, lower from -1 to 0, each stretched to -1 ... 1
        pair(instant, 2 * leg, 2 * reference - 1, enabled);
        pair(instant, 2 * leg + 1, 2 * reference + 1, enabled);
      }
    }
    rising_ = (halves_ % 2 == 0) == rising_;
  }
  void visit_state(StateArchive& archive) override { archive(rising_, upper_); }

 private:
  enum class State : char { off, low, high };

  /// Gates of pair k: two levels a_upper, a_lower; three levels a_1, a_3 and a_2, a_4.
  void pair(const Instant& instant, std::size_t k, double reference, bool enabled) noexcept {
    if (!enabled) {
      if (upper_[k] != State::off) both_off(instant, k);
      return;
    }
    bool rising = rising_;
    for (int half = 0; half < halves_; ++half, rising = !rising) {
      const double start = instant.time_s + half * half_;
      const bool high_first = rising ? reference > -1 : reference >= 1;
      go(instant, k, high_first, start);
      const double share = rising ? (reference + 1) / 2 : (1 - reference) / 2;
      if (share > 0 && share < 1) go(instant, k, !rising, start + share * half_);
    }
  }
  void both_off(const Instant& instant, std::size_t k) noexcept {
    edge(instant, 2 * k, false, instant.time_s);
    edge(instant, 2 * k + 1, false, instant.time_s);
    upper_[k] = State::off;
  }
  void go(const Instant& instant, std::size_t k, bool high, double at) noexcept {
    const State wanted = high ? State::high : State::low;
    if (upper_[k] == wanted) return;
    upper_[k] = wanted;
    edge(instant, 2 * k + (high ? 1 : 0), false, at);
    edge(instant, 2 * k + (high ? 0 : 1), true, at + dead_);
  }

  std::size_t legs_;
  bool three_, centred_;
  double half_, dead_;
  int halves_;
  bool rising_ = true;
  std::vector<State> upper_;  // per pair of valves
};
}  // namespace
template <>
Made make(const Modulator& b, double period) {
  if (b.references.empty() || b.references.size() > 3)
    reject("modulator", b.name, "references", "one per leg is wanted, up to three");
  const double halves = 2 * b.carrier_Hz * period;
  if (std::abs(halves - std::round(halves)) > 1e-6 || std::round(halves) < 1)
    reject("modulator", b.name, "carrier",
           "the block's period must be half of the carrier's, or a multiple of that");
  Made m{std::make_unique<ModulatorFunction>(b, period), b.references, {}, {}};
  m.inputs.push_back(b.enable);
  m.inputs.push_back(b.offset.empty() ? "0" : b.offset);
  for (std::size_t leg = 0; leg < b.references.size(); ++leg) {
    const std::string name = b.bridge + "." + static_cast<char>('a' + leg);
    m.outputs.emplace_back(1, static_cast<char>('a' + leg));
    const std::vector<const char*> suffixes = b.levels == "two"
                                                  ? std::vector<const char*>{"_upper", "_lower"}
                                                  : std::vector<const char*>{"_1", "_3", "_2", "_4"};
    for (const char* suffix : suffixes) m.gates.push_back(name + suffix);
  }
  return m;
}

/// Natural commutation, by the angle of phase a's voltage V cos(angle): a_upper at -60 deg, then every 60
/// deg the next of c_lower, b_upper, a_lower, c_upper, b_lower. A pulse whose instant a smaller delay put
/// into the past comes at once.
namespace {
class FiringFunction final : public BlockFunction {
 public:
  FiringFunction(const Firing& b, double period) : b_(b), period_(period) { fired_.fill(never); }

  void step(const Instant& instant, const double* in, double* out) noexcept override {
    const double angle = in[0], turning = 2 * pi * std::max(in[1], 1e-3), delay = in[2];
    out[0] = delay;
    if (!is_on(in[3])) {
      for (std::size_t k = 0; k < 6 && on_; ++k) edge(instant, k, false, instant.time_s);
      on_ = false;
      fired_.fill(never);
      return;
    }
    on_ = true;
    for (std::size_t k = 0; k < 6; ++k) {
      fired_[k] += turning * period_;
      double ahead = std::remainder(static_cast<double>(k) * pi / 3 - pi / 3 + delay - angle, 2 * pi);
      if (ahead > turning * period_ || ahead < -pi / 3 || fired_[k] < pi) continue;
      ahead = std::max(ahead, 0.0);
      edge(instant, gate_of[k], true, instant.time_s + ahead / turning);
      edge(instant, gate_of[k], false, instant.time_s + (ahead + b_.width_rad) / turning);
      fired_[k] = -ahead;
    }
  }
  void visit_state(StateArchive& archive) override { archive(on_, fired_); }

 private:
  static constexpr double never = 1e9;
  static constexpr std::array<std::size_t, 6> gate_of{0, 5, 2, 1, 4, 3};  // of a_upper, a_lower, b_upper ...
  const Firing& b_;
  double period_;
  bool on_ = false;
  std::array<double, 6> fired_{};  // angle since the valve's last pulse, in the order of firing
};
}  // namespace
template <>
Made make(const Firing& b, double period) {
  Made m{std::make_unique<FiringFunction>(b, period), {b.angle, b.frequency, b.delay, b.enable}, {""}, {}};
  for (const char letter : {'a', 'b', 'c'}) {
    for (const char* suffix : {"_upper", "_lower"}) m.gates.push_back(b.bridge + "." + letter + suffix);
  }
  return m;
}

namespace {
class GateFunction final : public BlockFunction {
 public:
  void step(const Instant& instant, const double* in, double* out) noexcept override {
    if (is_on(in[0]) != is_on(out[0])) edge(instant, 0, is_on(in[0]), instant.time_s);
    out[0] = is_on(in[0]) ? 1 : 0;
  }
  void visit_state(StateArchive&) override {}
};
/// What drives the plant shows its input.
std::unique_ptr<BlockFunction> passing() {
  return plain([](const Instant&, const double* in, double* out) { out[0] = in[0]; });
}
}  // namespace
template <>
Made make(const GateDrive& b, double) {
  Made m{std::make_unique<GateFunction>(), {b.input}, {""}, {}};
  m.gates = {b.gate};
  return m;
}
template <>
Made make(const Actuator& b, double) {
  Made m{passing(), {b.input}, {""}, {}};
  m.knobs = {b.knob};
  return m;
}
template <>
Made make(const CommandBlock& b, double) {
  Made m{passing(), {b.input}, {""}, {}};
  m.operables = {b.operates};
  return m;
}

}  // namespace zavrek::control
