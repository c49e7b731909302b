#include "zavrek/protection/measuring.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <numbers>

#include "zavrek/error.hpp"

namespace zavrek::protection {

namespace {

using std::numbers::pi;

constexpr int frequency_cycles = 4;    // over which the turning of V1 is measured
constexpr int memory_cycles = 2;       // age of the voltage that is remembered
constexpr double fallen_below = 0.85;  // of the remembered voltage: the memory is held
constexpr double forget_after_s = 2;   // a voltage that stays low becomes the remembered one
constexpr double tracking_s = 0.25;    // time constant of the window's own frequency
constexpr double most_tracked = 0.15;  // of nominal, either way
constexpr double least_share = 0.02;   // of the largest V1 so far, for a frequency to be valid

using Four = double __attribute__((vector_size(4 * sizeof(double))));  // as in the class
[[nodiscard]] Four load(const double* at) noexcept {
  Four value;
  std::memcpy(&value, at, sizeof value);
  return value;
}
void store(double* at, Four value) noexcept { std::memcpy(at, &value, sizeof value); }

/// The angle of a phasor, which is most often next to nothing: there the series is exact.
double small_turn(const Phasor& p) noexcept {
  if (std::abs(p.imag()) > 0.03 * p.real()) return std::arg(p);
  const double x = p.imag() / p.real(), s = x * x;
  return x * (1 - s * (1.0 / 3 - s * (1.0 / 5 - s / 7)));
}

}  // namespace

PhasorFilter filter_of(const std::string& word) {
  if (word == "half cycle") return PhasorFilter::half_cycle;
  return word == "cosine" ? PhasorFilter::cosine : PhasorFilter::full_cycle;
}

RunningPhasors::RunningPhasors(int channels, int samples_per_cycle, PhasorFilter filter, int harmonic)
    : width_(channels > 4 ? 8 : 4),
      cycle_(samples_per_cycle),
      span_(filter == PhasorFilter::half_cycle ? samples_per_cycle / 2 : samples_per_cycle),
      filter_(filter) {
  window_.assign(at(cycle_ * width_), 0.0);
  for (int n = 0; n < cycle_; ++n) {
    const double angle = 2 * pi * harmonic * n / cycle_;
    cosine_.push_back(2.0 / span_ * std::cos(angle));
    sine_.push_back(-2.0 / span_ * std::sin(angle));
    unit_cosine_.push_back(std::cos(angle));
    unit_sine_.push_back(std::sin(angle));
  }
  if (filter_ == PhasorFilter::cosine) quarter_.assign(at(cycle_ / 4 * width_), 0.0);
  newest_ = cycle_ - 1;
}

template <int Width>
void RunningPhasors::take(const double* values, int count, int stride) noexcept {
  constexpr std::size_t fours = Width / 4;
  Four real[fours], imaginary[fours];
  for (std::size_t f = 0; f < fours; ++f) {
    real[f] = load(&sum_real_[4 * f]);
    imaginary[f] = load(&sum_imaginary_[4 * f]);
  }
  for (; count > 0; --count, values += stride) {
    newest_ = newest_ + 1 == cycle_ ? 0 : newest_ + 1;
    const int leaving = newest_ - span_ < 0 ? newest_ - span_ + cycle_ : newest_ - span_;
    double* const place = &window_[at(newest_ * Width)];
    const double* const past = &window_[at(leaving * Width)];
    const double cosine = cosine_[at(newest_)], sine = sine_[at(newest_)];
    const double past_cosine = cosine_[at(leaving)], past_sine = sine_[at(leaving)];
    for (std::size_t f = 0; f < fours; ++f) {
      const Four now = load(values + 4 * f), gone = load(past + 4 * f);
      store(place + 4 * f, now);
      real[f] += cosine * now - past_cosine * gone;
      imaginary[f] += sine * now - past_sine * gone;
    }
    if (newest_ == 0 && ++cycles_ == cycles_of_sums) sum_afresh<Width>(real, imaginary);
    if (filter_ == PhasorFilter::cosine) look_back_a_quarter<Width>(real, imaginary);
  }
  const bool standing = filter_ != PhasorFilter::cosine;
  for (std::size_t f = 0; f < fours; ++f) {
    store(&sum_real_[4 * f], real[f]);
    store(&sum_imaginary_[4 * f], imaginary[f]);
    if (standing) store(&real_[4 * f], real[f]);
    if (standing) store(&imaginary_[4 * f], imaginary[f]);
  }
}

template <int Width>
void RunningPhasors::sum_afresh(Four* real, Four* imaginary) noexcept {
  cycles_ = 0;
  std::fill_n(real, Width / 4, Four{});
  std::fill_n(imaginary, Width / 4, Four{});
  for (int k = 0, n = newest_; k < span_; ++k, n = n == 0 ? cycle_ - 1 : n - 1) {
    for (std::size_t f = 0; f < Width / 4; ++f) {
      const Four value = load(&window_[at(n * Width) + 4 * f]);
      real[f] += cosine_[at(n)] * value;
      imaginary[f] += sine_[at(n)] * value;
    }
  }
}

/// y[n] = sum of x cos referred to the newest sample; with A cos(wn + f) in, y[n] = A cos(wn + f) and a
/// quarter cycle ago y = A sin(wn + f).
template <int Width>
void RunningPhasors::look_back_a_quarter(const Four* sum_real, const Four* sum_imaginary) noexcept {
  double* before = &quarter_[at(quarter_at_ * Width)];
  quarter_at_ = quarter_at_ + 1 == cycle_ / 4 ? 0 : quarter_at_ + 1;
  const double cosine = unit_cosine_[at(newest_)], sine = unit_sine_[at(newest_)];
  for (std::size_t f = 0; f < Width / 4; ++f) {
    const Four now = sum_real[f] * cosine - sum_imaginary[f] * sine;
    const Four then = load(before + 4 * f);
    store(before + 4 * f, now);
    store(&real_[4 * f], now * cosine + then * sine);
    store(&imaginary_[4 * f], then * cosine - now * sine);
  }
}

// What the header's `push` calls.
template void RunningPhasors::take<4>(const double*, int, int) noexcept;
template void RunningPhasors::take<8>(const double*, int, int) noexcept;

void RunningPhasors::clear() noexcept {
  std::fill(window_.begin(), window_.end(), 0.0);
  std::fill(quarter_.begin(), quarter_.end(), 0.0);
  newest_ = cycle_ - 1;
  cycles_ = 0;
  sum_real_ = sum_imaginary_ = real_ = imaginary_ = {};
}

Phasor RunningPhasors::peak_at_newest(std::size_t channel) const noexcept {
  return peak(channel) * Phasor(unit_cosine_[at(newest_)], unit_sine_[at(newest_)]);
}

double RunningPhasor::rms() const noexcept { return size_of(peak()) / std::numbers::sqrt2; }

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
  if (options.decisions > 0 && cycle_ % options.decisions != 0)
    throw Error("a relay decides after a whole number of samples: " + std::to_string(options.decisions) +
                " decisions do not fit a cycle of " + std::to_string(cycle_));
  if (options.decisions > 0) every_ = cycle_ / options.decisions;
  const int decisions = cycle_ / every_;
  const auto ends = static_cast<std::size_t>(options.ends);
  channels_.assign(ends, RunningPhasors(7, cycle_, options.filter));
  if (options.harmonics) {
    second_.assign(ends, RunningPhasors(3, cycle_, PhasorFilter::full_cycle, 2));
    fifth_.assign(ends, RunningPhasors(3, cycle_, PhasorFilter::full_cycle, 5));
  }
  waiting_.assign(ends * most_waiting * sample_numbers, 0.0);
  measured_.ends.resize(ends);
  for (End& end : measured_.ends) end.frequency_Hz = options.frequency_Hz;
  const auto past = static_cast<std::size_t>(frequency_cycles * decisions);
  if (options_.track_frequency) options_.frequency_of.push_back(0);
  for (std::size_t e = 0; e < ends; ++e) {
    const auto& wanted = options_.frequency_of;
    if (std::find(wanted.begin(), wanted.end(), static_cast<int>(e)) == wanted.end()) continue;
    Turning& turning = turning_.emplace_back();
    turning.end = e;
    turning.angle_past.assign(past, 0.0);
    turning.frequency_past.assign(past, options.frequency_Hz);
  }
  memory_past_.assign(ends, std::vector<Phasor>(static_cast<std::size_t>(memory_cycles * decisions)));
  fallen_s_.assign(ends, 0.0);
  tracked_Hz_ = options.frequency_Hz;
  before_.resize(ends);
  between_.resize(ends);
}

