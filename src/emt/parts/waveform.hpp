// The voltage of a source over time.
//   programme   e(t) = E m(t) sum_k s_k cos(k (theta(t) + angle) + a_k),  theta = a(t) + integral of 2 pi
//   f(t) dt
// m, a and f are straight between given instants, their corners. Which pieces hold is asked for by an instant
// of its own: a step that reaches beyond a corner first goes on as before it.
//   phases      each may have factors and angles of its own besides, likewise
//   noise       straight lines between random values at even instants, those of one instant always the same
//   playback    e(t) read off recorded samples, straight lines between them
#pragma once

#include <cmath>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <utility>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::emt::internal {

class Waveform {
 public:
  struct Harmonic {
    double order;  // 1 for the fundamental
    double share;  // of the amplitude
    double angle_rad;
  };

  /// One sinusoid (or a level when omega is 0).
  Waveform(double amplitude, double omega, double angle_rad);
  /// Factors on the amplitude over time; held before the first and behind the last.
  void set_magnitude(const network::Points& factors);
  /// Angles over time, likewise.
  void set_angle(const network::Points& angles);
  /// The same for one phase alone, 0 to 2, besides.
  void set_phase(std::size_t phase, const network::Points& factors, const network::Points& angles);
  /// Adds noise of this rms, and with as many random values in each second as its bandwidth asks for.
  void set_noise(double rms, double bandwidth_Hz, int seed);
  /// Frequencies in Hz over time; held before the first and behind the last.
  void set_frequency(const network::Points& hertz);
  /// Added to the fundamental.
  void add_harmonic(const Harmonic& harmonic) { harmonics_.push_back(harmonic); }
  /// Samples of the phases in turn instead of all that; held at the ends.
  void set_playback(std::vector<double> time_s, std::vector<std::vector<double>> phases);

  /// Value at `time_s`, on the pieces that hold at `piece_s`, of the phase that is turned by `angle_rad` (or
  /// `phase` of a playback).
  [[nodiscard]] double value(double time_s, double piece_s, double angle_rad) const noexcept;
  /// Instants at which another piece begins, in no order. A playback has none: its samples follow each other
  /// as closely as steps.
  [[nodiscard]] std::vector<double> corners_s() const;

  /// A phase's turn.
  struct Phase {
    double angle_rad, cosine, sine;
    explicit Phase(double angle) : angle_rad(angle), cosine(std::cos(angle)), sine(std::sin(angle)) {}
    /// Its value where the waveform itself stands at these.
    [[nodiscard]] double value(double cosine_of_all, double sine_of_all) const noexcept {
      return cosine_of_all * cosine - sine_of_all * sine;
    }
  };
  class Grid;
  /// The waveform at one instant; a plain sinusoid is evaluated once, however many phases ask.
  class Instant {
   public:
    Instant(const Waveform& waveform, double time_s, double piece_s) noexcept;
    [[nodiscard]] double value(const Phase& phase) const noexcept {
      return plain_ ? phase.value(cosine_, sine_) : waveform_.value(time_s_, piece_s_, phase.angle_rad);
    }

   private:
    friend class Grid;
    Instant(const Waveform& waveform, double time_s, double cosine, double sine) noexcept
        : waveform_(waveform),
          time_s_(time_s),
          piece_s_(time_s),
          cosine_(cosine),
          sine_(sine),
          plain_(true) {}
    const Waveform& waveform_;
    double time_s_, piece_s_, cosine_ = 0, sine_ = 0;
    bool plain_;
  };

  /// Instants at the multiples of a step. Of a steady sinusoid, e^(j w n h) is taken as the product of two
  /// factors: one for the block of 64 steps that n lies in, one from a table of 64.
  class Grid {
   public:
    Grid(const Waveform& waveform, double step_s);
    /// Whether it is a plain sinusoid: only then it stands on the grid,
    [[nodiscard]] bool steady() const noexcept { return steady_; }
    /// and cosine and sine (times the amplitude) of its angle at a grid point, n >= 0.
    [[nodiscard]] std::pair<double, double> turned(unsigned long long n) noexcept {
      if (n / length != block_) enter(n / length);
      const double* by = &table_[static_cast<std::size_t>(2 * (n % length))];
      return {cosine_ * by[0] - sine_ * by[1], sine_ * by[0] + cosine_ * by[1]};
    }
    /// So much later than a grid point.
    [[nodiscard]] Instant at(long long n, double later_s) noexcept;

   private:
    static constexpr unsigned long long length = 64;
    void enter(unsigned long long block) noexcept;
    const Waveform* waveform_;
    double step_s_;
    bool steady_;
    double omega_ = 0;
    std::vector<double> table_;  // length pairs of cosine and sine
    unsigned long long block_ = ~0ULL;
    double cosine_ = 0, sine_ = 0;  // at its begin
  };

  struct Piece {  // from start_s on: f = hertz + slope (t - start), theta = turn + ...
    double start_s, hertz, slope, turn_rad;
  };
  // --- for who writes it out ---------------------------------------------------------------------
  /// Neither noise, nor phases with programmes of their own, nor samples.
  [[nodiscard]] bool is_alike_and_smooth() const noexcept { return samples_.empty() && alike(); }
  [[nodiscard]] double amplitude() const noexcept { return amplitude_; }
  [[nodiscard]] double omega() const noexcept { return omega_; }
  [[nodiscard]] double angle() const noexcept { return angle_; }
  [[nodiscard]] const network::Points& magnitude() const noexcept { return magnitude_; }
  [[nodiscard]] const network::Points& turns() const noexcept { return turns_; }
  [[nodiscard]] const std::vector<Piece>& pieces() const noexcept { return pieces_; }
  [[nodiscard]] const std::vector<Harmonic>& harmonics() const noexcept { return harmonics_; }

  /// Whether it is at all times the sum of its `lines`.
  [[nodiscard]] bool steady() const noexcept {
    return samples_.empty() && pieces_.empty() && magnitude_.empty() && turns_.empty() && alike();
  }
  /// What a steady start needs: peak phasors by frequency. A programme starts as at t = 0.
  struct Line {
    double omega;
    double amplitude;
    double angle_rad;
  };
  [[nodiscard]] std::vector<Line> lines(double angle_rad) const;

 private:
  /// Whether phases differ by their turn alone.
  [[nodiscard]] bool alike() const noexcept { return own_.empty() && noise_ == 0; }
  [[nodiscard]] static std::size_t third_of(double angle_rad) noexcept;
  [[nodiscard]] double noise(double time_s, std::size_t phase) const noexcept;
  [[nodiscard]] double phase(double time_s, double piece_s) const noexcept;
  [[nodiscard]] double magnitude(double time_s, double piece_s) const noexcept;

  double amplitude_, omega_, angle_;
  network::Points magnitude_, turns_;
  std::vector<Piece> pieces_;
  std::vector<Harmonic> harmonics_;
  struct Own {
    network::Points magnitude, turns;
  };
  std::vector<Own> own_;  // of the three phases, or none
  double noise_ = 0;      // standard deviation of its values
  double values_per_s_ = 0;
  std::uint64_t seed_ = 0;
  std::vector<double> sample_times_;
  std::vector<std::vector<double>> samples_;
};

}  // namespace zavrek::emt::internal
