// The blocks' equations. T is the period of the block; x' the value at its last execution.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "control/function.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {
namespace {

constexpr double pi = std::numbers::pi;
constexpr double third = 2 * pi / 3;

bool is_on(double value) { return value > 0.5; }

/// A function without state.
template <class Step>
class Plain final : public Function {
 public:
  explicit Plain(Step step) : step_(std::move(step)) {}
  void step(const Instant& instant, const double* in, double* out) noexcept override {
    step_(instant, in, out);
  }

 private:
  Step step_;
};
template <class Step>
std::unique_ptr<Function> plain(Step step) {
  return std::make_unique<Plain<Step>>(std::move(step));
}

/// Numbers written as texts.
std::vector<double> numbers(const std::vector<std::string>& texts) {
  std::vector<double> all;
  for (const std::string& text : texts) all.push_back(parse_quantity(text).value);
  return all;
}

double interpolate(const Points& points, double x) noexcept {
  if (points.empty()) return 0;
  if (x <= points.front().x) return points.front().y;
  for (std::size_t k = 1; k < points.size(); ++k) {
    if (x > points[k].x) continue;
    const double share = (x - points[k - 1].x) / (points[k].x - points[k - 1].x);
    return points[k - 1].y + share * (points[k].y - points[k - 1].y);
  }
  return points.back().y;
}

Made made(const Sum& b, double) {
  return {plain([gain = b.gain, n = b.inputs.size()](const Instant&, const double* in, double* out) {
            double sum = 0;
            for (std::size_t k = 0; k < n; ++k) sum += in[k];
            out[0] = gain * sum;
          }),
          b.inputs,
          {""},
          {}};
}

Made made(const Product& b, double) {
  return {plain([n = b.inputs.size()](const Instant&, const double* in, double* out) {
            out[0] = 1;
            for (std::size_t k = 0; k < n; ++k) out[0] *= in[k];
          }),
          b.inputs,
          {""},
          {}};
}

/// y = P e + I + D (e - e')/T, I += K T e unless that drives y further beyond a limit.
class PiFunction final : public Function {
 public:
  PiFunction(const Pi& b, double period) : b_(b), period_(period), integral_(b.start) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const double error = in[0];
    if (is_on(in[1])) {
      integral_ = b_.start;
      before_ = error;
      out[0] = std::clamp(b_.start, b_.low, b_.high);
      return;
    }
    const double moved = b_.integral_per_s * period_ * error;
    const double wanted =
        b_.proportional * error + integral_ + moved + b_.derivative_s * (error - before_) / period_;
    out[0] = std::clamp(wanted, b_.low, b_.high);
    const bool beyond = (wanted > b_.high && moved > 0) || (wanted < b_.low && moved < 0);
    if (!beyond) integral_ += moved;
    before_ = error;
  }

 private:
  Pi b_;
  double period_, integral_, before_ = 0;
};
Made made(const Pi& b, double period) {
  return {std::make_unique<PiFunction>(b, period), {b.input, b.reset}, {""}, {b.start}};
}

/// y += (1 - exp(-T/tau)) (u - y)
Made made(const LowPass& b, double period) {
  return {plain([gain = 1 - std::exp(-period / b.time_s)](const Instant&, const double* in, double* out) {
            out[0] += gain * (in[0] - out[0]);
          }),
          {b.input},
          {""},
          {b.start}};
}

/// s = (2/T) (z - 1)/(z + 1); direct form II transposed.
class TransferFunction final : public Function {
 public:
  TransferFunction(const Transfer& b, double period) {
    const std::vector<double> num = numbers(b.numerator), den = numbers(b.denominator);
    const std::size_t n = den.size() - 1;
    b_ = discrete(num, n, period);
    a_ = discrete(den, n, period);
    for (double& x : b_) x /= a_[0];
    for (std::size_t k = a_.size(); k-- > 0;) a_[k] /= a_[0];
    state_.assign(n + 1, 0.0);
  }
  void step(const Instant&, const double* in, double* out) noexcept override {
    out[0] = b_[0] * in[0] + state_[0];
    for (std::size_t k = 1; k < b_.size(); ++k)
      state_[k - 1] = b_[k] * in[0] - a_[k] * out[0] + (k + 1 < b_.size() ? state_[k] : 0);
  }

