#include "emt/partition.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include <Eigen/Dense>

namespace zavrek::emt::internal {
namespace {

/// A pivot this far below the diagonal it came from is a loss of all digits: the matrix is singular.
constexpr double least_pivot = 1e-15;

using Block = Eigen::Matrix3d;

/// The lower triangle in blocks, eliminated column by column (right-looking; Davis, "Direct Methods for
/// Sparse Linear Systems", SIAM 2006, chapter 4). Lanes without a node have a one on the diagonal.
struct BlockElimination {
  std::vector<Block> diagonal;
  std::vector<std::map<int, Block>> column;  // rows below the diagonal
  std::vector<Eigen::Vector3d> before;       // diagonal entries as given
  int leading;

  BlockElimination(const Eigen::SparseMatrix<double>& matrix, const std::vector<bool>& holds_node, int lead)
      : diagonal(static_cast<std::size_t>(matrix.rows() / lanes), Block::Zero()),
        column(diagonal.size()),
        leading(lead) {
    for (int c = 0; c < matrix.outerSize(); ++c) {
      for (Eigen::SparseMatrix<double>::InnerIterator entry(matrix, c); entry; ++entry) {
        const int r = static_cast<int>(entry.row());
        if (r / lanes < c / lanes) continue;
        block(r / lanes, c / lanes)(r % lanes, c % lanes) = entry.value();
      }
    }
    for (std::size_t k = 0; k < holds_node.size(); ++k) {
      if (!holds_node[k] && k % lanes < 3)
        diagonal[k / lanes](static_cast<int>(k % lanes), static_cast<int>(k % lanes)) = 1;
    }
    for (const Block& d : diagonal) before.emplace_back(d.diagonal());
  }

  Block& block(int row, int col) {
    if (row == col) return diagonal[static_cast<std::size_t>(row)];
    return column[static_cast<std::size_t>(col)].try_emplace(row, Block::Zero()).first->second;
  }

  /// Lane at which the block cannot be inverted, or -1.
  [[nodiscard]] int singular_lane(int group) const {
    const Block& d = diagonal[static_cast<std::size_t>(group)];
    Block rest = d;
    for (int k = 0; k < 3; ++k) {
      if (!(rest(k, k) > least_pivot * before[static_cast<std::size_t>(group)][k])) return k;
      for (int i = k + 1; i < 3; ++i) {
        const double factor = rest(i, k) / rest(k, k);
        for (int j = k; j < 3; ++j) rest(i, j) -= factor * rest(k, j);
      }
    }
    return -1;
  }

