#pragma once

#include <complex>
#include <vector>

namespace zavrek::emt {

/// f(s) = constant + sum over poles of residue/(s - pole); of a pair of conjugates only the one above the
/// real axis is kept, and counts twice its real part in time.
struct RationalFit {
  double constant = 0;
  std::vector<std::complex<double>> poles;     ///< 1/s, all in the left half plane
  std::vector<std::complex<double>> residues;  ///< as many
  double error = 0;  ///< rms of the weighted deviation over the weighted rms of the samples

  [[nodiscard]] std::complex<double> operator()(std::complex<double> s) const;
};

struct FitOptions {
  int poles = 12;
  bool constant = true;   ///< else the fit vanishes at high frequency
  bool relative = false;  ///< weigh each sample by one over its magnitude
  bool pairs = false;     ///< start from conjugate pairs (resonances, fronts) instead of real poles
  int rounds = 20;
};

/// Fits samples f(j omega) by vector fitting (Gustavsen and Semlyen, IEEE Trans. Power Delivery 14, 1999):
/// poles are relocated to the zeros of a weighting function found by least squares, then residues follow.
/// `omega` in rad/s, rising, positive. Throws Error when there are fewer samples than unknowns.
[[nodiscard]] RationalFit vector_fit(const std::vector<double>& omega,
                                     const std::vector<std::complex<double>>& f, const FitOptions& options);

/// Several functions with the same poles: f_m(s) = constants[m] + sum over poles of residues[m][k]/(s -
/// pole).
struct CommonFit {
  std::vector<double> constants;
  std::vector<std::complex<double>> poles;
  std::vector<std::vector<std::complex<double>>> residues;
  double error = 0;  ///< of all functions together, as of a `RationalFit`

  [[nodiscard]] std::complex<double> operator()(std::size_t function, std::complex<double> s) const;
};

/// Fits f[m](j omega) together, each sample weighed by `weight` at its frequency (one when empty; `relative`
/// counts for nothing).
[[nodiscard]] CommonFit vector_fit_together(const std::vector<double>& omega,
                                            const std::vector<std::vector<std::complex<double>>>& f,
                                            const std::vector<double>& weight, const FitOptions& options);

}  // namespace zavrek::emt
