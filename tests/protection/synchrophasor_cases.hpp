// The cases of IEC/IEEE 60255-118-1:2018, clause 6, with their limits: signals with a known answer, made
// here, into the estimator.
#pragma once

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <numbers>
#include <vector>

#include "zavrek/protection/synchrophasor.hpp"

namespace zavrek::test {

using Performance = protection::SynchrophasorSettings::Performance;
using std::numbers::pi;

/// Errors, or limits of them: of the vector as a share, of the frequency in Hz, of its rate in Hz/s. A limit
/// that the standard does not set is infinite.
struct PhasorErrors {
  double vector = 0, frequency = 0, rate = 0;
  void worse(const PhasorErrors& other) {
    vector = std::max(vector, other.vector);
    frequency = std::max(frequency, other.frequency);
    rate = std::max(rate, other.rate);
  }
};
inline constexpr double no_limit = std::numeric_limits<double>::infinity();

/// A positive sequence of one volt: amplitude, angle beside the nominal frequency, that angle's frequency
/// (beside 50 Hz) and its rate over the time; `extra(t, phase)` is added.
struct PhasorSignal {
  std::function<double(double)> amplitude = [](double) { return 1.0; };
  std::function<double(double)> angle = [](double) { return 0.0; };
  std::function<double(double)> frequency = [](double) { return 0.0; };
  std::function<double(double)> rate = [](double) { return 0.0; };
  std::function<double(double, int)> extra;
};

/// Calls `each(t, errors)` for the reports of so many seconds.
template <class Each>
void measure_phasors(Performance performance, double reports, const PhasorSignal& signal, double seconds,
                     Each&& each) {
  constexpr std::int64_t began_s = 1'700'000'000;
  constexpr double off_grid_s = 73.3e-6;  // samples do not fall on reports
  protection::SynchrophasorSettings settings;
  settings.performance = performance;
  settings.reports_per_s = reports;
  protection::SynchrophasorEstimator estimator(settings);
  protection::SynchrophasorReport report;
  for (int k = 0; k < static_cast<int>(seconds * settings.samples_per_s); ++k) {
    const double t = off_grid_s + k / settings.samples_per_s;
    std::array<double, 3> values{};
    for (int p = 0; p < 3; ++p) {
      values[static_cast<std::size_t>(p)] = std::numbers::sqrt2 * signal.amplitude(t) *
                                                std::cos(2 * pi * 50 * t + signal.angle(t) - 2 * pi / 3 * p) +
                                            (signal.extra ? signal.extra(t, p) : 0);
    }
    estimator.push(began_s * 1'000'000'000 + std::llround(1e9 * t), values);
    while (estimator.take(report)) {
      const double at = static_cast<double>(report.second - began_s) + report.index / reports;
      PhasorErrors errors;
      for (int p = 0; p < 3; ++p) {
        const std::complex<double> right =
            std::polar(signal.amplitude(at), signal.angle(at) - 2 * pi / 3 * p);
        errors.vector = std::max(
            errors.vector, std::abs(report.phasors[static_cast<std::size_t>(p)] - right) / std::abs(right));
      }
      errors.frequency = std::abs(report.frequency_Hz - 50 - signal.frequency(at));
      errors.rate = std::abs(report.rate_Hz_per_s - signal.rate(at));
      each(at, errors);
    }
  }
}
inline PhasorErrors worst_of(Performance performance, double reports, const PhasorSignal& signal,
                             double seconds = 2.2) {
  PhasorErrors worst;
  measure_phasors(performance, reports, signal, seconds,
                  [&](double, const PhasorErrors& one) { worst.worse(one); });
  return worst;
}

inline PhasorSignal off_nominal(double offset_Hz) {
  return {.angle = [=](double t) { return 2 * pi * offset_Hz * t; },
          .frequency = [=](double) { return offset_Hz; }};
}
inline double steady_range(Performance performance, double reports) {
  return performance == Performance::p ? 2 : std::min(reports / 5, 5.0);
}
inline double modulation_range(Performance performance, double reports) {
  return performance == Performance::p ? std::min(reports / 10, 2.0) : std::min(reports / 5, 5.0);
}

struct PhasorCase {
  const char* name;
  PhasorErrors limit;
  PhasorErrors found;
};
/// Table 2 to 6 of the standard, for one class and rate.
inline std::vector<PhasorCase> phasor_cases(Performance performance, double reports) {
  const bool p = performance == Performance::p;
  std::vector<PhasorCase> cases;
  cases.reserve(8);  // references to them stay
  const auto add = [&](const char* name, PhasorErrors limit) -> PhasorErrors& {
    return cases.emplace_back(PhasorCase{name, limit, {}}).found;
  };
  const double range = steady_range(performance, reports);
  PhasorErrors& steady = add("frequency off the nominal", {0.01, 0.005, p ? 0.4 : 0.1});
  for (const double share : {-1.0, -0.4, 0.0, 0.4, 1.0})
    steady.worse(worst_of(performance, reports, off_nominal(share * range)));
  PhasorErrors& harmonic = add("one harmonic of 2 to 50", {0.01, p ? 0.005 : 0.025, p ? 0.4 : no_limit});
  for (const int order : {2, 3, 4, 5, 7, 11, 13, 25, 50}) {
    PhasorSignal signal;
    signal.extra = [=](double t, int phase) {
      return std::numbers::sqrt2 * (p ? 0.01 : 0.1) *
             std::cos(order * (2 * pi * 50 * t - 2 * pi / 3 * phase));
    };
    harmonic.worse(worst_of(performance, reports, signal));
  }
  if (!p) {
    PhasorErrors& outside = add("10 % outside of the band", {0.013, 0.01, no_limit});
    for (double hertz = 10; hertz <= 100; hertz += 2.5) {
      if (std::abs(hertz - 50) < reports / 2) continue;
      PhasorSignal signal = off_nominal(0.05 * reports);
      signal.extra = [=](double t, int phase) {
        return std::numbers::sqrt2 * 0.1 * std::cos(2 * pi * hertz * t - 2 * pi / 3 * phase);
      };
      outside.worse(worst_of(performance, reports, signal));
    }
  }
  const double most = modulation_range(performance, reports);
  PhasorErrors& amplitude = add("amplitude modulated by 10 %", {0.03, p ? 0.06 : 0.3, p ? 2.3 : 14});
  PhasorErrors& angle = add("angle modulated by 0.1 rad", {0.03, p ? 0.06 : 0.3, p ? 2.3 : 14});
  for (const double share : {0.1, 0.4, 0.7, 1.0}) {
    const double w = 2 * pi * share * most;
    PhasorSignal signal;
    signal.amplitude = [=](double t) { return 1 + 0.1 * std::cos(w * t); };
    amplitude.worse(worst_of(performance, reports, signal, 3));
    signal = {};
    signal.angle = [=](double t) { return 0.1 * std::cos(w * t - pi); };
    signal.frequency = [=](double t) { return -0.1 * w / (2 * pi) * std::sin(w * t - pi); };
    signal.rate = [=](double t) { return -0.1 * w * w / (2 * pi) * std::cos(w * t - pi); };
    angle.worse(worst_of(performance, reports, signal, 3));
  }
  PhasorErrors& ramp = add("frequency ramp of 1 Hz/s", {0.01, 0.01, p ? 0.4 : 0.2});
  PhasorSignal rising;
  rising.angle = [=](double t) { return 2 * pi * (-range * t + 0.5 * t * t); };
  rising.frequency = [=](double t) { return t - range; };
  rising.rate = [](double) { return 1.0; };
  ramp.worse(worst_of(performance, reports, rising, 2 * range));
  return cases;
}

/// How long a step of 10 % (or of 10 degrees) keeps each error above its limit, the delay of half the step,
/// and the overshoot as a share of the step; found from steps that fall between reports by tenths.
struct PhasorStep {
  double vector_s = 0, frequency_s = 0, rate_s = 0;
};
inline PhasorStep phasor_step(Performance performance, double reports, bool of_angle) {
  const bool p = performance == Performance::p;
  const PhasorErrors limit{0.01, 0.005, p ? 0.4 : 0.1};
  double first[3] = {1, 1, 1}, last[3] = {-1, -1, -1};
  for (int shift = 0; shift < 10; ++shift) {
    const double at = 2 + shift / (10 * reports);
    PhasorSignal signal;
    if (of_angle)
      signal.angle = [=](double t) { return t < at ? 0 : pi / 18; };
    else
      signal.amplitude = [=](double t) { return t < at ? 1 : 1.1; };
    measure_phasors(performance, reports, signal, 4, [&](double t, const PhasorErrors& one) {
      const double errors[3] = {one.vector / limit.vector, one.frequency / limit.frequency,
                                one.rate / limit.rate};
      for (int k = 0; k < 3; ++k) {
        if (errors[k] <= 1) continue;
        first[k] = std::min(first[k], t - at);
        last[k] = std::max(last[k], t - at);
      }
    });
  }
  const auto span = [&](int k) { return std::max(0.0, last[k] - first[k]); };
  return {span(0), span(1), span(2)};
}
/// Table 9 of the standard, s.
inline PhasorStep phasor_step_limit(Performance performance, double reports) {
  if (performance == Performance::p) return {2.0 / 50, 4.5 / 50, 6.0 / 50};
  return {7 / reports, std::max(14.0 / 50, 14 / reports), std::max(14.0 / 50, 14 / reports)};
}

}  // namespace zavrek::test