void Measuring::visit_state(StateArchive& archive) {
  archive(since_, waiting_, waits_, measured_.ends, past_at_, memory_at_, fallen_s_, tracked_Hz_, position_,
          turned_rad_, before_, between_);
  for (auto* phasors : {&channels_, &second_, &fifth_}) {
    for (RunningPhasors& of_end : *phasors) of_end.visit_state(archive);
  }
  for (Turning& turning : turning_)
    archive(turning.angle_past, turning.frequency_past, turning.angle_rad, turning.before_now,
            turning.lasting);
  for (std::vector<Phasor>& past : memory_past_) archive(past);
}

void Measuring::clear() noexcept {
  for (auto* all : {&channels_, &second_, &fifth_})
    std::for_each(all->begin(), all->end(), [](RunningPhasors& phasors) { phasors.clear(); });
  for (End& end : measured_.ends) {
    end = {};
    end.frequency_Hz = options_.frequency_Hz;
  }
  for (auto& past : memory_past_) std::fill(past.begin(), past.end(), Phasor{});
  for (Turning& turning : turning_) {
    std::fill(turning.angle_past.begin(), turning.angle_past.end(), 0.0);
    std::fill(turning.frequency_past.begin(), turning.frequency_past.end(), options_.frequency_Hz);
    turning.before_now = {};
    turning.angle_rad = 0;
    turning.lasting = 0;
  }
  std::fill(fallen_s_.begin(), fallen_s_.end(), 0.0);
  memory_at_ = 0;
  past_at_ = 0;
  since_ = waits_ = 0;
  tracked_Hz_ = options_.frequency_Hz;
  position_ = turned_rad_ = 0;
}

