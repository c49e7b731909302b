#pragma once

#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {

/// Real modes of a line that diagonalise L C: with C^(1/2) L C^(1/2) = Q D Q^T, v = C^(-1/2) Q v_m and
/// i = C^(1/2) Q i_m, so that voltages^T currents = 1 and each mode has the inductance D and the
/// capacitance 1.
struct ModalTransformation {
  Eigen::MatrixXd voltages, currents;  // n x n
  Eigen::VectorXd inductance;          // n
};

/// `capacitance` must be positive definite.
[[nodiscard]] inline ModalTransformation modal_transformation(const Eigen::MatrixXd& inductance,
                                                              const Eigen::MatrixXd& capacitance) {
  const SymmetricDecomposition charge = decompose_symmetric(capacitance, true);
  const Eigen::MatrixXd& root = charge.root;
  const SymmetricDecomposition waves = decompose_symmetric(product(product(root, inductance), root), false);
  return {product(charge.inverse_root, waves.vectors), product(root, waves.vectors), waves.values};
}

}  // namespace zavrek::emt::internal
