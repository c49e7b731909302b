// The nodal matrix of a whole plant as the written-out step factors it: L D L^T by single nodes, columns one
// after the other (T. Davis, "Direct Methods for Sparse Linear Systems", ch. 4). Partitions only make it a
// forest.
#pragma once

#include <vector>

#include "emt/groups/conductances.hpp"

namespace zavrek::emt::internal {

struct WrittenFactors {
  struct Entry {  // an adjustable conductance enters a column
    int row, number;
    double sign;
  };
  struct Left {  // what a column takes from one before it
    int column, entry;
  };
  std::vector<int> column{0};  // start of each, and the end
  std::vector<int> row;        // ascending within a column
  std::vector<double> below, diagonal;
  /// Columns that change: the matrix without adjustable conductances, less what columns that never change
  /// take from it.
  std::vector<double> given_below, given_diagonal;
  std::vector<int> entering{0}, left{0};  // start of each column's, and the end
  std::vector<Entry> entries;
  std::vector<Left> lefts;
  std::vector<int> reach{0}, reached;  // per adjustable conductance: columns made anew when it changes

  /// `node_of`: number of the unknown node at each position, -1 for none.
  WrittenFactors(const Conductances& conductances, const std::vector<int>& node_of, int unknowns);

 private:
  void find_pattern(const std::vector<std::vector<int>>& lower);
  void find_reaches(const std::vector<std::vector<Entry>>& entering_column, std::size_t numbers);
  void factor(const Conductances& conductances);

  std::vector<int> parent_;
  std::vector<bool> changes_;
};

}  // namespace zavrek::emt::internal
