#include "emt/solve/dense.hpp"

#include <Eigen/Eigenvalues>

namespace zavrek::emt::internal {

Eigen::VectorXd symmetric_eigenvalues(const Eigen::MatrixXd& matrix) {
  return Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd>(matrix, Eigen::EigenvaluesOnly).eigenvalues();
}

SymmetricDecomposition decompose_symmetric(const Eigen::MatrixXd& matrix, bool roots) {
  const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> solver(matrix);
  SymmetricDecomposition found{solver.eigenvalues(), solver.eigenvectors(), {}, {}};
  if (roots) {
    found.root = solver.operatorSqrt();
    found.inverse_root = solver.operatorInverseSqrt();
  }
  return found;
}

Decomposition decompose(const Eigen::MatrixXd& matrix, bool vectors) {
  const Eigen::EigenSolver<Eigen::MatrixXd> solver(matrix, vectors);
  Decomposition found{solver.eigenvalues(), {}};
  if (vectors) found.vectors = solver.eigenvectors();
  return found;
}

Decomposition decompose(const Eigen::MatrixXcd& matrix) {
  const Eigen::ComplexEigenSolver<Eigen::MatrixXcd> solver(matrix);
  return {solver.eigenvalues(), solver.eigenvectors()};
}

Eigen::VectorXd hermitian_eigenvalues(const Eigen::MatrixXcd& matrix) {
  return Eigen::SelfAdjointEigenSolver<Eigen::MatrixXcd>(matrix, Eigen::EigenvaluesOnly).eigenvalues();
}

}  // namespace zavrek::emt::internal
