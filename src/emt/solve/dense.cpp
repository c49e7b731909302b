#include "emt/solve/dense.hpp"

#include <Eigen/LU>
#include <Eigen/QR>

namespace zavrek::emt::internal {

Eigen::MatrixXd product(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b) { return a * b; }
Eigen::MatrixXcd product(const Eigen::MatrixXcd& a, const Eigen::MatrixXcd& b) { return a * b; }

Eigen::MatrixXd inverse(const Eigen::MatrixXd& matrix) { return matrix.inverse(); }
Eigen::MatrixXcd inverse(const Eigen::MatrixXcd& matrix) { return matrix.inverse(); }

Eigen::MatrixXd pseudo_inverse(const Eigen::MatrixXd& matrix) {
  return matrix.completeOrthogonalDecomposition().pseudoInverse();
}

std::optional<Eigen::MatrixXd> inverse_if_regular(const Eigen::MatrixXd& matrix) {
  const Eigen::FullPivLU<Eigen::MatrixXd> lu(matrix);
  if (!lu.isInvertible()) return std::nullopt;
  return lu.inverse();
}

Eigen::MatrixXd solve(const Eigen::MatrixXd& matrix, const Eigen::MatrixXd& rhs) {
  return matrix.fullPivLu().solve(rhs);
}
Eigen::VectorXcd solve(const Eigen::MatrixXcd& matrix, const Eigen::VectorXcd& rhs) {
  return matrix.fullPivLu().solve(rhs);
}

Eigen::VectorXd least_squares_of_full_rank(const Eigen::MatrixXd& a, const Eigen::VectorXd& b) {
  return a.householderQr().solve(b);
}
Eigen::VectorXd least_squares_of_any_rank(const Eigen::MatrixXd& a, const Eigen::VectorXd& b) {
  return a.colPivHouseholderQr().solve(b);
}

}  // namespace zavrek::emt::internal
