#include "emt/parts/waveform.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

namespace zavrek::emt::internal {
namespace {

constexpr double turn = 2 * std::numbers::pi;

/// Index of the last of `xs` that is not above `x`, at least 0.
template <class Range, class Key>
std::size_t piece_at(const Range& all, double x, Key key) noexcept {
  const auto above = std::upper_bound(all.begin(), all.end(), x,
                                      [&](double value, const auto& entry) { return value < key(entry); });
  return above == all.begin() ? 0 : static_cast<std::size_t>(above - all.begin()) - 1;
}

/// Straight between points, on the piece that holds at `piece`; as the first and the last outside them.
double along(const network::Points& points, double x, double piece) noexcept {
  const std::size_t k = piece_at(points, piece, [](const network::Point& p) { return p.x; });
  const auto& [at, y] = points[k];
  if (piece < at || k + 1 == points.size()) return y;
  return y + (points[k + 1].y - y) * (x - at) / (points[k + 1].x - at);
}

/// A number that looks random, one for each input (splitmix64, S. Vigna).
std::uint64_t scrambled(std::uint64_t x) noexcept {
  x += 0x9E3779B97F4A7C15ULL;
  x = (x ^ (x >> 30)) * 0xBF58476D1CE4E5B9ULL;
  x = (x ^ (x >> 27)) * 0x94D049BB133111EBULL;
  return x ^ (x >> 31);
}

}  // namespace

Waveform::Waveform(double amplitude, double omega, double angle_rad)
    : amplitude_(amplitude), omega_(omega), angle_(angle_rad) {}

void Waveform::set_magnitude(const network::Points& factors) { magnitude_ = factors; }

void Waveform::set_angle(const network::Points& angles) { turns_ = angles; }

void Waveform::set_phase(std::size_t phase, const network::Points& factors, const network::Points& angles) {
  if (factors.empty() && angles.empty()) return;
  own_.resize(3);
  own_[phase] = {factors, angles};
}

void Waveform::set_noise(double rms, double bandwidth_Hz, int seed) {
  // Straight lines between values of one deviation have two thirds of their mean square.
  noise_ = rms * std::sqrt(1.5);
  values_per_s_ = 2 * bandwidth_Hz;
  seed_ = scrambled(static_cast<std::uint64_t>(seed));
}

std::size_t Waveform::third_of(double angle_rad) noexcept {
  return static_cast<std::size_t>(std::lround(-angle_rad / (turn / 3)) + 3) % 3;
}

double Waveform::noise(double time_s, std::size_t phase) const noexcept {
  const double at = time_s * values_per_s_, whole = std::floor(at);
  // The sum of eight even ones is normal enough, and has no values beyond five deviations.
  const auto value = [&](double number) {
    if (number <= 0) return 0.0;  // it begins at the start, which is none of a random instant
    std::uint64_t state = seed_ + 3 * static_cast<std::uint64_t>(number) + phase;
    double sum = 0;
    for (int k = 0; k < 4; ++k) {
      state = scrambled(state);
      sum += static_cast<double>(state >> 32U) + static_cast<double>(state & 0xFFFFFFFFULL);
    }
    return (sum / 4294967296.0 - 4) * std::sqrt(1.5);
  };
  const double before = value(whole);
  return noise_ * (before + (at - whole) * (value(whole + 1) - before));
}

void Waveform::set_frequency(const network::Points& hertz) {
  pieces_.clear();
  double turned = 0;
  double before = 0;
  for (std::size_t k = 0; k < hertz.size(); ++k) {
    const auto& [start, f] = hertz[k];
    const bool last = k + 1 == hertz.size();
    // Up to the first pair the frequency is that pair's.
    if (k == 0) turned = turn * f * std::max(0.0, start);
    const bool jumps = !last && hertz[k + 1].x == start;
    const double slope = last || jumps ? 0 : (hertz[k + 1].y - f) / (hertz[k + 1].x - start);
    if (k > 0) {
      const double length = start - before;
      const Piece& previous = pieces_.back();
      turned += turn * length * (previous.hertz + previous.slope * length / 2);
    }
    pieces_.push_back({start, f, slope, turned});
    before = start;
  }
  if (!pieces_.empty()) omega_ = turn * pieces_.front().hertz;
}

void Waveform::set_playback(std::vector<double> time_s, std::vector<std::vector<double>> phases) {
  sample_times_ = std::move(time_s);
  samples_ = std::move(phases);
}

double Waveform::phase(double time_s, double piece_s) const noexcept {
  const double turned = turns_.empty() ? 0 : along(turns_, time_s, piece_s);
  if (pieces_.empty()) return turned + omega_ * time_s;
  const Piece& piece = pieces_[piece_at(pieces_, piece_s, [](const Piece& p) { return p.start_s; })];
  const double since = time_s - piece.start_s;
  const double slope = piece_s < piece.start_s ? 0 : piece.slope;
  return turned + piece.turn_rad + turn * since * (piece.hertz + slope * since / 2);
}

double Waveform::magnitude(double time_s, double piece_s) const noexcept {
  return magnitude_.empty() ? 1 : along(magnitude_, time_s, piece_s);
}

std::vector<double> Waveform::corners_s() const {
  std::vector<double> all;
  for (const network::Points* points : {&magnitude_, &turns_}) {
    for (const network::Point& point : *points) all.push_back(point.x);
  }
  for (const Own& own : own_) {
    for (const network::Points* points : {&own.magnitude, &own.turns}) {
      for (const network::Point& point : *points) all.push_back(point.x);
    }
  }
  for (const Piece& piece : pieces_) all.push_back(piece.start_s);
  return all;
}

double Waveform::value(double time_s, double piece_s, double angle_rad) const noexcept {
  if (!samples_.empty()) {
    // A playback's phases stand 120 degrees apart.
    const std::vector<double>& samples = samples_[std::min(third_of(angle_rad), samples_.size() - 1)];
    const std::size_t k = piece_at(sample_times_, time_s, [](double t) { return t; });
    if (time_s <= sample_times_[k] || k + 1 == samples.size()) return samples[k];
    const double share = (time_s - sample_times_[k]) / (sample_times_[k + 1] - sample_times_[k]);
    return samples[k] + share * (samples[k + 1] - samples[k]);
  }
  double theta = phase(time_s, piece_s) + angle_ + angle_rad;
  double level = amplitude_ * magnitude(time_s, piece_s), besides = 0;
  if (!alike()) {
    const std::size_t third = third_of(angle_rad);
    if (!own_.empty()) {
      const Own& own = own_[third];
      if (!own.turns.empty()) theta += along(own.turns, time_s, piece_s);
      if (!own.magnitude.empty()) level *= along(own.magnitude, time_s, piece_s);
    }
    if (noise_ > 0) besides = noise(time_s, third);
  }
  double sum = std::cos(theta);
  for (const Harmonic& h : harmonics_) sum += h.share * std::cos(h.order * theta + h.angle_rad);
  return level * sum + besides;
}

Waveform::Instant::Instant(const Waveform& waveform, double time_s, double piece_s) noexcept
    : waveform_(waveform),
      time_s_(time_s),
      piece_s_(piece_s),
      plain_(waveform.samples_.empty() && waveform.harmonics_.empty() && waveform.alike()) {
  if (!plain_) return;
  const double theta = waveform.phase(time_s, piece_s) + waveform.angle_;
  const double amplitude = waveform.amplitude_ * waveform.magnitude(time_s, piece_s);
  cosine_ = amplitude * std::cos(theta);
  sine_ = amplitude * std::sin(theta);
}

Waveform::Grid::Grid(const Waveform& waveform, double step_s)
    : waveform_(&waveform),
      step_s_(step_s),
      steady_(waveform.steady() && waveform.harmonics_.empty()),
      omega_(waveform.omega_) {
  for (int k = 0; steady_ && k < static_cast<int>(length); ++k) {
    table_.push_back(std::cos(waveform.omega_ * k * step_s));
    table_.push_back(std::sin(waveform.omega_ * k * step_s));
  }
}

void Waveform::Grid::enter(unsigned long long block) noexcept {
  block_ = block;
  const double begin_s = static_cast<double>(block * length) * step_s_;
  const Instant begin(*waveform_, begin_s, begin_s);
  cosine_ = begin.cosine_;
  sine_ = begin.sine_;
}

Waveform::Instant Waveform::Grid::at(long long n, double later_s) noexcept {
  constexpr double short_turn = 0.05;  // up to it the series below are exact
  const double x = omega_ * later_s, time_s = static_cast<double>(n) * step_s_ + later_s;
  if (x < 0 || x > short_turn) return {*waveform_, time_s, time_s};
  const auto [cosine_before, sine_before] = turned(static_cast<unsigned long long>(n));
  const double s = x * x;
  const double cosine = 1 - s / 2 * (1 - s / 12 * (1 - s / 30 * (1 - s / 56)));
  const double sine = x * (1 - s / 6 * (1 - s / 20 * (1 - s / 42)));
  return {*waveform_, time_s, cosine_before * cosine - sine_before * sine,
          sine_before * cosine + cosine_before * sine};
}

std::vector<Waveform::Line> Waveform::lines(double angle_rad) const {
  if (!samples_.empty()) {
    // The first cycle's fundamental.
    constexpr int points = 256;
    const double cycle = turn / omega_;
    std::complex<double> sum;
    for (int k = 0; k < points; ++k) {
      const double t = sample_times_.front() + k * cycle / points;
      sum += value(t, t, angle_rad) * std::polar(2.0 / points, -omega_ * t);
    }
    return {{omega_, std::abs(sum), std::arg(sum)}};
  }
  double level = amplitude_ * magnitude(0, 0);
  // What phase() says at zero counts as part of the angle; it is zero unless a programme starts before.
  double theta = phase(0, 0) + angle_ + angle_rad;
  if (!own_.empty()) {
    const Own& own = own_[third_of(angle_rad)];
    if (!own.turns.empty()) theta += along(own.turns, 0, 0);
    if (!own.magnitude.empty()) level *= along(own.magnitude, 0, 0);
  }
  std::vector<Line> all{{omega_, level, theta}};
  for (const Harmonic& h : harmonics_)
    all.push_back({h.order * omega_, level * h.share, h.order * theta + h.angle_rad});
  return all;
}

}  // namespace zavrek::emt::internal
