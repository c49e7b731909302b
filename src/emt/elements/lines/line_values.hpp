// What lines and cables say about themselves, as matrices per metre.
#pragma once

#include <string>

#include "emt/parts/assembly.hpp"
#include "zavrek/network/geometry.hpp"

namespace zavrek::emt::internal {

/// n x n per metre, at the frequency of the network.
struct LineMatrices {
  Eigen::MatrixXd resistance, inductance, capacitance;
  [[nodiscard]] LineMatrices operator*(double length_m) const {
    return {resistance * length_m, inductance * length_m, capacitance * length_m};
  }
};

/// The fields that lines and cables have in common.
struct LineValues {
  double r1, x1, c1, r0, x0, c0;  // SI per metre
  const std::vector<double>&r_matrix, &x_matrix, &b_matrix;
  const std::string& geometry;
};
template <class T>
[[nodiscard]] LineValues values_of(const T& e) {
  return {e.r1_ohm_per_m, e.x1_ohm_per_m,       e.c1_F_per_m,         e.r0_ohm_per_m,     e.x0_ohm_per_m,
          e.c0_F_per_m,   e.r_matrix_ohm_per_m, e.x_matrix_ohm_per_m, e.b_matrix_S_per_m, e.geometry};
}

/// Throws Error in the name of `owner` when values are missing, do not fit the phases, or make no passive
/// line.
[[nodiscard]] LineMatrices line_matrices(const Assembly& assembly, const std::string& owner,
                                         const std::string& letters, const LineValues& values);

/// Throws Error when there is none of that name or when its phases are not `letters`.
[[nodiscard]] const network::LineGeometry& geometry_of(const Assembly& assembly, const std::string& owner,
                                                       const std::string& letters, const std::string& name);

}  // namespace zavrek::emt::internal
