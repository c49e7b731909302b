#pragma once

#include <complex>
#include <vector>

#include "zavrek/emt/frequency_line.hpp"

namespace zavrek::emt {

/// Partial fractions of a matrix with common poles: constant + sum of residue/(s - pole); of a pair of
/// conjugates only the one above the real axis is kept. Matrices n x n, row-major.
struct MatrixFit {
  std::vector<double> constant;
  std::vector<std::complex<double>> poles;
  std::vector<std::vector<std::complex<double>>> residues;  ///< per pole
};

/// Waves that arrive at about the same time.
struct WaveFront {
  double delay_s = 0;
  MatrixFit propagation;  ///< what of the currents arrives, without the delay
};

/// A line in phases: the currents at an end are i = Yc v - sum over fronts of H w, w = Yc v + i of the other
/// end a delay ago.
struct PhaseLine {
  int conductors = 0;
  MatrixFit admittance;  ///< characteristic, S
  std::vector<WaveFront> fronts;
  double admittance_error = 0, propagation_error = 0;  ///< rms, of the whole
  /// Least eigenvalue of the conductance of the two-port over all frequencies, of its admittance there.
  double least_conductance = 0;
  /// But for rounding of the fit, which any loss outweighs.
  [[nodiscard]] bool passive() const { return least_conductance > -5e-4; }
};

/// The geometry's own modes at each frequency, those that arrive together taken together, fitted with common
/// poles each (A. Morched, B. Gustavsen, M. Tartibi, IEEE Trans. Power Delivery 14, 1999); earth return by
/// complex depth, leakage with a time constant of 80 s. Throws Error for a geometry with flaws.
[[nodiscard]] PhaseLine fit_line_in_phases(const network::LineGeometry& geometry,
                                           const FrequencyLineOptions& options);

}  // namespace zavrek::emt
