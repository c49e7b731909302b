// The nodal matrix of one partition, factored as L D L^T in blocks of one group of lanes (a bus's three
// phases, or fewer nodes). The blocks of D are kept as l d l^T: their explicit inverse would be cheaper by a
// multiplication, and lose all digits where a large conductance joins two nodes of a group. Neither sweep
// waits for a block of D: with L of single nodes, whose triangles both would pass through, a solve of 100
// buses took a quarter longer. When an adjustable conductance (of a pole, a bent characteristic, a varying
// model) changes, only the columns on the paths from where it stands to the root of the elimination tree are
// made anew: elsewhere L and D stay as they are (Chan, Brandwajn, "Partial matrix refactorization", IEEE
// Trans. Power Systems 1 (1986)). The result is that of factoring the whole, bit for bit.
#pragma once

#include <vector>

#include <Eigen/SparseCore>

#include "emt/solve/lanes.hpp"
#include "emt/solve/sequence_columns.hpp"

namespace zavrek::emt::internal {

inline constexpr int solving_numbers = 5 * lanes;  // that a block of D takes: l, l^T, d^-1

class Partition {
 public:
  /// `matrix`: symmetric positive definite with the adjustable conductances that `add_adjustable` will name,
  /// in local positions in the order of elimination: `lanes` to a group, lanes that hold no node being empty.
  /// Its values are those without adjustable conductances. `first` is the position of local 0 in the plant's
  /// value array.
  void build(const Eigen::SparseMatrix<double>& matrix, const std::vector<bool>& holds_node, int first);

  /// An adjustable conductance (entry `number` of the plant's list) enters the matrix at local positions
  /// `row` and `column` times `sign`; the pattern given to `build` holds that place. Returns the column to
  /// mark when it changes.
  int add_adjustable(int row, int column, int number, double sign);

  /// Factors the whole with the adjustable conductances as they stand; call it once, after the calls above.
  /// Returns the local position at which the matrix is singular, or -1.
  int factor(const double* adjustable);

  /// Notes that an adjustable conductance in that column changed.
  void mark(int column) noexcept {
    stale_[static_cast<std::size_t>(column)] = 1;
    if (column < first_stale_) first_stale_ = column;
    marked_ = true;
  }
  [[nodiscard]] bool marked() const noexcept { return marked_; }
  /// Of factors that nobody solves with: who asks is told of changes to come only.
  void leave_stale() noexcept { marked_ = false; }

  /// Goes over to the conductances as they stand by making the columns anew that the marks reach.
  void refactor(const double* adjustable) noexcept;

  /// Solves for the right-hand side in `right`, which is emptied, into `values`, the plant's value array;
  /// both may be the same, positions are.
  void solve(double* right, double* values) const noexcept;

  [[nodiscard]] int first() const { return first_; }
  [[nodiscard]] int end() const { return first_ + groups_ * lanes; }
  [[nodiscard]] int nodes() const { return nodes_; }
  /// The adjustable conductances within, ascending.
  [[nodiscard]] std::vector<int> numbers() const;
  /// Nodes in columns that some adjustable conductance reaches.
  [[nodiscard]] int adjustable_nodes() const;
  /// The matrix as it was given, and what its adjustable conductances add at local places.
  struct Adjustable {
    int row, column, number;
    double sign;
  };
  [[nodiscard]] const Eigen::SparseMatrix<double>& given() const { return matrix_; }
  [[nodiscard]] const std::vector<Adjustable>& adjustables() const { return adjustables_; }
  [[nodiscard]] const std::vector<bool>& holds_node() const { return holds_node_; }
  /// Numbers that one solve reads.
  [[nodiscard]] int entries() const;

 private:
  struct Contribution {
    int column;  // group
    int entry;   // of the column; the diagonal block is the first
    int at;      // number within the block
    int number;  // of the adjustable conductance
    double sign;
  };
  /// A block L_jk left of the diagonal of row j.
  struct Left {
    int entry;   // of the list of all blocks below the diagonal
    int column;  // k
  };

  /// Where a column that is solved in phases has its numbers, as a solve reads them.
  struct PhaseColumn {
    int own;         // local position
    int solving;     // start in solving_
    int first, end;  // of the blocks below the diagonal
    int blocks;      // start of those in below_ and above_
  };

  void find_sequences();
  [[nodiscard]] std::vector<bool> changing_columns() const;
  void sort_left(const std::vector<bool>& changing);
  void find_places(int j) noexcept;
  void settle_standing(int j) noexcept;
  void subtract_left(int from, int to, double* diagonal, double* blocks) const noexcept;
  void solve_phases(double* right, double* b) const noexcept;
  int make_column(int j, const double* adjustable) noexcept;

  int first_ = 0;
  int nodes_ = 0;
  int groups_ = 0;
  std::vector<bool> holds_node_;       // per lane
  std::vector<int> column_;            // groups + 1: start of each block column in row_
  std::vector<int> row_;               // per block below the diagonal: local position of its group
  Numbers below_;                      // blocks of L, by column
  Numbers above_;                      // the same transposed, for the backward sweep
  Numbers solving_;                    // groups, solving_numbers each: the triangle and D within a column
  SequenceColumns sequences_;          // columns that a solve takes in symmetrical components
  std::vector<PhaseColumn> by_phase_;  // the other columns, ascending

  // For those who factor it otherwise.
  Eigen::SparseMatrix<double> matrix_;
  std::vector<Adjustable> adjustables_;

  // For factoring only.
  Numbers given_;           // the matrix without adjustable conductances, as below_; what the columns that
                            // never change take from it is taken when it is factored
  Numbers given_diagonal_;  // groups: its diagonal blocks
  Numbers scaled_;          // blocks of L D, transposed, as below_
  Numbers before_;          // lanes per group: its diagonal as it was given
  std::vector<int> left_start_;     // groups + 1: start of each row in left_
  std::vector<int> left_changing_;  // groups: start of those in columns that may change
  std::vector<Left> left_;          // blocks of L by rows; those in columns that never change come first
  std::vector<Contribution> contributions_;  // by column
  std::vector<int> contributions_start_;     // groups + 1: start of each column in contributions_
  std::vector<int> place_;                   // groups: where a row stands in the column at work
  Numbers work_;                             // the column at work: diagonal block, then those below
  std::vector<char> stale_;                  // groups: the column must be made anew
  int first_stale_ = 0;
  bool marked_ = false;  // since the last refactor
};

}  // namespace zavrek::emt::internal
