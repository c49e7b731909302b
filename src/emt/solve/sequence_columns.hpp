// Columns of a partition's factors whose blocks are all balanced: one number on the diagonal, one beside it.
// Networks described by sequence values have nearly nothing else. In symmetrical components such a block is
// two numbers, y1 for what sums to zero over the phases and y0 for the mean (Fortescue, "Method of
// symmetrical co-ordinates", Trans. AIEE 37 (1918)): the mean goes into the fourth lane and out of the other
// three, and a block times a vector is one multiplication, lane by lane.
//
//   balanced column   its block of the matrix, those below it and those of all its descendants in the
//                     elimination tree are balanced, and no adjustable conductance enters any of them
//
// Such columns never change, and every order that keeps descendants first is one of elimination: they come
// first, the columns of the phases after them.
#pragma once

#include <vector>

#include "emt/solve/lanes.hpp"

namespace zavrek::emt::internal {

class SequenceColumns {
 public:
  /// The lower triangle of a symmetric matrix in blocks, with the pattern of its factor.
  struct Pattern {
    const std::vector<int>& column;  // groups + 1: start of each block column in `row`
    const std::vector<int>& row;     // per block below the diagonal: local position of its group
    const Numbers& below;            // blocks below the diagonal
    const Numbers& diagonal;         // groups: blocks on the diagonal
    [[nodiscard]] std::size_t first(std::size_t j) const { return static_cast<std::size_t>(column[j]); }
    [[nodiscard]] std::size_t group(std::size_t block) const {
      return static_cast<std::size_t>(row[block]) / lanes;
    }
  };
  /// Finds the balanced columns and factors them; holds none where too few are balanced to pay. `apart`:
  /// groups that lack a phase, or that an adjustable conductance enters. The whole must not be singular.
  void build(const Pattern& pattern, const std::vector<char>& in_condensed);

  [[nodiscard]] bool empty() const { return place_.empty(); }
  [[nodiscard]] bool holds(int group) const { return balanced_[static_cast<std::size_t>(group)] != 0; }

  /// Takes the balanced columns from the right-hand side, which is emptied of them, into `b`; both stand for
  /// local position 0. What they leave for the other columns is in `right`, in phases again.
  void forward(double* right, double* b) const noexcept;
  /// Solves for the balanced columns when the others are solved, which is all in phases again then.
  void backward(double* b) const noexcept;

  /// Numbers that one solve reads.
  [[nodiscard]] std::size_t entries() const { return divided_.size() + below_.size(); }

 private:
  void find_balanced(const Pattern& pattern, const std::vector<char>& in_condensed, Numbers& diagonal,
                     Numbers& below);
  void find_border(const Pattern& pattern);
  void eliminate(const Pattern& pattern, Numbers& diagonal, Numbers& below);

  std::vector<char> balanced_;  // per group
  std::vector<int> place_;      // per balanced column: its local position
  std::vector<int> start_;      // balanced columns + 1: start of each in row_
  std::vector<int> row_;        // per block below the diagonal: local position of its group
  std::vector<int> border_;     // local positions of other groups in row_
  Numbers divided_;             // lanes per balanced column: D^-1, y1 thrice and y0
  Numbers below_;               // lanes per block: L, the same
};

}  // namespace zavrek::emt::internal
