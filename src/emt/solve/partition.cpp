#include "emt/solve/partition.hpp"

#include <algorithm>
#include <set>

namespace zavrek::emt::internal {
namespace {

/// D^-1 b
[[nodiscard]] Lanes divided(const double* solving, Lanes b) noexcept {
  b += load(solving) * b[0] + load(solving + lanes) * b[1];
  b *= load(solving + 4 * lanes);
  return b + load(solving + 2 * lanes) * b[1] + load(solving + 3 * lanes) * b[2];
}

/// Rows of L by columns, from the lower triangle in groups (Davis, "Direct Methods for Sparse Linear
/// Systems", SIAM 2006, chapter 4).
std::vector<std::set<int>> pattern_of_factor(const Eigen::SparseMatrix<double>& matrix) {
  std::vector<std::set<int>> below(static_cast<std::size_t>(matrix.rows() / lanes));
  for (int c = 0; c < matrix.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator entry(matrix, c); entry; ++entry) {
      const int row = static_cast<int>(entry.row()) / lanes;
      if (row > c / lanes) below[static_cast<std::size_t>(c / lanes)].insert(row);
    }
  }
  for (const std::set<int>& column : below) {
    if (column.empty()) continue;
    auto& parent = below[static_cast<std::size_t>(*column.begin())];
    parent.insert(std::next(column.begin()), column.end());
  }
  return below;
}

}  // namespace

void Partition::build(const Eigen::SparseMatrix<double>& matrix, const std::vector<bool>& holds_node,
                      int first) {
  first_ = first;
  matrix_ = matrix;
  holds_node_ = holds_node;
  nodes_ = static_cast<int>(std::count(holds_node.begin(), holds_node.end(), true));
  const std::vector<std::set<int>> below = pattern_of_factor(matrix);
  const std::size_t n = below.size();
  groups_ = static_cast<int>(n);

  column_.assign(1, 0);
  std::vector<std::vector<Left>> left(n);
  for (std::size_t k = 0; k < n; ++k) {
    for (const int row : below[k]) {
      left[static_cast<std::size_t>(row)].push_back({static_cast<int>(row_.size()), static_cast<int>(k)});
      row_.push_back(row * lanes);
    }
    column_.push_back(static_cast<int>(row_.size()));
  }
  left_start_.assign(1, 0);
  for (const auto& row : left) {
    left_.insert(left_.end(), row.begin(), row.end());
    left_start_.push_back(static_cast<int>(left_.size()));
  }
  for (Numbers* blocks : {&below_, &above_, &scaled_, &given_})
    blocks->assign(row_.size() * block_numbers, 0.0);
  solving_.assign(n * solving_numbers, 0.0);
  given_diagonal_.assign(n * block_numbers, 0.0);

  for (std::size_t k = 0; k < holds_node.size(); ++k) {
    if (!holds_node[k] && k % lanes < 3)
      given_diagonal_[k / lanes * block_numbers + k % lanes * (lanes + 1)] = 1;
  }
  for (int c = 0; c < matrix.outerSize(); ++c) {
    for (Eigen::SparseMatrix<double>::InnerIterator entry(matrix, c); entry; ++entry) {
      const int r = static_cast<int>(entry.row());
      if (r / lanes < c / lanes) continue;
      const auto at = static_cast<std::size_t>(c % lanes * lanes + r % lanes);
      const auto column = static_cast<std::size_t>(c / lanes);
      if (r / lanes == c / lanes) {
        given_diagonal_[column * block_numbers + at] = entry.value();
      } else {
        const auto found =
            std::find(row_.begin() + column_[column], row_.begin() + column_[column + 1], r / lanes * lanes);
        given_[static_cast<std::size_t>(found - row_.begin()) * block_numbers + at] = entry.value();
      }
    }
  }
  place_.assign(n, 0);
  stale_.assign(n, 0);
  std::size_t longest = 0;
  for (const auto& column : below) longest = std::max(longest, column.size());
  work_.assign((longest + 1) * block_numbers, 0.0);
}

int Partition::add_adjustable(int row, int column, int number, double sign) {
  adjustables_.push_back({row, column, number, sign});
  const int r = row / lanes, c = column / lanes;
  if (r < c) return r;  // of a pair of symmetric places, the one below the diagonal counts
  Contribution contribution{c, 0, column % lanes * lanes + row % lanes, number, sign};
  if (r != c) {
    const auto begin = row_.begin() + column_[static_cast<std::size_t>(c)];
    const auto end = row_.begin() + column_[static_cast<std::size_t>(c) + 1];
    contribution.entry = 1 + static_cast<int>(std::find(begin, end, r * lanes) - begin);
  }
  contributions_.push_back(contribution);
  return c;
}

int Partition::entries() const {
  int phases = 0;
  for (const PhaseColumn& c : by_phase_) phases += 2 * (c.end - c.first) * block_numbers + solving_numbers;
  return phases + static_cast<int>(sequences_.entries());
}

std::vector<int> Partition::numbers() const {
  std::set<int> numbers;
  for (const Contribution& c : contributions_) numbers.insert(c.number);
  return {numbers.begin(), numbers.end()};
}

void Partition::solve(double* right, double* values) const noexcept {
  right += first_;
  values += first_;
  if (sequences_.empty()) return solve_phases(right, values);
  sequences_.forward(right, values);
  solve_phases(right, values);
  sequences_.backward(values);
}

/// Solves for the columns of phases.
void Partition::solve_phases(double* right, double* b) const noexcept {
  const int* row = row_.data();
  const double *below = below_.data(), *above = above_.data(), *all_solving = solving_.data();
  const PhaseColumn* begin = by_phase_.data();
  const PhaseColumn* end = begin + by_phase_.size();
  for (const PhaseColumn* c = begin; c != end; ++c) {
    const Lanes x = load(right + c->own);
    store(right + c->own, Lanes{});
    const double* block = below + c->blocks;
    for (int e = c->first; e < c->end; ++e, block += block_numbers)
      store(right + row[e], load(right + row[e]) - times(block, x));
    store(b + c->own, divided(all_solving + c->solving, x));
  }
  while (end != begin) {
    const PhaseColumn* c = --end;
    double* own = b + c->own;
    // Columns of L as rows would save the copy, but sums across lanes took longer (a third, 100 buses).
    Lanes x = load(own);
    const double* block = above + c->blocks;
    for (int e = c->first; e < c->end; ++e, block += block_numbers) x -= times(block, load(b + row[e]));
    store(own, x);
  }
}

int Partition::adjustable_nodes() const {
  const std::vector<bool> changing = changing_columns();
  int nodes = 0;
  for (int j = 0; j < groups_; ++j) {
    if (!changing[static_cast<std::size_t>(j)]) continue;
    for (int lane = 0; lane < lanes; ++lane)
      nodes += holds_node_[static_cast<std::size_t>(j * lanes + lane)] ? 1 : 0;
  }
  return nodes;
}

}  // namespace zavrek::emt::internal