 private:
  /// sum c_i s^i times (T/2)^n (z + 1)^n, as a polynomial in z^-1.
  static std::vector<double> discrete(const std::vector<double>& high_first, std::size_t n, double period) {
    std::vector<double> sum(n + 1, 0.0);
    for (std::size_t i = 0; i < high_first.size(); ++i) {
      const std::size_t power = high_first.size() - 1 - i;
      std::vector<double> term{high_first[i] * std::pow(2 / period, static_cast<double>(power))};
      for (std::size_t k = 0; k < n; ++k) {
        const double sign = k < power ? -1 : 1;
        term.push_back(0);
        for (std::size_t j = term.size() - 1; j > 0; --j) term[j] += sign * term[j - 1];
      }
      for (std::size_t j = 0; j <= n; ++j) sum[j] += term[j];
    }
    return sum;
  }
  std::vector<double> b_, a_, state_;
};
Made made(const Transfer& b, double period) {
  if (b.denominator.empty() || b.numerator.empty() || b.numerator.size() > b.denominator.size() ||
      numbers(b.denominator).front() == 0)
    throw Error(
        Flaw{.file = {},
             .place = "transfer." + b.name,
             .field = "denominator",
             .text = "must begin with a number other than zero and be at least as long as the numerator"});
  return {std::make_unique<TransferFunction>(b, period), {b.input}, {""}, {}};
}

Made made(const Limiter& b, double period) {
  return {plain([b, period](const Instant&, const double* in, double* out) {
            const double wanted = std::clamp(in[0], b.low, b.high);
            out[0] = std::clamp(wanted, out[0] - b.fall_per_s * period, out[0] + b.rise_per_s * period);
          }),
          {b.input},
          {""},
          {b.start}};
}

Made made(const Curve& b, double) {
  Points points;
  for (const std::string& text : b.points) points.push_back(network::as_point(text, "", ""));
  return {
      plain([points](const Instant&, const double* in, double* out) { out[0] = interpolate(points, in[0]); }),
      {b.input},
      {""},
      {}};
}

class DelayFunction final : public Function {
 public:
  explicit DelayFunction(const Delay& b) : kept_(static_cast<std::size_t>(b.periods), b.start) {}
  [[nodiscard]] bool feeds_through() const override { return false; }
  void give(double* out) noexcept override { out[0] = kept_[at_]; }
  void step(const Instant&, const double* in, double*) noexcept override {
    kept_[at_] = in[0];
    at_ = (at_ + 1) % kept_.size();
  }

 private:
  std::vector<double> kept_;
  std::size_t at_ = 0;
};
Made made(const Delay& b, double) { return {std::make_unique<DelayFunction>(b), {b.input}, {""}, {b.start}}; }

Made made(const Comparator& b, double) {
  return {plain([b](const Instant&, const double* in, double* out) {
            out[0] = in[0] > b.on_above ? 1 : in[0] < b.off_below ? 0 : out[0];
          }),
          {b.input},
          {""},
          {}};
}

class TimerFunction final : public Function {
 public:
  TimerFunction(const Timer& b, double period) : b_(b), period_(period) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const bool wants = is_on(in[0]);
    since_ = wants == wanted_ ? since_ + period_ : 0;
    wanted_ = wants;
    if (since_ >= (wants ? b_.on_delay_s : b_.off_delay_s) - 1e-9 * period_) out[0] = wants ? 1 : 0;
  }

 private:
  Timer b_;
  double period_, since_ = 0;
  bool wanted_ = false;
};
Made made(const Timer& b, double period) {
  return {std::make_unique<TimerFunction>(b, period), {b.input}, {""}, {}};
}

Made made(const Latch& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            if (is_on(in[0])) out[0] = 1;
            if (is_on(in[1])) out[0] = 0;
          }),
          {b.set, b.reset},
          {""},
          {}};
}

