#pragma once

#include <array>
#include <complex>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace zavrek::protection {

/// Synchrophasors, frequency and its rate of change from samples (IEC/IEEE 60255-118-1:2018).
struct SynchrophasorSettings {
  enum class Performance : std::uint8_t { p, m } performance = Performance::p;
  double frequency_Hz = 50;   ///< nominal: 50 or 60
  double reports_per_s = 50;  ///< 1 ... 200
  double samples_per_s = 4000;
  std::size_t channels = 3;
  /// Channels a, b, c of which the positive sequence gives the frequency.
  std::array<std::size_t, 3> frequency_of{0, 1, 2};
};

/// What is said of one instant.
struct SynchrophasorReport {
  std::int64_t second = 0;  ///< since 1970, UTC
  int index = 0;            ///< of the report within it: at index/reports_per_s
  std::vector<std::complex<double>>
      phasors;  ///< root mean square; a cosine with its peak at the second has angle 0
  double frequency_Hz = 0;
  double rate_Hz_per_s = 0;
};

/// Demodulates with the nominal frequency and filters around the instant of each report, without delay of its
/// own: a report comes when the latest sample that it needs has. Class P: a triangle of two cycles, class M:
/// a windowed sinc of nine reporting periods that keeps out what lies beyond half the reporting rate (annex
/// D). What the filter takes from a frequency off the nominal one is given back by its own response there.
class SynchrophasorEstimator {
 public:
  explicit SynchrophasorEstimator(const SynchrophasorSettings& settings);
  /// A sample of all channels at an instant, UTC; samples follow each other at their rate. A gap, or an
  /// instant that jumps, begins anew.
  void push(std::int64_t utc_ns, std::span<const double> values);
  /// The next report that is complete; false when there is none.
  [[nodiscard]] bool take(SynchrophasorReport& report);
  /// From the instant of a report to that of the last sample it needs.
  [[nodiscard]] double delay_s() const noexcept;

 private:
  using Complex = std::complex<double>;
  [[nodiscard]] Complex filtered(std::size_t channel, long long centre) const;
  [[nodiscard]] Complex sequence(long long centre) const;
  [[nodiscard]] Complex response(double offset_Hz, double rate_Hz_per_s) const;
  void begin(std::int64_t utc_ns);
  void make(long long centre, double shift_s, SynchrophasorReport& report) const;

  SynchrophasorSettings settings_;
  std::vector<double> taps_;   // of the centre and one side
  long long half_, apart_;     // samples: of the filter, between the angles that give the frequency
  std::size_t room_;           // samples kept
  std::vector<Complex> kept_;  // by sample and channel, demodulated
  long long count_ = 0;        // samples since it began
  std::int64_t first_ns_ = 0, last_ns_ = 0;
  std::int64_t next_second_ = 0;
  int next_index_ = 0;
};

}  // namespace zavrek::protection
