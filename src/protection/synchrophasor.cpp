// x(t) = A cos(2 pi f t + p) becomes  z = sqrt 2 x exp(-j 2 pi f0 t),  X = sum w(k) z(t + k T), and, with the
// angle p1 of the positive sequence,  f = f0 + (p1(t + D) - p1(t - D)) / (4 pi D), df/dt = (p1(t + D) - 2
// p1(t) + p1(t - D)) / (2 pi D^2). (IEC/IEEE 60255-118-1, annex D; D is a quarter cycle.)
#include "zavrek/protection/synchrophasor.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace zavrek::protection {
namespace {

using std::numbers::pi;

constexpr double m_periods = 4.5;      // of reporting, to each side
constexpr double m_corner = 0.27;      // of the reporting rate
constexpr double angle_cycles = 0.25;  // D
constexpr double least_response = 0.3;
constexpr std::int64_t second_ns = 1'000'000'000;

std::vector<double> taps_of(const SynchrophasorSettings& settings) {
  const double rate = settings.samples_per_s;
  const bool p = settings.performance == SynchrophasorSettings::Performance::p;
  const double half_s = p ? 1 / settings.frequency_Hz : m_periods / settings.reports_per_s;
  const auto half = static_cast<std::size_t>(std::lround(half_s * rate)) - (p ? 1U : 0U);
  std::vector<double> taps(half + 1);
  for (std::size_t k = 0; k <= half; ++k) {
    const double at_s = static_cast<double>(k) / rate;
    if (p) {
      taps[k] = 1 - at_s * settings.frequency_Hz;
      continue;
    }
    const double x = 2 * pi * m_corner * settings.reports_per_s * at_s;
    const double window = 0.54 + 0.46 * std::cos(pi * at_s / half_s);  // Hamming
    taps[k] = (k == 0 ? 1 : std::sin(x) / x) * window;
  }
  double sum = -taps[0];
  for (const double tap : taps) sum += 2 * tap;
  for (double& tap : taps) tap /= sum;
  return taps;
}

double wrapped(double angle) { return std::remainder(angle, 2 * pi); }

}  // namespace

SynchrophasorEstimator::SynchrophasorEstimator(const SynchrophasorSettings& settings)
    : settings_(settings),
      taps_(taps_of(settings)),
      half_(static_cast<long long>(taps_.size()) - 1),
      apart_(std::max(1LL, std::llround(angle_cycles * settings.samples_per_s / settings.frequency_Hz))),
      room_(static_cast<std::size_t>(2 * (half_ + apart_) + 3 +
                                     std::llround(settings.samples_per_s / settings.reports_per_s))),
      kept_(room_ * settings.channels) {}

double SynchrophasorEstimator::delay_s() const noexcept {
  return static_cast<double>(half_ + apart_ + 1) / settings_.samples_per_s;
}

void SynchrophasorEstimator::begin(std::int64_t utc_ns) {
  count_ = 0;
  first_ns_ = utc_ns;
  // The first report whose whole window has been seen.
  const double from_s = 1e-9 * static_cast<double>(utc_ns % second_ns) + delay_s();
  next_second_ = utc_ns / second_ns;
  next_index_ = static_cast<int>(std::ceil(from_s * settings_.reports_per_s));
}

void SynchrophasorEstimator::push(std::int64_t utc_ns, std::span<const double> values) {
  const double period_ns = 1e9 / settings_.samples_per_s;
  const bool follows =
      count_ > 0 && std::abs(static_cast<double>(utc_ns - last_ns_) - period_ns) < 0.5 * period_ns;
  if (!follows) begin(utc_ns);
  last_ns_ = utc_ns;
  // The second's own angle: the nominal frequency has whole cycles in it.
  const double angle = 2 * pi * settings_.frequency_Hz * 1e-9 * static_cast<double>(utc_ns % second_ns);
  const Complex turn = std::polar(std::numbers::sqrt2, -angle);
  Complex* row =
      &kept_[static_cast<std::size_t>(count_ % static_cast<long long>(room_)) * settings_.channels];
  for (std::size_t k = 0; k < settings_.channels; ++k) row[k] = values[k] * turn;
  ++count_;
}