Made made(const Logic& b, double) {
  return {plain([op = b.operation, n = b.inputs.size()](const Instant&, const double* in, double* out) {
            const auto on = static_cast<std::size_t>(std::count_if(in, in + n, is_on));
            out[0] = op == "and" ? on == n : op == "or" ? on > 0 : op == "not" ? on == 0 : on % 2 == 1;
          }),
          b.inputs,
          {""},
          {}};
}

Made made(const Select& b, double) {
  return {plain([](const Instant&, const double* in, double* out) { out[0] = is_on(in[0]) ? in[1] : in[2]; }),
          {b.when, b.then, b.otherwise},
          {""},
          {}};
}

Made made(const Clock& b, double) {
  return {plain([points = b.values](const Instant& at, const double*, double* out) {
            out[0] = interpolate(points, at.time_s);
          }),
          {},
          {""},
          {}};
}

void to_dq(const double* abc, double angle, double* dq0) noexcept {
  dq0[0] = dq0[1] = dq0[2] = 0;
  for (int k = 0; k < 3; ++k) {
    dq0[0] += 2.0 / 3 * abc[k] * std::cos(angle - k * third);
    dq0[1] -= 2.0 / 3 * abc[k] * std::sin(angle - k * third);
    dq0[2] += abc[k] / 3;
  }
}
Made made(const ToDq& b, double) {
  return {plain([](const Instant&, const double* in, double* out) { to_dq(in, in[3], out); }),
          {b.a, b.b, b.c, b.angle},
          {"d", "q", "zero"},
          {}};
}

Made made(const FromDq& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            for (int k = 0; k < 3; ++k)
              out[k] = in[0] * std::cos(in[2] - k * third) - in[1] * std::sin(in[2] - k * third);
          }),
          {b.d, b.q, b.angle},
          {"a", "b", "c"},
          {}};
}

/// q of the voltages, over their magnitude, drives a frequency by proportional and integral action; the angle
/// is its integral. With natural frequency w and damping z: gains 2 z w and w^2.
class PhaseLockFunction final : public Function {
 public:
  PhaseLockFunction(const PhaseLock& b, double period) : b_(b), period_(period) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    double dq0[3];
    if (!started_) {  // from the voltages as they stand
      to_dq(in, 0, dq0);
      angle_ = std::atan2(dq0[1], dq0[0]);
      started_ = true;
    } else {
      angle_ += 2 * pi * frequency_ * period_;
    }
    angle_ = std::remainder(angle_, 2 * pi);
    to_dq(in, angle_, dq0);
    const double magnitude = std::hypot(dq0[0], dq0[1]);
    const double error = magnitude > 0 ? dq0[1] / magnitude : 0;
    const double w = 2 * pi * b_.bandwidth_Hz;
    integral_ += w * w * period_ * error / (2 * pi);
    integral_ = std::clamp(integral_, b_.low_Hz - b_.frequency_Hz, b_.high_Hz - b_.frequency_Hz);
    frequency_ = std::clamp(b_.frequency_Hz + integral_ + 2 * b_.damping * w * error / (2 * pi), b_.low_Hz,
                            b_.high_Hz);
    out[0] = angle_ < 0 ? angle_ + 2 * pi : angle_;
    out[1] = b_.frequency_Hz + integral_;
    out[2] = dq0[0];
    out[3] = dq0[1];
  }

 private:
  PhaseLock b_;
  double period_, angle_ = 0, integral_ = 0, frequency_ = 0;
  bool started_ = false;
};
Made made(const PhaseLock& b, double period) {
  return {std::make_unique<PhaseLockFunction>(b, period),
          {b.a, b.b, b.c},
          {"angle", "frequency", "d", "q"},
          {0, b.frequency_Hz, 0, 0}};
}

Made made(const Rotor& b, double period) {
  return {plain([period](const Instant&, const double* in, double* out) {
            out[0] = std::fmod(out[0] + 2 * pi * in[0] * period, 2 * pi);
          }),
          {b.frequency},
          {""},
          {}};
}