void Measuring::complete(End& end, bool neutral_channel) noexcept {
  if (!neutral_channel) end.current[3] = end.current[0] + end.current[1] + end.current[2];
  end.voltage[3] = end.voltage[0] + end.voltage[1] + end.voltage[2];
  end.i = sequences_of(end.current[0], end.current[1], end.current[2]);
  end.v = sequences_of(end.voltage[0], end.voltage[1], end.voltage[2]);
}

bool Measuring::push(std::span<const Sample> samples) noexcept {
  if (options_.track_frequency) {
    resample(samples);
  } else {
    take(samples);
  }
  if (++since_ < every_) return false;
  since_ = 0;
  take_waiting();
  measure();
  for (Turning& turning : turning_) follow_frequency(measured_.ends[turning.end], turning);
  if (!turning_.empty())
    past_at_ = past_at_ + 1 == static_cast<int>(turning_[0].angle_past.size()) ? 0 : past_at_ + 1;
  return true;
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
  const End& first = measured_.ends.front();
  if (!first.frequency_valid) return;
  const double most = most_tracked * options_.frequency_Hz;
  const double wanted =
      std::clamp(first.frequency_Hz, options_.frequency_Hz - most, options_.frequency_Hz + most);
  tracked_Hz_ += (wanted - tracked_Hz_) / (tracking_s * options_.rate_Hz);
}

void Measuring::take(std::span<const Sample> samples) noexcept {
  double* values = &waiting_[static_cast<std::size_t>(waits_ * sample_numbers)];
  for (std::size_t e = 0; e < channels_.size() && e < samples.size(); ++e) {
    static_assert(sizeof(Sample) == sample_numbers * sizeof(double));
    std::memcpy(values, &samples[e], sizeof(Sample));
    values += most_waiting * sample_numbers;
  }
  if (++waits_ == most_waiting) take_waiting();
}