SynchrophasorEstimator::Complex SynchrophasorEstimator::filtered(std::size_t channel,
                                                                 long long centre) const {
  const auto at = [&](long long sample) {
    return kept_[static_cast<std::size_t>(sample % static_cast<long long>(room_)) * settings_.channels +
                 channel];
  };
  Complex sum = taps_[0] * at(centre);
  for (long long k = 1; k <= half_; ++k)
    sum += taps_[static_cast<std::size_t>(k)] * (at(centre - k) + at(centre + k));
  return sum;
}

SynchrophasorEstimator::Complex SynchrophasorEstimator::sequence(long long centre) const {
  const Complex a = std::polar(1.0, 2 * pi / 3);
  const auto& of = settings_.frequency_of;
  return (filtered(of[0], centre) + a * filtered(of[1], centre) + a * a * filtered(of[2], centre)) / 3.0;
}

SynchrophasorEstimator::Complex SynchrophasorEstimator::response(double offset_Hz,
                                                                 double rate_Hz_per_s) const {
  Complex sum = taps_[0];
  for (long long k = 1; k <= half_; ++k) {
    const double at_s = static_cast<double>(k) / settings_.samples_per_s;
    const double to_both = 2 * taps_[static_cast<std::size_t>(k)] * std::cos(2 * pi * offset_Hz * at_s);
    sum += to_both * std::polar(1.0, pi * rate_Hz_per_s * at_s * at_s);
  }
  return sum;
}

bool SynchrophasorEstimator::take(SynchrophasorReport& report) {
  if (count_ == 0) return false;
  const double per_s = settings_.reports_per_s;
  if (next_index_ >= std::lround(per_s)) {
    next_index_ -= static_cast<int>(std::lround(per_s));
    ++next_second_;
  }
  const std::int64_t at_ns = next_second_ * second_ns + std::llround(1e9 * next_index_ / per_s);
  const double samples = 1e-9 * static_cast<double>(at_ns - first_ns_) * settings_.samples_per_s;
  const long long centre = std::llround(samples);
  if (count_ - 1 < centre + half_ + apart_) return false;
  report.second = next_second_;
  report.index = next_index_;
  make(centre, (samples - static_cast<double>(centre)) / settings_.samples_per_s, report);
  ++next_index_;
  return true;
}

/// `shift_s`: from the sample `centre` to the instant of the report, half a sample at most.
void SynchrophasorEstimator::make(long long centre, double shift_s, SynchrophasorReport& report) const {
  const double apart_s = static_cast<double>(apart_) / settings_.samples_per_s;
  const Complex before = sequence(centre - apart_), now = sequence(centre), after = sequence(centre + apart_);
  const double first = wrapped(std::arg(now) - std::arg(before)),
               second = wrapped(std::arg(after) - std::arg(now));
  const double offset_Hz = (first + second) / (4 * pi * apart_s);
  report.rate_Hz_per_s = (second - first) / (2 * pi * apart_s * apart_s);
  report.frequency_Hz = settings_.frequency_Hz + offset_Hz + report.rate_Hz_per_s * shift_s;
  // What a frequency off the nominal one, and on its way, loses in the filter is given back, while there is
  // enough.
  const Complex lost = response(offset_Hz, report.rate_Hz_per_s);
  const Complex turn = std::polar(1.0, 2 * pi * (offset_Hz + 0.5 * report.rate_Hz_per_s * shift_s) * shift_s);
  const Complex correction = std::abs(lost) > least_response ? turn / lost : turn;
  report.phasors.resize(settings_.channels);
  for (std::size_t k = 0; k < settings_.channels; ++k) report.phasors[k] = filtered(k, centre) * correction;
}

}  // namespace zavrek::protection
