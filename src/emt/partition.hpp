// The nodal matrix of one partition, factored as L D L^T. Nodes that no pole touches come first and
// are factored once, sparse; the poles' nodes come last and form a dense trailing block, the only part
// that a switching refactors (its Schur complement without any pole is kept).
#pragma once

#include <vector>

#include <Eigen/SparseCore>

namespace zavrek::emt::internal {

class Partition {
 public:
  /// `matrix`: symmetric positive definite, without poles, in local order; `leading` nodes are not
  /// touched by poles. `first` is the position of local node 0 in the plant's value array.
  /// Returns the local node at which the leading part is singular, or -1.
  int build(const Eigen::SparseMatrix<double>& matrix, int leading, int first);

  /// Registers a pole between local nodes (or -1 for a node outside, known or ground); returns its number.
  int add_pole(int p, int q, double siemens);
  void set_pole(int number, double siemens) noexcept {
    poles_[static_cast<std::size_t>(number)].siemens = siemens;
  }

  /// Refactors the trailing block. Returns the local node at which it is singular, or -1.
  int refactor() noexcept;

  /// Solves in place; `values` is the plant's value array.
  void solve(double* values) const noexcept;

  [[nodiscard]] int first() const { return first_; }
  [[nodiscard]] int size() const { return size_; }
  [[nodiscard]] int trailing() const { return size_ - leading_; }
  [[nodiscard]] int entries() const {
    return static_cast<int>(row_.size()) + trailing() * (trailing() + 1) / 2;
  }

 private:
  struct Pole {
    int p, q;
    double siemens;
  };

  int first_ = 0;
  int size_ = 0;
  int leading_ = 0;
  std::vector<int> column_;      // leading + 1: start of each column in row_ and value_
  std::vector<int> row_;         // local rows below the diagonal
  std::vector<double> value_;    // entries of L
  std::vector<double> inverse_;  // size: 1/D
  std::vector<double> schur_;    // trailing^2, row-major: trailing block without poles
  std::vector<double> lower_;    // trailing^2, row-major: its L with the poles as they stand
  std::vector<double> upper_;    // trailing^2: transpose of lower_, so that both sweeps read rows
  std::vector<Pole> poles_;
};

}  // namespace zavrek::emt::internal