/// p = sum v i, q = ((vb - vc) ia + (vc - va) ib + (va - vb) ic)/sqrt 3, positive for a lagging current.
Made made(const Power& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            out[0] = in[0] * in[3] + in[1] * in[4] + in[2] * in[5];
            out[1] = -((in[2] - in[1]) * in[3] + (in[0] - in[2]) * in[4] + (in[1] - in[0]) * in[5]) /
                     std::numbers::sqrt3;
          }),
          {b.va, b.vb, b.vc, b.ia, b.ib, b.ic},
          {"p", "q"},
          {}};
}

class RmsFunction final : public Function {
 public:
  RmsFunction(const Rms& b, double period)
      : squares_(static_cast<std::size_t>(std::max(1.0, std::round(b.window_s / period))), 0.0) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    squares_[at_] = in[0] * in[0];
    at_ = (at_ + 1) % squares_.size();
    double sum = 0;
    for (const double square : squares_) sum += square;
    out[0] = std::sqrt(sum / static_cast<double>(squares_.size()));
  }

 private:
  std::vector<double> squares_;
  std::size_t at_ = 0;
};
Made made(const Rms& b, double period) {
  return {std::make_unique<RmsFunction>(b, period), {b.input}, {""}, {}};
}

/// Natural sampling of references that are held for a period: edges where they cross a triangle that starts
/// at -1 and rises. Three levels: two triangles, one above the other; the upper pair of valves (1 against 3)
/// follows the upper one, the lower pair (2 against 4) the lower one.
class ModulatorFunction final : public Function {
 public:
  ModulatorFunction(const Modulator& b, double period)
      : legs_(b.references.size()),
        three_(b.levels == "three"),
        centred_(b.third_harmonic),
        half_(0.5 / b.carrier_Hz),
        dead_(b.dead_time_s),
        halves_(static_cast<int>(std::llround(period / half_))),
        upper_(legs_ * (three_ ? 2 : 1), State::off) {}

  void number_gates(int first) override { first_gate_ = first; }

  void step(const Instant& instant, const double* in, double* out) noexcept override {
    const bool enabled = is_on(in[legs_]);
    double shift = 0;
    if (centred_) {
      const auto [low, high] = std::minmax_element(in, in + legs_);
      shift = -(*low + *high) / 2;
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
  void edge(const Instant& instant, std::size_t gate, bool on, double at) noexcept {
    if (instant.edges->size() == instant.edges->capacity()) return;
    instant.edges->push_back({first_gate_ + static_cast<int>(gate), on, at});
  }

  std::size_t legs_;
  bool three_, centred_;
  double half_, dead_;
  int halves_;
  bool rising_ = true;
  int first_gate_ = 0;
  std::vector<State> upper_;  // per pair of valves
};
Made made(const Modulator& b, double period) {
  const auto reject = [&](const char* field, std::string text) {
    throw Error(Flaw{.file = {}, .place = "modulator." + b.name, .field = field, .text = std::move(text)});
  };
  if (b.references.empty() || b.references.size() > 3)
    reject("references", "one per leg is wanted, up to three");
  const double halves = 2 * b.carrier_Hz * period;
  if (std::abs(halves - std::round(halves)) > 1e-6 || std::round(halves) < 1)
    reject("carrier", "the block's period must be half of the carrier's, or a multiple of that");
  Made m{std::make_unique<ModulatorFunction>(b, period), b.references, {}, {}};
  m.inputs.push_back(b.enable);
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

/// What drives the plant shows its input.
std::unique_ptr<Function> passing() {
  return plain([](const Instant&, const double* in, double* out) { out[0] = in[0]; });
}
Made made(const Actuator& b, double) {
  Made m{passing(), {b.input}, {""}, {}};
  m.knobs = {b.knob};
  return m;
}
Made made(const Command& b, double) {
  Made m{passing(), {b.input}, {""}, {}};
  m.operables = {b.operates};
  return m;
}

}  // namespace

Made make(const Block& block, double period_s) {
  return std::visit([&](const auto& b) { return made(b, period_s); }, block);
}

}  // namespace zavrek::control
