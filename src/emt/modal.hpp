#pragma once

#include <Eigen/Dense>

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
  const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> charge(capacitance);
  const Eigen::MatrixXd root = charge.operatorSqrt();
  const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> waves(root * inductance * root);
  return {charge.operatorInverseSqrt() * waves.eigenvectors(), root * waves.eigenvectors(),
          waves.eigenvalues()};
}

}  // namespace zavrek::emt::internal
