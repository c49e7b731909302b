// What blocks are made with, where both their functions and their text in C want it.
#pragma once

#include <random>
#include <vector>

#include "control/formula.hpp"
#include "zavrek/control/blocks.hpp"

namespace zavrek::control {

/// Of z^0, z^-1, ... of u and of y, the first of y being 1.
struct TransferCoefficients {
  std::vector<double> of_input, of_output;
};
[[nodiscard]] TransferCoefficients transfer_coefficients(const Transfer& block, double period_s);

/// At least one.
[[nodiscard]] std::size_t executions_in(double window_s, double period_s);

/// The random numbers of a sensor: its own, whatever the others are called.
[[nodiscard]] std::minstd_rand seeded(const Sensor& block);

struct SequenceStep {
  static constexpr std::size_t anywhere = static_cast<std::size_t>(-1);
  std::size_t from, to;  // `anywhere`: any state but `to`
  Formula condition;
  double after_s;
};
/// Throws Error that names the step.
[[nodiscard]] std::vector<SequenceStep> steps_of(const Sequence& block);

}  // namespace zavrek::control
