// From samples to what relay functions decide on: phasors, sequences, harmonics, frequency.
#pragma once

#include <array>
#include <cmath>
#include <complex>
#include <span>
#include <string>
#include <vector>

#include "zavrek/state_archive.hpp"

namespace zavrek::protection {

using Phasor = std::complex<double>;
/// Magnitude. The library's own guards against overflow, which phasors do not know and each sample would pay.
[[nodiscard]] inline double size_of(const Phasor& p) noexcept {
  return std::sqrt(p.real() * p.real() + p.imag() * p.imag());
}

/// One set of instantaneous values as a relay samples them: three phases and neutral (residual).
struct Sample {
  std::array<double, 4> current_A{};
  std::array<double, 4> voltage_V{};
};

/// How a phasor is taken from a window of samples.
enum class PhasorFilter {
  full_cycle,  ///< Fourier over one cycle: blind to every harmonic and to direct current
  half_cycle,  ///< Fourier over half a cycle: twice as fast, sees even harmonics and direct current
  cosine       ///< one cosine, now and a quarter cycle ago: blind to decaying direct current as well
};
/// By the words "full cycle", "half cycle", "cosine".
[[nodiscard]] PhasorFilter filter_of(const std::string& word);

/// Phasors of one harmonic of channels that are sampled together, over a sliding window of N samples per
/// nominal cycle, X = (2/N) sum x[n] exp(-j 2 pi h n / N), n counted from the first sample ever (so that a
/// signal of nominal frequency has a standing phasor). Each sample costs the same, whatever the window: sums
/// run, and are taken afresh every eight cycles so that rounding cannot gather.
class RunningPhasors {
 public:
  static constexpr int most_channels = 8;
  /// `samples_per_cycle`: at least 4, a multiple of 4 for `cosine`.
  RunningPhasors(int channels, int samples_per_cycle, PhasorFilter filter = PhasorFilter::full_cycle,
                 int harmonic = 1);
  /// One value per channel, and room for a multiple of four behind `values`; `count` samples, each `stride`
  /// numbers behind the one before.
  void push(const double* values, int count = 1, int stride = 0) noexcept {
    width_ == 4 ? take<4>(values, count, stride) : take<8>(values, count, stride);
  }
  void clear() noexcept;
  /// Peak value.
  [[nodiscard]] Phasor peak(std::size_t channel) const noexcept {
    return {real_[channel], imaginary_[channel]};
  }
  /// The angle of the signal at its newest sample instead of the standing one.
  [[nodiscard]] Phasor peak_at_newest(std::size_t channel) const noexcept;
  void visit_state(StateArchive& archive) {
    archive(newest_, cycles_, window_, quarter_, quarter_at_, sum_real_, sum_imaginary_, real_, imaginary_);
  }
  /// Samples until a change is seen in full.
  [[nodiscard]] int window() const noexcept {
    return filter_ == PhasorFilter::cosine ? span_ + cycle_ / 4 : span_;
  }

 private:
  using Four = double __attribute__((vector_size(4 * sizeof(double))));  // channels side by side
  template <int Width>
  void take(const double* values, int count, int stride) noexcept;
  template <int Width>
  void sum_afresh(Four* real, Four* imaginary) noexcept;
  template <int Width>
  void look_back_a_quarter(const Four* sum_real, const Four* sum_imaginary) noexcept;
  [[nodiscard]] std::size_t at(int n) const noexcept { return static_cast<std::size_t>(n); }

  int width_;  // channels, filled up to a multiple of four: they stand side by side
  int cycle_, span_;
  PhasorFilter filter_;
  int newest_ = 0;  // of a cycle
  static constexpr int cycles_of_sums = 8;
  int cycles_ = 0;              // since the sums were taken afresh
  std::vector<double> window_;  // cycle_ by width_: the latest sample at each place of the cycle
  std::vector<double> cosine_;  // cycle_: 2/span cos(2 pi h n / cycle)
  std::vector<double> sine_;    // cycle_: -2/span sin(...)
  std::vector<double> unit_cosine_, unit_sine_;  // cycle_: of the turn to the newest sample
  std::vector<double> quarter_;                  // cosine filter: its own past outputs, cycle_/4 by width_
  int quarter_at_ = 0;
  std::array<double, most_channels> sum_real_{}, sum_imaginary_{};
  std::array<double, most_channels> real_{}, imaginary_{};
};

/// The same of one channel.
class RunningPhasor {
 public:
  explicit RunningPhasor(int samples_per_cycle, PhasorFilter filter = PhasorFilter::full_cycle,
                         int harmonic = 1)
      : all_(1, samples_per_cycle, filter, harmonic) {}
  void push(double value) noexcept {
    const std::array<double, 4> values{value};
    all_.push(values.data());
  }
  void clear() noexcept { all_.clear(); }
  void visit_state(StateArchive& archive) { all_.visit_state(archive); }
  [[nodiscard]] Phasor peak() const noexcept { return all_.peak(0); }
  [[nodiscard]] Phasor peak_at_newest() const noexcept { return all_.peak_at_newest(0); }
  [[nodiscard]] double rms() const noexcept;
  [[nodiscard]] int window() const noexcept { return all_.window(); }

