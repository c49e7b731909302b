// Dense linear algebra on whole matrices. Eigen makes each decomposition anew in every source that names one,
// which takes a compiler ten to thirty seconds apiece: here they are made once.
#pragma once

#include <optional>

#include <Eigen/Core>

namespace zavrek::emt::internal {

[[nodiscard]] Eigen::MatrixXd product(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b);
[[nodiscard]] Eigen::MatrixXcd product(const Eigen::MatrixXcd& a, const Eigen::MatrixXcd& b);

/// By partial pivoting.
[[nodiscard]] Eigen::MatrixXd inverse(const Eigen::MatrixXd& matrix);
[[nodiscard]] Eigen::MatrixXcd inverse(const Eigen::MatrixXcd& matrix);
/// Of Moore and Penrose.
[[nodiscard]] Eigen::MatrixXd pseudo_inverse(const Eigen::MatrixXd& matrix);
/// By full pivoting; empty when the matrix is singular to rounding.
[[nodiscard]] std::optional<Eigen::MatrixXd> inverse_if_regular(const Eigen::MatrixXd& matrix);
/// By full pivoting.
[[nodiscard]] Eigen::MatrixXd solve(const Eigen::MatrixXd& matrix, const Eigen::MatrixXd& rhs);
[[nodiscard]] Eigen::VectorXcd solve(const Eigen::MatrixXcd& matrix, const Eigen::VectorXcd& rhs);

/// Least squares by Householder reflections, columns of `a` in order; `a` of full rank.
[[nodiscard]] Eigen::VectorXd least_squares_of_full_rank(const Eigen::MatrixXd& a, const Eigen::VectorXd& b);
/// The same with columns exchanged, of any rank.
[[nodiscard]] Eigen::VectorXd least_squares_of_any_rank(const Eigen::MatrixXd& a, const Eigen::VectorXd& b);

/// Eigenvalues of a symmetric matrix, ascending.
[[nodiscard]] Eigen::VectorXd symmetric_eigenvalues(const Eigen::MatrixXd& matrix);
/// With eigenvectors in columns, and the roots that follow from them for a positive definite matrix.
struct SymmetricDecomposition {
  Eigen::VectorXd values;
  Eigen::MatrixXd vectors, root, inverse_root;
};
[[nodiscard]] SymmetricDecomposition decompose_symmetric(const Eigen::MatrixXd& matrix, bool roots);

/// Eigenvalues of any real matrix, and eigenvectors in columns when wanted.
struct Decomposition {
  Eigen::VectorXcd values;
  Eigen::MatrixXcd vectors;
};
[[nodiscard]] Decomposition decompose(const Eigen::MatrixXd& matrix, bool vectors);
/// Of any complex matrix, vectors of unit length.
[[nodiscard]] Decomposition decompose(const Eigen::MatrixXcd& matrix);
/// Eigenvalues of a Hermitian matrix, ascending.
[[nodiscard]] Eigen::VectorXd hermitian_eigenvalues(const Eigen::MatrixXcd& matrix);

}  // namespace zavrek::emt::internal
