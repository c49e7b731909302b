// Arithmetic, filters and memory. T is the period of the block; x' the value at its last execution.
#include <algorithm>
#include <cmath>
#include <random>

#include "control/function.hpp"
#include "control/made_with.hpp"
#include "zavrek/quantity.hpp"

namespace zavrek::control {
namespace {
/// Numbers written as texts.
std::vector<double> numbers(const std::vector<std::string>& texts) {
  std::vector<double> all;
  for (const std::string& text : texts) all.push_back(parse_quantity(text).value);
  return all;
}
}  // namespace

template <>
Made make(const Sum& b, double) {
  return {plain([&b, n = b.inputs.size()](const Instant&, const double* in, double* out) {
            double sum = 0;
            for (std::size_t k = 0; k < n; ++k) sum += in[k];
            out[0] = b.gain * sum;
          }),
          b.inputs,
          {""},
          {}};
}

template <>
Made make(const Product& b, double) {
  return {plain([n = b.inputs.size()](const Instant&, const double* in, double* out) {
            out[0] = 1;
            for (std::size_t k = 0; k < n; ++k) out[0] *= in[k];
          }),
          b.inputs,
          {""},
          {}};
}

namespace {
/// y = P e + I + D (e - e')/T, I += K T e unless that drives y further beyond a limit.
class PiFunction final : public BlockFunction {
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
  void visit_state(StateArchive& archive) override { archive(integral_, before_); }

 private:
  const Pi& b_;
  double period_, integral_, before_ = 0;
};
}  // namespace
template <>
Made make(const Pi& b, double period) {
  return {std::make_unique<PiFunction>(b, period), {b.input, b.reset}, {""}, {b.start}};
}

/// y += (1 - exp(-T/tau)) (u - y)
template <>
Made make(const LowPass& b, double period) {
  return {plain([gain = 1 - std::exp(-period / b.time_s)](const Instant&, const double* in, double* out) {
            out[0] += gain * (in[0] - out[0]);
          }),
          {b.input},
          {""},
          {b.start}};
}

namespace {
/// sum c_i s^i times (T/2)^n (z + 1)^n with s = (2/T) (z - 1)/(z + 1), as a polynomial in z^-1.
std::vector<double> discrete(const std::vector<double>& high_first, std::size_t n, double period) {
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

/// Direct form II transposed.
class TransferFunction final : public BlockFunction {
 public:
  explicit TransferFunction(TransferCoefficients c)
      : b_(std::move(c.of_input)), a_(std::move(c.of_output)), state_(b_.size(), 0.0) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    out[0] = b_[0] * in[0] + state_[0];
    for (std::size_t k = 1; k < b_.size(); ++k)
      state_[k - 1] = b_[k] * in[0] - a_[k] * out[0] + (k + 1 < b_.size() ? state_[k] : 0);
  }
  void visit_state(StateArchive& archive) override { archive(state_); }

 private:
  std::vector<double> b_, a_, state_;
};
}  // namespace
TransferCoefficients transfer_coefficients(const Transfer& b, double period) {
  const std::vector<double> num = numbers(b.numerator), den = numbers(b.denominator);
  const std::size_t n = den.size() - 1;
  TransferCoefficients c{discrete(num, n, period), discrete(den, n, period)};
  for (double& x : c.of_input) x /= c.of_output[0];
  for (std::size_t k = c.of_output.size(); k-- > 0;) c.of_output[k] /= c.of_output[0];
  return c;
}
template <>
Made make(const Transfer& b, double period) {
  if (b.denominator.empty() || b.numerator.empty() || b.numerator.size() > b.denominator.size() ||
      numbers(b.denominator).front() == 0)
    reject("transfer", b.name, "denominator",
           "must begin with a number other than zero and be at least as long as the numerator");
  return {std::make_unique<TransferFunction>(transfer_coefficients(b, period)), {b.input}, {""}, {}};
}

template <>
Made make(const Limiter& b, double period) {
  return {plain([&b, period](const Instant&, const double* in, double* out) {
            const double wanted = std::clamp(in[0], b.low, b.high);
            out[0] = std::clamp(wanted, out[0] - b.fall_per_s * period, out[0] + b.rise_per_s * period);
          }),
          {b.input},
          {""},
          {b.start}};
}

template <>
Made make(const CurveBlock& b, double) {
  Points points;
  for (const std::string& text : b.points) points.push_back(network::as_point(text, "", ""));
  return {
      plain([points](const Instant&, const double* in, double* out) { out[0] = interpolate(points, in[0]); }),
      {b.input},
      {""},
      {}};
}

namespace {
class DelayFunction final : public BlockFunction {
 public:
  explicit DelayFunction(const Delay& b) : kept_(static_cast<std::size_t>(b.periods), b.start) {}
  [[nodiscard]] bool feeds_through() const override { return false; }
  void give(double* out) noexcept override { out[0] = kept_[at_]; }
  void step(const Instant&, const double* in, double*) noexcept override {
    kept_[at_] = in[0];
    at_ = (at_ + 1) % kept_.size();
  }
  void visit_state(StateArchive& archive) override { archive(kept_, at_); }

