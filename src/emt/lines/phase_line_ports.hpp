#pragma once

#include <complex>
#include <cstddef>

#include <Eigen/Core>

#include "zavrek/emt/phase_line.hpp"

namespace zavrek::emt::internal {

/// What a line in phases is at s: its characteristic admittance, and what of a front arrives, without delay.
[[nodiscard]] Eigen::MatrixXcd admittance_of(const PhaseLine& line, std::complex<double> s);
[[nodiscard]] Eigen::MatrixXcd front_of(const PhaseLine& line, std::size_t front, std::complex<double> s);

/// Currents into either end over voltages that are the same at both ends, and that are opposed.
struct LinePorts {
  Eigen::MatrixXcd same, opposed;
};
/// (1 +- H)^-1 (1 -+ H) Yc.
[[nodiscard]] LinePorts ports_of(const Eigen::MatrixXcd& admittance, const Eigen::MatrixXcd& propagation);

}  // namespace zavrek::emt::internal
