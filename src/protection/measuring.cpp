#include "zavrek/protection/measuring.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "zavrek/error.hpp"

namespace zavrek::protection {

namespace {

constexpr double pi = std::numbers::pi;
constexpr int frequency_cycles = 4;    // over which the turning of V1 is measured
constexpr int memory_cycles = 2;       // age of the voltage that is remembered
constexpr double fallen_below = 0.85;  // of the remembered voltage: the memory is held
constexpr double forget_after_s = 2;   // a voltage that stays low becomes the remembered one
constexpr double tracking_s = 0.25;    // time constant of the window's own frequency
constexpr double most_tracked = 0.15;  // of nominal, either way
constexpr double least_share = 0.02;   // of the largest V1 so far, for a frequency to be valid

}  // namespace

Filter filter_of(const std::string& word) {
  if (word == "half cycle") return Filter::half_cycle;
  return word == "cosine" ? Filter::cosine : Filter::full_cycle;
}

RunningPhasor::RunningPhasor(int samples_per_cycle, Filter filter, int harmonic)
    : cycle_(samples_per_cycle),
      span_(filter == Filter::half_cycle ? samples_per_cycle / 2 : samples_per_cycle),
      filter_(filter) {
  window_.assign(at(cycle_), 0.0);
  for (int n = 0; n < cycle_; ++n) {
    const double angle = 2 * pi * harmonic * n / cycle_;
    cosine_.push_back(2.0 / span_ * std::cos(angle));
    sine_.push_back(-2.0 / span_ * std::sin(angle));
    unit_cosine_.push_back(std::cos(angle));
    unit_sine_.push_back(std::sin(angle));
  }
  if (filter_ == Filter::cosine) quarter_.assign(at(cycle_ / 4), 0.0);
  newest_ = cycle_ - 1;
}

void RunningPhasor::push(double value) noexcept {
  newest_ = newest_ + 1 == cycle_ ? 0 : newest_ + 1;
  const int leaving = newest_ - span_ < 0 ? newest_ - span_ + cycle_ : newest_ - span_;
  const double gone = window_[at(leaving)];
  window_[at(newest_)] = value;
  if (newest_ != 0) {
    real_ += cosine_[at(newest_)] * value - cosine_[at(leaving)] * gone;
    imaginary_ += sine_[at(newest_)] * value - sine_[at(leaving)] * gone;
  } else {
    real_ = imaginary_ = 0;
    for (int k = 0, n = 0; k < span_; ++k, n = n == 0 ? cycle_ - 1 : n - 1) {
      real_ += cosine_[at(n)] * window_[at(n)];
      imaginary_ += sine_[at(n)] * window_[at(n)];
    }
  }
  value_ = {real_, imaginary_};
  if (filter_ != Filter::cosine) return;
  // y[n] = sum of x cos referred to the newest sample; with A cos(wn + f) in, y[n] = A cos(wn + f) and a
  // quarter cycle ago y = A sin(wn + f).
  const double now = peak_at_newest().real();
  const double before = quarter_[at(quarter_at_)];
  quarter_[at(quarter_at_)] = now;
  quarter_at_ = quarter_at_ + 1 == cycle_ / 4 ? 0 : quarter_at_ + 1;
  value_ = Phasor(now, before) * Phasor(unit_cosine_[at(newest_)], -unit_sine_[at(newest_)]);
}

void RunningPhasor::clear() noexcept {
  std::fill(window_.begin(), window_.end(), 0.0);
  std::fill(quarter_.begin(), quarter_.end(), 0.0);
  newest_ = cycle_ - 1;
  real_ = imaginary_ = 0;
  value_ = {};
}

Phasor RunningPhasor::peak_at_newest() const noexcept {
  return value_ * Phasor(unit_cosine_[at(newest_)], unit_sine_[at(newest_)]);
}

double RunningPhasor::rms() const noexcept { return size_of(value_) / std::numbers::sqrt2; }

Sequences sequences_of(const Phasor& a, const Phasor& b, const Phasor& c) noexcept {
  constexpr Phasor turn{-0.5, 0.86602540378443864676};
  constexpr Phasor back{-0.5, -0.86602540378443864676};
  return {(a + turn * b + back * c) / 3.0, (a + back * b + turn * c) / 3.0, (a + b + c) / 3.0};
}

Measuring::Measuring(const MeasuringOptions& options) : options_(options) {
  const double per_cycle = options.rate_Hz / options.frequency_Hz;
  cycle_ = static_cast<int>(std::lround(per_cycle));
  if (cycle_ < 8 || cycle_ % 4 != 0 || std::abs(per_cycle - cycle_) > 1e-6) {
    throw Error("a relay needs a whole number of samples in a cycle, at least 8 and a multiple of 4");
  }
  const RunningPhasor fundamental(cycle_, options.filter);
  const RunningPhasor second(cycle_, Filter::full_cycle, 2);
  const RunningPhasor fifth(cycle_, Filter::full_cycle, 5);
  const auto ends = static_cast<std::size_t>(options.ends);
  using std::array;
  channels_.assign(ends, array<RunningPhasor, 8>{fundamental, fundamental, fundamental, fundamental,
                                                 fundamental, fundamental, fundamental, fundamental});
  if (options.harmonics)
    harmonics_.assign(ends, array<RunningPhasor, 6>{second, second, second, fifth, fifth, fifth});
  measured_.ends.resize(ends);
  measured_.frequency_Hz = options.frequency_Hz;
  angle_past_.assign(static_cast<std::size_t>(frequency_cycles * cycle_), 0.0);
  frequency_past_.assign(static_cast<std::size_t>(frequency_cycles * cycle_), options.frequency_Hz);
  memory_past_.assign(ends, std::vector<Phasor>(static_cast<std::size_t>(memory_cycles * cycle_)));
  fallen_s_.assign(ends, 0.0);
  tracked_Hz_ = options.frequency_Hz;
  before_.resize(ends);
  between_.resize(ends);
}

void Measuring::clear() noexcept {
  for (auto& end : channels_) std::for_each(end.begin(), end.end(), [](auto& c) { c.clear(); });
  for (auto& end : harmonics_) std::for_each(end.begin(), end.end(), [](auto& c) { c.clear(); });
  for (End& end : measured_.ends) end = {};
  for (auto& past : memory_past_) std::fill(past.begin(), past.end(), Phasor{});
  std::fill(angle_past_.begin(), angle_past_.end(), 0.0);
  before_now_ = {};
  angle_rad_ = 0;
  lasting_ = 0;
  std::fill(frequency_past_.begin(), frequency_past_.end(), options_.frequency_Hz);
  std::fill(fallen_s_.begin(), fallen_s_.end(), 0.0);
  measured_.frequency_Hz = options_.frequency_Hz;
  measured_.frequency_rate = 0;
  measured_.frequency_valid = false;
  count_ = 0;
  past_at_ = 0;
  tracked_Hz_ = options_.frequency_Hz;
  position_ = turned_rad_ = 0;
}

void Measuring::complete(End& end, bool neutral_channel) noexcept {
  if (!neutral_channel) end.current[3] = end.current[0] + end.current[1] + end.current[2];
  end.voltage[3] = end.voltage[0] + end.voltage[1] + end.voltage[2];
  end.i = sequences_of(end.current[0], end.current[1], end.current[2]);
  end.v = sequences_of(end.voltage[0], end.voltage[1], end.voltage[2]);
}

void Measuring::push(std::span<const Sample> samples) noexcept {
  if (options_.track_frequency) {
    resample(samples);
  } else {
    take(samples);
  }
  follow_frequency();
}

/// Takes samples at a whole number in the cycle that is tracked, straight between those that came in: none,
/// one or two of them.
void Measuring::resample(std::span<const Sample> samples) noexcept {
  const double step = options_.frequency_Hz / tracked_Hz_;  // of incoming samples between two taken
  const std::size_t ends = std::min(before_.size(), samples.size());
  for (position_ -= 1; position_ <= 1e-9; position_ += step) {
    const double share = 1 + position_;
    for (std::size_t e = 0; e < ends; ++e) {
      for (std::size_t k = 0; k < 4; ++k) {
        const Sample& old = before_[e];
        between_[e].current_A[k] = old.current_A[k] + share * (samples[e].current_A[k] - old.current_A[k]);
        between_[e].voltage_V[k] = old.voltage_V[k] + share * (samples[e].voltage_V[k] - old.voltage_V[k]);
      }
    }
    take(std::span(between_.data(), ends));
  }
  std::copy_n(samples.begin(), ends, before_.begin());
  turned_rad_ += 2 * pi * (tracked_Hz_ - options_.frequency_Hz) / options_.rate_Hz;
  if (!measured_.frequency_valid) return;
  const double most = most_tracked * options_.frequency_Hz;
  const double wanted =
      std::clamp(measured_.frequency_Hz, options_.frequency_Hz - most, options_.frequency_Hz + most);
  tracked_Hz_ += (wanted - tracked_Hz_) / (tracking_s * options_.rate_Hz);
}

void Measuring::take(std::span<const Sample> samples) noexcept {
  for (std::size_t e = 0; e < measured_.ends.size() && e < samples.size(); ++e) {
    End& end = measured_.ends[e];
    auto& channels = channels_[e];
    for (std::size_t k = 0; k < 4; ++k) {
      channels[k].push(samples[e].current_A[k]);
      if (k < 3) channels[4 + k].push(samples[e].voltage_V[k]);
      end.current[k] = channels[k].peak() * (options_.current_scale / std::numbers::sqrt2);
      if (k < 3) end.voltage[k] = channels[4 + k].peak() * (options_.voltage_scale / std::numbers::sqrt2);
    }
    complete(end, options_.neutral_channel);
    remember_voltage(end, e);
    if (harmonics_.empty()) continue;
    for (std::size_t k = 0; k < 3; ++k) {
      harmonics_[e][k].push(samples[e].current_A[k]);
      harmonics_[e][3 + k].push(samples[e].current_A[k]);
      end.second[k] = harmonics_[e][k].peak() * (options_.current_scale / std::numbers::sqrt2);
      end.fifth[k] = harmonics_[e][3 + k].peak() * (options_.current_scale / std::numbers::sqrt2);
    }
  }
  ++count_;
}

/// The voltage of two cycles ago, held from the moment at which it falls.
void Measuring::remember_voltage(End& end, std::size_t index) noexcept {
  auto& past = memory_past_[index];
  Phasor& oldest = past[static_cast<std::size_t>(count_ % static_cast<long long>(past.size()))];
  const bool fallen = size_of(end.v.positive) < fallen_below * size_of(end.v1_memory);
  fallen_s_[index] = fallen ? fallen_s_[index] + 1 / options_.rate_Hz : 0;
  if (!fallen || fallen_s_[index] > forget_after_s) end.v1_memory = oldest;
  oldest = end.v.positive;
}

/// V1 (I1 where there is no voltage) stands still at nominal frequency and turns with the deviation. What it
/// turns from sample to sample is added up; the sum over four cycles averages the ripple of unbalance.
void Measuring::follow_frequency() noexcept {
  const End& end = measured_.ends.front();
  const Phasor now = size_of(end.v.positive) > 0 ? end.v.positive : end.i.positive;
  const auto slot = static_cast<std::size_t>(past_at_);
  const double largest = size_of(end.v1_memory);
  const bool there = size_of(now) > 0 && size_of(now) > least_share * largest;
  lasting_ = there ? lasting_ + 1 : 0;
  if (there && size_of(before_now_) > 0) angle_rad_ += std::arg(now * std::conj(before_now_));
  before_now_ = now;
  const double then_rad = angle_past_[slot];
  // The window's own turning is no turning of the signal's.
  const double total_rad = angle_rad_ + turned_rad_;
  angle_past_[slot] = total_rad;
  const double span_s = static_cast<double>(angle_past_.size()) / options_.rate_Hz;
  const long long settled = static_cast<long long>(angle_past_.size()) + window();
  measured_.frequency_valid = lasting_ >= settled;
  measured_.frequency_rate = 0;
  if (measured_.frequency_valid) {
    measured_.frequency_Hz = options_.frequency_Hz + (total_rad - then_rad) / (2 * pi * span_s);
    if (lasting_ >= 2 * settled)
      measured_.frequency_rate = (measured_.frequency_Hz - frequency_past_[slot]) / span_s;
  }
  frequency_past_[slot] = measured_.frequency_Hz;
  past_at_ = past_at_ + 1 == static_cast<int>(angle_past_.size()) ? 0 : past_at_ + 1;
}

}  // namespace zavrek::protection
