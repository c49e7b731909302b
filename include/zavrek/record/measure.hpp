// Single numbers that say how a waveform is, over a window of a record.
#pragma once

#include <string_view>
#include <vector>

#include "zavrek/record.hpp"

namespace zavrek::record {

/// - `mean`, `least`, `greatest`: of the samples
/// - `rms`: true rms of all whole cycles in the window (of the samples, where there is no whole one)
/// - `fundamental`: rms of the component at the frequency of the record
/// - `thd`: rms of harmonics 2 to 50 over that of the fundamental (IEC 61000-4-7 without grouping), as a
/// share
/// - `frequency`: from the first to the last rising zero, in Hz
/// - `ripple`: greatest minus least
/// - `overshoot`: how far the samples pass beyond where they end up (mean of the last tenth of the window),
/// over the way from the first of them to there, as a share
enum class Measure { mean, least, greatest, rms, fundamental, thd, frequency, ripple, overshoot };

/// The words above, in that order.
[[nodiscard]] const std::vector<std::string>& measure_words();
/// Throws Error with the nearest word.
[[nodiscard]] Measure measure_of(std::string_view word);
/// Its unit when the signal's is `unit`.
[[nodiscard]] std::string unit_of(Measure measure, std::string_view unit);

/// Samples with from_s <= t <= until_s; the fundamental is that of the record unless `frequency_Hz` is given.
/// NaN where the window is too short to tell.
[[nodiscard]] double measure(const Record& record, const Analog& analog, Measure what, double from_s,
                             double until_s, double frequency_Hz = 0);

/// Rms over the cycle that ends at each sample (of what there is, at the start).
[[nodiscard]] std::vector<double> cycle_rms(const Record& record, const Analog& analog,
                                            double frequency_Hz = 0);

/// The instant from which on, until `until_s`, the values stay between `low` and `high`; NaN when they are
/// outside at the end. `values` are one per sample of the record.
[[nodiscard]] double settled_s(const Record& record, const std::vector<double>& values, double from_s,
                               double until_s, double low, double high);

}  // namespace zavrek::record
