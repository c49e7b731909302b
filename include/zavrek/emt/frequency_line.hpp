#pragma once

#include <string>
#include <vector>

#include "zavrek/emt/vector_fit.hpp"
#include "zavrek/network/geometry.hpp"

namespace zavrek::emt {

/// One mode of a line whose parameters follow the frequency.
struct FittedMode {
  RationalFit admittance;   ///< characteristic admittance, S (of the mode)
  RationalFit propagation;  ///< exp(-gamma l) without its delay
  double delay_s = 0;
  double least_real_S = 0;         ///< of the fitted admittance over all frequencies: passive when positive
  double largest_propagation = 0;  ///< magnitude of the fitted propagation: passive when at most one
};

/// A line in modes: v = voltages * modal v, i = currents * modal i (row-major, n x n), voltages^T currents
/// = 1.
struct FrequencyLine {
  int phases = 0;
  std::vector<double> voltages, currents;
  std::vector<FittedMode> modes;
  [[nodiscard]] bool passive() const;
};

struct FrequencyLineOptions {
  double length_m = 1000;
  double from_Hz = 0.1, to_Hz = 1e6;
  int poles = 14;
};

/// The earth return is taken by complex depth. Modes from a real transformation at 5 kHz (J. Marti, IEEE
/// Trans. PAS-101, 1982), each fitted by vector fitting. Throws Error for a geometry with flaws.
[[nodiscard]] FrequencyLine fit_line(const network::LineGeometry& geometry,
                                     const FrequencyLineOptions& options);

/// exp(-gamma l) of mode `mode` of `line` without its delay, from the geometry itself.
[[nodiscard]] std::complex<double> propagation_of(const network::LineGeometry& geometry,
                                                  const FrequencyLine& line, std::size_t mode,
                                                  double length_m, double frequency_Hz);

}  // namespace zavrek::emt
