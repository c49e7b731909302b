#include "zavrek/record/measure.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <limits>
#include <numbers>

#include "zavrek/quantity.hpp"

namespace zavrek::record {
namespace {

constexpr double nothing = std::numeric_limits<double>::quiet_NaN();
constexpr int highest_harmonic = 50;

/// Samples [first, last) of a window.
struct Window {
  std::size_t first = 0, last = 0;
  [[nodiscard]] std::size_t size() const { return last - first; }
};

Window window_of(const Record& record, double from_s, double until_s) {
  const double slack = record.rate_Hz > 0 ? 1e-6 / record.rate_Hz : 0;
  const auto& t = record.time_s;
  const auto first = std::lower_bound(t.begin(), t.end(), from_s - slack);
  const auto last = std::upper_bound(t.begin(), t.end(), until_s + slack);
  if (first >= last) return {};
  return {static_cast<std::size_t>(first - t.begin()), static_cast<std::size_t>(last - t.begin())};
}

/// The window cut to whole cycles of so many samples, which need not be a whole number; unchanged when it
/// holds none.
Window whole_cycles(double cycle, Window window) {
  const double count = std::floor(static_cast<double>(window.size()) / cycle + 1e-6);
  if (cycle > 0 && count >= 1)
    window.last = window.first + static_cast<std::size_t>(std::lround(count * cycle));
  return window;
}

/// Peak phasor of the component with so many samples to a period.
std::complex<double> component(const Analog& analog, Window window, double period) {
  const double turn = -2 * std::numbers::pi / period;
  const std::complex<double> factor = std::polar(1.0, turn);
  std::complex<double> rotation = 1, sum = 0;
  for (std::size_t k = window.first; k < window.last; ++k) {
    sum += analog.samples[k] * rotation;
    rotation *= factor;
  }
  return sum * 2.0 / static_cast<double>(window.size());
}

double rms_of(const Analog& analog, Window window) {
  double sum = 0;
  for (std::size_t k = window.first; k < window.last; ++k) sum += analog.samples[k] * analog.samples[k];
  return std::sqrt(sum / static_cast<double>(window.size()));
}

double distortion(const Analog& analog, Window window, double cycle) {
  if (cycle < 4 || static_cast<double>(window.size()) < cycle - 0.5) return nothing;
  const double fundamental = std::abs(component(analog, window, cycle));
  double sum = 0;
  const int highest = std::min<int>(highest_harmonic, static_cast<int>(std::lround(cycle)) / 2 - 1);
  for (int order = 2; order <= highest; ++order) sum += std::norm(component(analog, window, cycle / order));
  return fundamental > 0 ? std::sqrt(sum) / fundamental : nothing;
}

/// How far the samples pass beyond where they end up, over the way that they have come.
double overshoot_of(const Analog& analog, Window window) {
  const std::size_t tail = std::max<std::size_t>(1, window.size() / 10);
  double final = 0, beyond = 0;
  for (std::size_t k = window.last - tail; k < window.last; ++k) final += analog.samples[k];
  final /= static_cast<double>(tail);
  const double way = final - analog.samples[window.first];
  for (std::size_t k = window.first; k < window.last && way != 0; ++k)
    beyond = std::max(beyond, (analog.samples[k] - final) / way);
  return way != 0 ? beyond : nothing;
}

double frequency_of(const Record& record, const Analog& analog, Window window) {
  double first = nothing, last = nothing;
  int cycles = -1;
  // A crossing counts again only after the signal was well below zero: ripple makes several in a row.
  const double depth = 0.2 * rms_of(analog, window);
  bool armed = false;
  for (std::size_t k = window.first + 1; k < window.last; ++k) {
    const double before = analog.samples[k - 1], after = analog.samples[k];
    if (before < -depth) armed = true;
    if (!armed || before >= 0 || after < 0) continue;
    armed = false;
    last = record.time_s[k - 1] + (record.time_s[k] - record.time_s[k - 1]) * before / (before - after);
    if (++cycles == 0) first = last;
  }
  return cycles > 0 ? cycles / (last - first) : nothing;
}

}  // namespace

const std::vector<std::string>& measure_words() {
  static const std::vector<std::string> words{"mean", "least",     "greatest", "rms",      "fundamental",
                                              "thd",  "frequency", "ripple",   "overshoot"};
  return words;
}

Measure measure_of(std::string_view word) {
  const auto& words = measure_words();
  const auto found = std::find(words.begin(), words.end(), word);
  if (found == words.end()) throw Error("no measure \"" + std::string(word) + "\"" + suggestion(word, words));
  return static_cast<Measure>(found - words.begin());
}

std::string unit_of(Measure measure, std::string_view unit) {
  if (measure == Measure::thd || measure == Measure::overshoot) return "";
  return measure == Measure::frequency ? "Hz" : std::string(unit);
}

double measure(const Record& record, const Analog& analog, Measure what, double from_s, double until_s,
               double frequency_Hz) {
  const double cycle = record.rate_Hz / (frequency_Hz > 0 ? frequency_Hz : record.frequency_Hz);
  const Window window = window_of(record, from_s, until_s);
  if (window.size() == 0) return nothing;
  const auto begin = analog.samples.begin() + static_cast<std::ptrdiff_t>(window.first);
  const auto end = analog.samples.begin() + static_cast<std::ptrdiff_t>(window.last);
  switch (what) {
    case Measure::mean: {
      double sum = 0;
      for (auto at = begin; at != end; ++at) sum += *at;
      return sum / static_cast<double>(window.size());
    }
    case Measure::least:
      return *std::min_element(begin, end);
    case Measure::greatest:
      return *std::max_element(begin, end);
    case Measure::rms:
      return rms_of(analog, whole_cycles(cycle, window));
    case Measure::fundamental: {
      const Window cycles = whole_cycles(cycle, window);
      if (static_cast<double>(cycles.size()) < cycle - 0.5) return nothing;
      return std::abs(component(analog, cycles, cycle)) / std::numbers::sqrt2;
    }
    case Measure::thd:
      return distortion(analog, whole_cycles(cycle, window), cycle);
    case Measure::frequency:
      return frequency_of(record, analog, window);
    case Measure::overshoot:
      return overshoot_of(analog, window);
    case Measure::ripple:
      return *std::max_element(begin, end) - *std::min_element(begin, end);
  }
  return nothing;
}

std::vector<double> cycle_rms(const Record& record, const Analog& analog, double frequency_Hz) {
  const double frequency = frequency_Hz > 0 ? frequency_Hz : record.frequency_Hz;
  const auto cycle =
      std::max<std::size_t>(1, static_cast<std::size_t>(std::lround(record.rate_Hz / frequency)));
  std::vector<double> rms(analog.samples.size(), 0.0);
  std::vector<double> sums(analog.samples.size() + 1, 0.0);
  for (std::size_t k = 0; k < analog.samples.size(); ++k)
    sums[k + 1] = sums[k] + analog.samples[k] * analog.samples[k];
  for (std::size_t k = 0; k < rms.size(); ++k) {
    const std::size_t count = std::min(cycle, k + 1);
    rms[k] = std::sqrt(std::max(0.0, sums[k + 1] - sums[k + 1 - count]) / static_cast<double>(count));
  }
  return rms;
}

double settled_s(const Record& record, const std::vector<double>& values, double from_s, double until_s,
                 double low, double high) {
  const Window window = window_of(record, from_s, until_s);
  if (window.size() == 0) return nothing;
  const auto inside = [&](std::size_t k) { return values[k] >= low && values[k] <= high; };
  if (!inside(window.last - 1)) return nothing;
  std::size_t k = window.last - 1;
  while (k > window.first && inside(k - 1)) --k;
  return record.time_s[k];
}

}  // namespace zavrek::record
