// Three phases: rotating and fixed components, phase-locked loops, powers, sequences.
#include <algorithm>
#include <array>
#include <cmath>

#include "control/function.hpp"

namespace zavrek::control {

namespace {
void to_dq(const double* abc, double angle, double* dq0) noexcept {
  dq0[0] = dq0[1] = dq0[2] = 0;
  for (int k = 0; k < 3; ++k) {
    dq0[0] += 2.0 / 3 * abc[k] * std::cos(angle - k * third);
    dq0[1] -= 2.0 / 3 * abc[k] * std::sin(angle - k * third);
    dq0[2] += abc[k] / 3;
  }
}
}  // namespace
template <>
Made make(const ToDq& b, double) {
  return {plain([](const Instant&, const double* in, double* out) { to_dq(in, in[3], out); }),
          {b.a, b.b, b.c, b.angle},
          {"d", "q", "zero"},
          {}};
}

template <>
Made make(const FromDq& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            for (int k = 0; k < 3; ++k)
              out[k] = in[0] * std::cos(in[2] - k * third) - in[1] * std::sin(in[2] - k * third);
          }),
          {b.d, b.q, b.angle},
          {"a", "b", "c"},
          {}};
}

namespace {
/// q of the voltages, over their magnitude, drives a frequency by proportional and integral action; the angle
/// is its integral. With natural frequency w and damping z: gains 2 z w and w^2.
class PhaseLockFunction final : public BlockFunction {
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
  void visit_state(StateArchive& archive) override { archive(angle_, integral_, frequency_, started_); }

 private:
  const PhaseLock& b_;
  double period_, angle_ = 0, integral_ = 0, frequency_ = 0;
  bool started_ = false;
};
}  // namespace
template <>
Made make(const PhaseLock& b, double period) {
  return {std::make_unique<PhaseLockFunction>(b, period),
          {b.a, b.b, b.c},
          {"angle", "frequency", "d", "q"},
          {0, b.frequency_Hz, 0, 0}};
}

template <>
Made make(const Rotor& b, double period) {
  return {plain([period](const Instant&, const double* in, double* out) {
            out[0] = std::fmod(out[0] + 2 * pi * in[0] * period, 2 * pi);
          }),
          {b.frequency},
          {""},
          {}};
}

/// p = sum v i, q = ((vb - vc) ia + (vc - va) ib + (va - vb) ic)/sqrt 3, positive for a lagging current.
template <>
Made make(const Power& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            out[0] = in[0] * in[3] + in[1] * in[4] + in[2] * in[5];
            out[1] = -((in[2] - in[1]) * in[3] + (in[0] - in[2]) * in[4] + (in[1] - in[0]) * in[5]) /
                     std::numbers::sqrt3;
          }),
          {b.va, b.vb, b.vc, b.ia, b.ib, b.ic},
          {"p", "q"},
          {}};
}

namespace {
/// alpha along phase a, beta a quarter turn ahead; amplitudes kept (Clarke).
struct Fixed {
  double alpha, beta;
};
Fixed fixed(const double* abc) noexcept {
  return {(2 * abc[0] - abc[1] - abc[2]) / 3, (abc[1] - abc[2]) / std::numbers::sqrt3};
}
}  // namespace
template <>
Made make(const ToAlphaBeta& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            const Fixed v = fixed(in);
            out[0] = v.alpha;
            out[1] = v.beta;
            out[2] = (in[0] + in[1] + in[2]) / 3;
          }),
          {b.a, b.b, b.c},
          {"alpha", "beta", "zero"},
          {}};
}
template <>
Made make(const FromAlphaBeta& b, double) {
  return {plain([](const Instant&, const double* in, double* out) {
            out[0] = in[0];
            out[1] = (-in[0] + std::numbers::sqrt3 * in[1]) / 2;
            out[2] = (-in[0] - std::numbers::sqrt3 * in[1]) / 2;
          }),
          {b.alpha, b.beta},
          {"a", "b", "c"},
          {}};
}