 private:
  std::vector<double> kept_;
  std::size_t at_ = 0;
};
}  // namespace
template <>
Made make(const Delay& b, double) {
  return {std::make_unique<DelayFunction>(b), {b.input}, {""}, {b.start}};
}

template <>
Made make(const Clock& b, double) {
  return {plain([points = b.values](const Instant& at, const double*, double* out) {
            out[0] = interpolate(points, at.time_s);
          }),
          {},
          {""},
          {}};
}

namespace {
class RmsFunction final : public BlockFunction {
 public:
  RmsFunction(const Rms& b, double period) : squares_(executions_in(b.window_s, period), 0.0) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    squares_[at_] = in[0] * in[0];
    at_ = (at_ + 1) % squares_.size();
    double sum = 0;
    for (const double square : squares_) sum += square;
    out[0] = std::sqrt(sum / static_cast<double>(squares_.size()));
  }
  void visit_state(StateArchive& archive) override { archive(squares_, at_); }

 private:
  std::vector<double> squares_;
  std::size_t at_ = 0;
};
}  // namespace
std::size_t executions_in(double window_s, double period_s) {
  return static_cast<std::size_t>(std::max(1.0, std::round(window_s / period_s)));
}
template <>
Made make(const Rms& b, double period) {
  return {std::make_unique<RmsFunction>(b, period), {b.input}, {""}, {}};
}

template <>
Made make(const Setpoint& b, double) {
  return {plain([&b](const Instant&, const double*, double* out) { out[0] = b.value; }), {}, {""}, {b.value}};
}

namespace {
/// y = gain x + offset + noise N(0, 1), within the range, in steps of the resolution.
class SensorFunction final : public BlockFunction {
 public:
  explicit SensorFunction(const Sensor& b) : b_(b), random_(seeded(b)) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    if (is_on(b_.frozen)) return;
    double y = b_.offset + (is_on(b_.dead) ? 0 : b_.gain * in[0]);
    if (b_.noise > 0) y += b_.noise * normal();
    y = std::clamp(y, b_.low, std::max(b_.low, b_.high));
    out[0] = b_.resolution > 0 ? std::round(y / b_.resolution) * b_.resolution : y;
  }
  void visit_state(StateArchive& archive) override { archive(random_); }

 private:
  /// Box, Muller, Ann. Math. Statist. 29 (1958).
  double normal() noexcept {
    const double u =
        (static_cast<double>(random_()) + 1) / (static_cast<double>(std::minstd_rand::max()) + 2);
    const double v = static_cast<double>(random_()) / static_cast<double>(std::minstd_rand::max());
    return std::sqrt(-2 * std::log(u)) * std::cos(2 * pi * v);
  }
  const Sensor& b_;
  std::minstd_rand random_;
};
}  // namespace
std::minstd_rand seeded(const Sensor& b) {
  std::minstd_rand random(static_cast<unsigned>(b.seed));
  for (const char c : b.name) random.seed(random() ^ static_cast<unsigned char>(c));
  return random;
}
template <>
Made make(const Sensor& b, double) {
  return {std::make_unique<SensorFunction>(b), {b.input}, {""}, {}};
}

namespace {
/// Perturb and observe: the voltage is moved on while the power grows, back when it falls.
class PowerTrackerFunction final : public BlockFunction {
 public:
  explicit PowerTrackerFunction(const PowerTracker& b) : b_(b), wanted_(b.start) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const double power = in[0] * in[1];
    if (!is_on(in[2])) {
      wanted_ = std::clamp(b_.start, b_.low, b_.high);
      before_ = power;
    } else {
      if (power < before_) direction_ = -direction_;
      wanted_ = std::clamp(wanted_ + direction_ * b_.step, b_.low, b_.high);
      before_ = power;
    }
    out[0] = wanted_;
    out[1] = power;
  }
  void visit_state(StateArchive& archive) override { archive(wanted_, before_, direction_); }

 private:
  const PowerTracker& b_;
  double wanted_, before_ = 0, direction_ = -1;
};
}  // namespace
template <>
Made make(const PowerTracker& b, double) {
  return {std::make_unique<PowerTrackerFunction>(b),
          {b.voltage, b.current, b.enable},
          {"", "power"},
          {b.start, 0}};
}

}  // namespace zavrek::control
