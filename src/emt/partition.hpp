// The nodal matrix of one partition, factored as L D L^T in blocks of one group of lanes (a bus's three
// phases, or fewer nodes). Groups that nothing adjustable (a pole, a bent characteristic, a varying model)
// touches come first and are factored once, sparse; the nodes of the others form a dense trailing matrix, the
// only part that a switching refactors (its Schur complement without anything adjustable is kept).
#pragma once

#include <vector>

#include <Eigen/SparseCore>

#include "emt/lanes.hpp"

namespace zavrek::emt::internal {

class Partition {
 public:
  /// `matrix`: symmetric positive definite, without adjustable conductances, in local positions: `lanes` to a
  /// group, lanes that hold no node being empty; the first `leading` groups are not touched by any. `first`
  /// is the position of local 0 in the plant's value array. Returns the local position at which the leading
  /// part is singular, or -1.
  int build(const Eigen::SparseMatrix<double>& matrix, const std::vector<bool>& holds_node, int leading,
            int first);

  /// An adjustable conductance (entry `number` of the plant's list) enters the trailing matrix at local
  /// positions `row` and `column` times `sign`.
  void add_adjustable(int row, int column, int number, double sign);

  /// Refactors the trailing matrix with the adjustable conductances as they stand. Returns the local position
  /// at which it is singular, or -1.
  int refactor(const double* adjustable) noexcept;

  /// Solves in place; `values` is the plant's value array.
  void solve(double* values) noexcept;

  [[nodiscard]] int first() const { return first_; }
  [[nodiscard]] int nodes() const { return nodes_; }
  [[nodiscard]] int trailing() const { return static_cast<int>(tail_.size()); }
  /// Numbers that one solve reads.
  [[nodiscard]] int entries() const {
    return static_cast<int>(below_.size() + above_.size() + inverse_.size()) + trailing() * trailing();
  }

 private:
  struct Contribution {
    int at;      // of the trailing matrix, row-major
    int number;  // of the adjustable conductance
    double sign;
  };

  void solve_trailing(double* b) noexcept;

  int first_ = 0;
  int nodes_ = 0;
  int leading_ = 0;          // groups
  std::vector<int> column_;  // leading + 1: start of each block column in row_
  std::vector<int> row_;     // per block below the diagonal: local position of its group
  Numbers below_;            // blocks of L, by column
  Numbers above_;            // the same transposed, for the backward sweep
  Numbers inverse_;          // leading blocks: D^-1

  std::vector<int> tail_;  // trailing nodes: local positions
  Numbers packed_;         // trailing: their right-hand side and solution
  Numbers schur_;          // trailing^2, row-major: without adjustable conductances
  Numbers lower_;          // trailing^2, row-major: L with them as they stand
  Numbers upper_;          // trailing^2: transpose of lower_, so that both sweeps read rows
  Numbers reciprocal_;     // trailing: 1/D
  std::vector<Contribution> contributions_;
};

}  // namespace zavrek::emt::internal