namespace {
/// x1' = w (k (v - x1) - x2), x2' = w x1, by the trapezoidal rule: x1 follows the fundamental of v, x2 lags
/// it by a quarter (Rodriguez et al., "New positive-sequence voltage detector for grid synchronization",
/// IEEE PESC 2006). Behind it the loop of `phase_lock` on x1 = V cos, x2 = V sin.
class IntegratorLockFunction final : public BlockFunction {
 public:
  IntegratorLockFunction(const IntegratorLock& b, double period)
      : b_(b), period_(period), frequency_(b.frequency_Hz) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const double d = pi * (b_.frequency_Hz + integral_) * period_, k = b_.damping;
    const double r1 = x1_ + d * (k * (in[0] + before_ - x1_) - x2_), r2 = x2_ + d * x1_;
    // (1 + d k) x1 + d x2 = r1, x2 - d x1 = r2
    x1_ = (r1 - d * r2) / (1 + d * k + d * d);
    x2_ = r2 + d * x1_;
    before_ = in[0];
    angle_ = std::remainder(angle_ + 2 * pi * frequency_ * period_, 2 * pi);
    const double magnitude = std::hypot(x1_, x2_);
    const double error = magnitude > 0 ? (x2_ * std::cos(angle_) - x1_ * std::sin(angle_)) / magnitude : 0;
    const double w = 2 * pi * b_.bandwidth_Hz;
    integral_ = std::clamp(integral_ + w * w * period_ * error / (2 * pi), b_.low_Hz - b_.frequency_Hz,
                           b_.high_Hz - b_.frequency_Hz);
    frequency_ = std::clamp(b_.frequency_Hz + integral_ + 1.4 * w * error / (2 * pi), b_.low_Hz, b_.high_Hz);
    out[0] = angle_ < 0 ? angle_ + 2 * pi : angle_;
    out[1] = b_.frequency_Hz + integral_;
    out[2] = magnitude;
    out[3] = x1_;
    out[4] = x2_;
  }
  void visit_state(StateArchive& archive) override {
    archive(frequency_, integral_, angle_, x1_, x2_, before_);
  }

 private:
  const IntegratorLock& b_;
  double period_, frequency_, integral_ = 0, angle_ = 0;
  double x1_ = 0, x2_ = 0, before_ = 0;
};
}  // namespace
template <>
Made make(const IntegratorLock& b, double period) {
  return {std::make_unique<IntegratorLockFunction>(b, period),
          {b.input},
          {"angle", "frequency", "amplitude", "direct", "quadrature"},
          {0, b.frequency_Hz, 0, 0, 0}};
}

namespace {
/// With u = alpha + j beta and u' a quarter period ago: positive (u + j u')/2, negative (u - j u')/2. Between
/// two samples u' lies on the straight line.
class SeparationFunction final : public BlockFunction {
 public:
  SeparationFunction(const Separation& b, double period)
      : behind_(0.25 / b.frequency_Hz / period), kept_(static_cast<std::size_t>(behind_) + 2) {}
  void step(const Instant&, const double* in, double* out) noexcept override {
    const Fixed now = fixed(in);
    kept_[at_] = now;
    const auto whole = static_cast<std::size_t>(behind_);
    const double share = behind_ - static_cast<double>(whole);
    const Fixed near = kept_[(at_ + kept_.size() - whole) % kept_.size()];
    const Fixed far = kept_[(at_ + kept_.size() - whole - 1) % kept_.size()];
    at_ = (at_ + 1) % kept_.size();
    const Fixed then{near.alpha + share * (far.alpha - near.alpha),
                     near.beta + share * (far.beta - near.beta)};
    const Fixed positive{(now.alpha - then.beta) / 2, (now.beta + then.alpha) / 2};
    const Fixed negative{(now.alpha + then.beta) / 2, (now.beta - then.alpha) / 2};
    const double c = std::cos(in[3]), s = std::sin(in[3]);
    out[0] = positive.alpha * c + positive.beta * s;
    out[1] = positive.beta * c - positive.alpha * s;
    out[2] = negative.alpha * c - negative.beta * s;
    out[3] = negative.beta * c + negative.alpha * s;
  }
  void visit_state(StateArchive& archive) override { archive(kept_, at_); }

 private:
  double behind_;  // periods of the block in a quarter of the fundamental's
  std::vector<Fixed> kept_;
  std::size_t at_ = 0;
};
}  // namespace
template <>
Made make(const Separation& b, double period) {
  return {std::make_unique<SeparationFunction>(b, period),
          {b.a, b.b, b.c, b.angle},
          {"positive_d", "positive_q", "negative_d", "negative_q"},
          {}};
}

}  // namespace zavrek::control
