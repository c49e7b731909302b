// Phasors by least squares.
#pragma once

#include <array>
#include <complex>
#include <cstddef>
#include <vector>

namespace zavrek::trial::internal {

using Complex = std::complex<double>;

/// Fits constant, slope, and cosine and sine of the fundamental and of harmonics 2 and 5 to the samples of
/// one cycle: a decaying direct current is taken out to its first order.
class PhasorFit {
 public:
  /// `samples_per_cycle`: at least 16.
  explicit PhasorFit(std::size_t samples_per_cycle);
  struct Found {
    Complex fundamental, second, fifth;  ///< rms, at the angle of the first sample
  };
  /// `samples`: a cycle of them.
  [[nodiscard]] Found fit(const double* samples) const;

 private:
  static constexpr std::size_t terms = 8;
  std::size_t count_;
  std::vector<double> weights_;  // terms by count_: rows of the pseudo-inverse
};

}  // namespace zavrek::trial::internal
