#include <algorithm>
#include <cmath>
#include <numbers>

#include "zavrek/protection.hpp"

namespace zavrek::protection {

CyclePhasor::CyclePhasor(int samples_per_cycle) : length_(samples_per_cycle) {
  const auto n = static_cast<std::size_t>(length_);
  window_.assign(2 * n, 0.0);
  for (std::size_t k = 0; k < n; ++k) {
    // k counts from the oldest sample of the window; the newest stands at angle zero.
    const double angle = 2 * std::numbers::pi * (static_cast<double>(k) - (length_ - 1)) / length_;
    cosine_.push_back(2.0 / length_ * std::cos(angle));
    sine_.push_back(-2.0 / length_ * std::sin(angle));
  }
}

void CyclePhasor::push(double value) noexcept {
  newest_ = newest_ + 1 == length_ ? 0 : newest_ + 1;
  window_[static_cast<std::size_t>(newest_)] = value;
  window_[static_cast<std::size_t>(newest_ + length_)] = value;
}

void CyclePhasor::clear() noexcept { std::fill(window_.begin(), window_.end(), 0.0); }

std::complex<double> CyclePhasor::peak() const noexcept {
  const double* oldest = &window_[static_cast<std::size_t>(newest_) + 1];
  double real = 0;
  double imaginary = 0;
  for (int k = 0; k < length_; ++k) {
    real += cosine_[static_cast<std::size_t>(k)] * oldest[k];
    imaginary += sine_[static_cast<std::size_t>(k)] * oldest[k];
  }
  return {real, imaginary};
}

double CyclePhasor::rms() const noexcept { return std::abs(peak()) / std::numbers::sqrt2; }

OvercurrentRelay::OvercurrentRelay(RelaySettings settings, double rate_Hz, double frequency_Hz)
    : settings_(std::move(settings)), interval_s_(1 / rate_Hz) {
  if (auto flaws = validate(settings_); !flaws.empty()) throw Error(std::move(flaws));
  const double per_cycle = rate_Hz / frequency_Hz;
  if (per_cycle < 4 || std::abs(per_cycle - std::round(per_cycle)) > 1e-6) {
    throw Error("a relay needs a whole number of samples in a cycle, at least 4");
  }
  phasors_.assign(4, CyclePhasor(static_cast<int>(std::round(per_cycle))));
  for (const Stage& stage : settings_.stages)
    states_.push_back({find_curve(stage.characteristic), false, false, 0});
}

void OvercurrentRelay::reset() noexcept {
  for (CyclePhasor& phasor : phasors_) phasor.clear();
  for (StageState& state : states_) state = {state.curve, false, false, 0};
  start_ = trip_ = false;
}

void OvercurrentRelay::push(const Sample& sample) noexcept {
  const double residual = settings_.earth == "neutral"
                              ? sample.current_A[3]
                              : sample.current_A[0] + sample.current_A[1] + sample.current_A[2];
  for (std::size_t k = 0; k < 3; ++k) phasors_[k].push(sample.current_A[k]);
  phasors_[3].push(residual);
  phase_A_ = std::max({phasors_[0].rms(), phasors_[1].rms(), phasors_[2].rms()});
  earth_A_ = phasors_[3].rms();
  start_ = trip_ = false;
  for (std::size_t k = 0; k < states_.size(); ++k) {
    const Stage& stage = settings_.stages[k];
    advance(stage, states_[k], (stage.quantity == "earth" ? earth_A_ : phase_A_) * settings_.scale());
    start_ = start_ || states_[k].started;
    trip_ = trip_ || states_[k].tripped;
  }
}

void OvercurrentRelay::advance(const Stage& stage, StageState& state, double current_A) noexcept {
  const double threshold = state.started ? stage.drop_off * stage.pickup_A : stage.pickup_A;
  if (!(current_A > threshold)) {
    state = {state.curve, false, false, 0};
    return;
  }
  state.started = true;
  if (!state.curve) {
    state.progress += stage.delay_s > 0 ? interval_s_ / stage.delay_s : 1;
  } else if (current_A > stage.pickup_A) {  // between drop-off and pickup it holds
    const double multiple = std::min(current_A / stage.pickup_A, stage.flat_above);
    state.progress += interval_s_ / state.curve->time_s(multiple, stage.time_multiplier);
  }
  // A millionth of a sample's slack: a delay that is a whole number of samples must not take one more.
  if (state.progress >= 1 - 1e-6) state.tripped = true;
}

}  // namespace zavrek::protection