 private:
  RunningPhasors all_;
};

/// Positive, negative and zero sequence of three phasors (Fortescue).
struct Sequences {
  Phasor positive, negative, zero;
};
[[nodiscard]] Sequences sequences_of(const Phasor& a, const Phasor& b, const Phasor& c) noexcept;

/// What is measured at one place: rms phasors in the values of the settings.
struct End {
  std::array<Phasor, 4> current{};  ///< a, b, c, residual (the sum of the phases, or the neutral channel)
  std::array<Phasor, 4> voltage{};
  Sequences i, v;
  Phasor v1_memory;                ///< positive-sequence voltage as it was before it fell
  std::array<Phasor, 3> second{};  ///< second harmonic of the phase currents
  std::array<Phasor, 3> fifth{};   ///< fifth
  double frequency_Hz = 50;        ///< measured where a function of the relay, or tracking, asks for it
  double frequency_rate = 0;       ///< Hz/s
  bool frequency_valid = false;
};

/// What all functions of a relay decide on.
struct Measured {
  std::vector<End> ends;
};

struct MeasuringOptions {
  double rate_Hz = 4000;
  double frequency_Hz = 50;
  PhasorFilter filter = PhasorFilter::full_cycle;
  int ends = 1;
  bool neutral_channel = false;  ///< residual from the fourth channel instead of the sum of phases
  bool harmonics = false;
  std::vector<int> frequency_of{0};  ///< ends that measure it, which costs about as much as a phasor
  bool track_frequency = false;      ///< resample to a whole number of samples in the cycle of the first end
  int decisions = 0;                 ///< in a cycle, for which phasors are made ready; 0: at every sample
  double current_scale = 1;          ///< settings per primary ampere
  double voltage_scale = 1;
};

/// Samples of all places in, phasors out. No allocation after construction.
class Measuring {
 public:
  /// Throws Error unless a cycle has a whole number of samples, at least 8, a multiple of 4 and of the
  /// decisions.
  explicit Measuring(const MeasuringOptions& options);
  /// One sample of each place, in primary values. True when a decision is due: `measured` is of now.
  bool push(std::span<const Sample> samples) noexcept;
  /// Between two decisions.
  [[nodiscard]] double interval_s() const noexcept { return every_ / options_.rate_Hz; }
  void clear() noexcept;
  void visit_state(StateArchive& archive);
  [[nodiscard]] const Measured& measured() const noexcept { return measured_; }
  /// Samples until a change is seen in full.
  [[nodiscard]] int window() const noexcept { return channels_.front().window(); }
  [[nodiscard]] int cycle() const noexcept { return cycle_; }
  /// Fills sequences and residual of an end from its phases.
  static void complete(End& end, bool neutral_channel) noexcept;

 private:
  void take(std::span<const Sample> samples) noexcept;
  void take_waiting() noexcept;
  void measure() noexcept;
  void resample(std::span<const Sample> samples) noexcept;
  struct Turning;
  void follow_frequency(End& end, Turning& turning) noexcept;
  void remember_voltage(End& end, std::size_t index) noexcept;

  MeasuringOptions options_;
  int cycle_;
  int every_ = 1, since_ = 0;  // samples from decision to decision, and since the last
  // Samples that the phasors have not taken yet: per end, most_waiting of sample_numbers.
  static constexpr int most_waiting = 8, sample_numbers = 8;
  std::vector<double> waiting_;
  int waits_ = 0;
  std::vector<RunningPhasors> channels_;        // per end: ia ib ic in va vb vc
  std::vector<RunningPhasors> second_, fifth_;  // per end: harmonics of ia ib ic, when wanted
  Measured measured_;
  // Of the positive sequence of an end: how far it has turned, over the last four cycles.
  struct Turning {
    std::size_t end = 0;
    std::vector<double> angle_past, frequency_past;  // per decision
    double angle_rad = 0;
    Phasor before_now;
    long long lasting = 0;  // decisions for which it has been there
  };
  std::vector<Turning> turning_;
  int past_at_ = 0;
  std::vector<std::vector<Phasor>> memory_past_;  // per end, two cycles
  std::size_t memory_at_ = 0;
  std::vector<double> fallen_s_;  // per end: how long the voltage has been low
  // While the frequency is tracked: the window's own frequency, where it stands between two samples, and by
  // how much it has turned against nominal.
  double tracked_Hz_ = 0, position_ = 0, turned_rad_ = 0;
  std::vector<Sample> before_, between_;  // per end
};

}  // namespace zavrek::protection
