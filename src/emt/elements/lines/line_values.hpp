// What lines and cables say about themselves, as matrices per metre.
#pragma once

#include <string>
#include <vector>

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

/// The fields that lines, cables and rights of way have in common.
struct LineValues {
  double r1, x1, c1, r0, x0, c0;  // SI per metre; not of a right of way
  const std::vector<double>&r_matrix, &x_matrix, &b_matrix;
  const std::string& geometry;
};
template <class T>
[[nodiscard]] LineValues values_of(const T& e) {
  LineValues values{network::unset,     network::unset, network::unset,       network::unset,
                    network::unset,     network::unset, e.r_matrix_ohm_per_m, e.x_matrix_ohm_per_m,
                    e.b_matrix_S_per_m, e.geometry};
  if constexpr (requires { e.r1_ohm_per_m; }) {
    values.r1 = e.r1_ohm_per_m, values.x1 = e.x1_ohm_per_m, values.c1 = e.c1_F_per_m;
    values.r0 = e.r0_ohm_per_m, values.x0 = e.x0_ohm_per_m, values.c0 = e.c0_F_per_m;
  }
  return values;
}

/// As a geometry of one circuit names the conductors of some phases: "a", "b", "c".
[[nodiscard]] std::vector<std::string> conductor_names(const std::string& letters);

/// Throws Error in the name of `owner` when values are missing, do not fit the conductors, or make no passive
/// line.
[[nodiscard]] LineMatrices line_matrices(const Assembly& assembly, const std::string& owner,
                                         const std::vector<std::string>& conductors,
                                         const LineValues& values);
[[nodiscard]] inline LineMatrices line_matrices(const Assembly& assembly, const std::string& owner,
                                                const std::string& letters, const LineValues& values) {
  return line_matrices(assembly, owner, conductor_names(letters), values);
}

/// Throws Error that names a field of `owner`: those of resistance, inductance and capacitance.
struct MatrixFields {
  const char *resistance, *inductance, *capacitance;
};
void require_passive(const std::string& owner, const MatrixFields& fields, const LineMatrices& matrices);

/// Throws Error when there is none of that name or when it has other conductors.
[[nodiscard]] const network::LineGeometry& geometry_of(const Assembly& assembly, const std::string& owner,
                                                       const std::vector<std::string>& conductors,
                                                       const std::string& name);

}  // namespace zavrek::emt::internal
