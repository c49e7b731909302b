#pragma once

#include <complex>
#include <string>
#include <vector>

#include "zavrek/emt.hpp"

namespace zavrek::emt {

/// Something that opens or closes at an instant.
struct Command {
  double at_s = 0;
  std::string operable;
  bool close = false;
};

/// What to calculate: the same for the fixed step and for the reference.
struct Study {
  network::Network network;
  std::vector<Command> commands;
  double duration_s = 0.1;
  double sample_s = 50e-6;           ///< between the samples of the result
  std::vector<std::string> signals;  ///< all when empty
};

/// Samples of signals at even instants from 0 on.
struct Series {
  std::vector<double> time_s;
  std::vector<std::string> names, units;
  std::vector<std::vector<double>> values;  ///< per signal
  long long steps = 0;                      ///< that the calculation took
};

/// The plant with its fixed step (`step_s`, or the network's when 0); samples between grid points are
/// interpolated. Throws Error when it diverges.
[[nodiscard]] Series simulate(const Study& study, double step_s = 0);

/// The network's own differential-algebraic equations, solved with variable step and order (backward
/// differentiation formulas of SUNDIALS IDA) to the relative tolerance. Throws Error naming what it cannot
/// follow: an element without continuous equations, or a loop of capacitances.
[[nodiscard]] Series solve_reference(const Study& study, double relative_tolerance = 1e-8);

/// A mode of the network at rest, e^(s t).
struct Mode {
  std::complex<double> s;  ///< 1/s
  std::string where;       ///< bus or element that takes the largest part in it
};

/// All oscillating or decaying modes of the network with its switches as they stand at the start, lines of
/// travelling waves taken as what they are at either end, fastest first. Machines stand still in their steady
/// state.
[[nodiscard]] std::vector<Mode> modes(const network::Network& network);

}  // namespace zavrek::emt