/// Into the phasors, which need them at decisions only.
void Measuring::take_waiting() noexcept {
  const double* values = waiting_.data();
  for (std::size_t e = 0; e < channels_.size(); ++e, values += most_waiting * sample_numbers) {
    channels_[e].push(values, waits_, sample_numbers);
    if (second_.empty()) continue;
    second_[e].push(values, waits_, sample_numbers);
    fifth_[e].push(values, waits_, sample_numbers);
  }
  waits_ = 0;
}

/// Phasors of now, in the values of the settings.
void Measuring::measure() noexcept {
  const double current_scale = options_.current_scale / std::numbers::sqrt2;
  const double voltage_scale = options_.voltage_scale / std::numbers::sqrt2;
  for (std::size_t e = 0; e < measured_.ends.size(); ++e) {
    End& end = measured_.ends[e];
    for (std::size_t k = 0; k < 4; ++k) end.current[k] = channels_[e].peak(k) * current_scale;
    for (std::size_t k = 0; k < 3; ++k) end.voltage[k] = channels_[e].peak(4 + k) * voltage_scale;
    complete(end, options_.neutral_channel);
    remember_voltage(end, e);
    if (second_.empty()) continue;
    for (std::size_t k = 0; k < 3; ++k) {
      end.second[k] = second_[e].peak(k) * current_scale;
      end.fifth[k] = fifth_[e].peak(k) * current_scale;
    }
  }
  memory_at_ = memory_at_ + 1 == memory_past_.front().size() ? 0 : memory_at_ + 1;
}

/// The voltage of two cycles ago, held from the moment at which it falls.
void Measuring::remember_voltage(End& end, std::size_t index) noexcept {
  Phasor& oldest = memory_past_[index][memory_at_];
  const bool fallen = std::norm(end.v.positive) < fallen_below * fallen_below * std::norm(end.v1_memory);
  fallen_s_[index] = fallen ? fallen_s_[index] + interval_s() : 0;
  if (!fallen || fallen_s_[index] > forget_after_s) end.v1_memory = oldest;
  oldest = end.v.positive;
}

/// V1 (I1 where there is no voltage) stands still at nominal frequency and turns with the deviation. What it
/// turns from decision to decision is added up; the sum over four cycles averages the ripple of unbalance.
void Measuring::follow_frequency(End& end, Turning& turning) noexcept {
  const Phasor now = std::norm(end.v.positive) > 0 ? end.v.positive : end.i.positive;
  const auto slot = static_cast<std::size_t>(past_at_);
  const double size = std::norm(now), largest = std::norm(end.v1_memory);
  const bool there = size > 0 && size > least_share * least_share * largest;
  turning.lasting = there ? turning.lasting + 1 : 0;
  if (there && std::norm(turning.before_now) > 0)
    turning.angle_rad += small_turn(now * std::conj(turning.before_now));
  turning.before_now = now;
  double& then_rad = turning.angle_past[slot];
  // The window's own turning is no turning of the signal's.
  const double total_rad = turning.angle_rad + turned_rad_, turned = total_rad - then_rad;
  then_rad = total_rad;
  const auto decisions = static_cast<long long>(turning.angle_past.size());
  const double span_s = static_cast<double>(decisions) * interval_s();
  const long long settled = decisions + (window() + every_ - 1) / every_;
  end.frequency_valid = turning.lasting >= settled;
  end.frequency_rate = 0;
  double& then_Hz = turning.frequency_past[slot];
  if (end.frequency_valid) {
    end.frequency_Hz = options_.frequency_Hz + turned / (2 * pi * span_s);
    if (turning.lasting >= 2 * settled) end.frequency_rate = (end.frequency_Hz - then_Hz) / span_s;
  }
  then_Hz = end.frequency_Hz;
}

}  // namespace zavrek::protection