  /// Turns the leading columns into those of L and keeps D in `diagonal`.
  int run() {
    for (int j = 0; j < leading; ++j) {
      if (const int lane = singular_lane(j); lane >= 0) return j * lanes + lane;
      auto& rows = column[static_cast<std::size_t>(j)];
      const Block inverse = diagonal[static_cast<std::size_t>(j)].inverse();
      for (auto k = rows.begin(); k != rows.end(); ++k) {
        const Block scaled = inverse * k->second.transpose();
        for (auto i = k; i != rows.end(); ++i) block(i->first, k->first) -= i->second * scaled;
      }
      for (auto& [row, entry] : rows) entry = entry * inverse;
    }
    return -1;
  }
};

}  // namespace

int Partition::build(const Eigen::SparseMatrix<double>& matrix, const std::vector<bool>& holds_node,
                     int leading, int first) {
  first_ = first;
  leading_ = leading;
  nodes_ = static_cast<int>(std::count(holds_node.begin(), holds_node.end(), true));
  BlockElimination elimination(matrix, holds_node, leading);
  if (const int bad = elimination.run(); bad >= 0) return bad;

  column_.assign(1, 0);
  for (std::size_t j = 0; j < static_cast<std::size_t>(leading); ++j) {
    for (const auto& [row, entry] : elimination.column[j]) {
      row_.push_back(row * lanes);
      append_block(entry, below_);
      append_block(entry.transpose().eval(), above_);
    }
    column_.push_back(static_cast<int>(row_.size()));
    append_block(elimination.diagonal[j].inverse().eval(), inverse_);
  }

  for (int k = leading * lanes; k < static_cast<int>(holds_node.size()); ++k) {
    if (holds_node[static_cast<std::size_t>(k)]) tail_.push_back(k);
  }
  const std::size_t m = tail_.size();
  schur_.assign(m * m, 0.0);
  for (std::size_t r = 0; r < m; ++r) {
    for (std::size_t c = 0; c <= r; ++c) {
      const int row = tail_[r], col = tail_[c];
      const auto& below = elimination.column[static_cast<std::size_t>(col / lanes)];
      const auto found = below.find(row / lanes);
      double value = 0;
      if (row / lanes == col / lanes)
        value = elimination.diagonal[static_cast<std::size_t>(row / lanes)](row % lanes, col % lanes);
      if (row / lanes != col / lanes && found != below.end()) value = found->second(row % lanes, col % lanes);
      schur_[r * m + c] = schur_[c * m + r] = value;
    }
  }
  lower_.assign(m * m, 0.0);
  upper_.assign(m * m, 0.0);
  reciprocal_.assign(m, 0.0);
  packed_.assign(m, 0.0);
  return -1;
}

void Partition::add_adjustable(int row, int column, int number, double sign) {
  const auto packed = [&](int local) {
    return static_cast<int>(std::find(tail_.begin(), tail_.end(), local) - tail_.begin());
  };
  contributions_.push_back({packed(row) * trailing() + packed(column), number, sign});
}

int Partition::refactor(const double* adjustable) noexcept {
  const std::size_t m = tail_.size();
  double* u = upper_.data();  // becomes D L^T row by row; every inner loop runs along a row
  std::copy(schur_.begin(), schur_.end(), upper_.begin());
  for (const Contribution& c : contributions_) u[c.at] += c.sign * adjustable[c.number];
  int singular = -1;
  for (std::size_t j = 0; j < m; ++j) {
    const double* row = &u[j * m];
    if (!(row[j] > least_pivot * schur_[j * m + j]) && singular < 0) singular = tail_[j];
    const double inverse = 1 / row[j];
    reciprocal_[j] = inverse;
    for (std::size_t i = j + 1; i < m; ++i) {
      const double l = row[i] * inverse;
      lower_[i * m + j] = l;
      double* target = &u[i * m];
      for (std::size_t k = i; k < m; ++k) target[k] -= l * row[k];
    }
  }
  for (std::size_t j = 0; j < m; ++j) {
    for (std::size_t i = j + 1; i < m; ++i) u[j * m + i] = lower_[i * m + j];
  }
  return singular;
}

void Partition::solve(double* values) noexcept {
  double* b = values + first_;
  const int* column = column_.data();
  const int* row = row_.data();
  const double* block = below_.data();
  const double* inverse = inverse_.data();
  const int leading = leading_;
  for (int j = 0; j < leading; ++j) {
    double* own = b + j * lanes;
    const Lanes x = load(own);
    for (int e = column[j]; e < column[j + 1]; ++e, block += block_numbers) {
      store(b + row[e], load(b + row[e]) - times(block, x));
    }
    store(own, times(inverse + j * block_numbers, x));
  }
  if (!tail_.empty()) solve_trailing(b);
  for (int j = leading - 1; j >= 0; --j) {
    double* own = b + j * lanes;
    Lanes x = load(own);
    for (int e = column[j]; e < column[j + 1]; ++e)
      x -= times(&above_[static_cast<std::size_t>(e) * block_numbers], load(b + row[e]));
    store(own, x);
  }
}

/// Both sweeps subtract multiples of rows: sums along rows would not vectorise.
void Partition::solve_trailing(double* b) noexcept {
  const auto m = static_cast<int>(tail_.size());
  double* tail = packed_.data();
  for (int k = 0; k < m; ++k) tail[k] = b[tail_[static_cast<std::size_t>(k)]];
  for (int j = 0; j + 1 < m; ++j) {
    const double* row = &upper_[static_cast<std::size_t>(j * m)];
    const double value = tail[j];
    for (int i = j + 1; i < m; ++i) tail[i] -= row[i] * value;
  }
  for (int k = 0; k < m; ++k) tail[k] *= reciprocal_[static_cast<std::size_t>(k)];
  for (int i = m - 1; i > 0; --i) {
    const double* row = &lower_[static_cast<std::size_t>(i * m)];
    const double value = tail[i];
    for (int k = 0; k < i; ++k) tail[k] -= row[k] * value;
  }
  for (int k = 0; k < m; ++k) b[tail_[static_cast<std::size_t>(k)]] = tail[k];
}

}  // namespace zavrek::emt::internal
