#include "emt/partition.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::emt::internal {
namespace {

/// A pivot this far below the diagonal it came from is a loss of all digits: the matrix is singular.
constexpr double least_pivot = 1e-15;

/// Elimination tree and sparse triangular solves row by row (up-looking L D L^T; Davis, "Direct Methods
/// for Sparse Linear Systems", SIAM 2006, chapter 4), for the columns below `leading` only.
struct UpLooking {
  const Eigen::SparseMatrix<double>& matrix;
  int leading;
  std::vector<int> parent, mark;
  std::vector<std::vector<int>> rows{};  // per column: rows of L
  std::vector<std::vector<double>> values{};
  std::vector<double> d{};

  UpLooking(const Eigen::SparseMatrix<double>& m, int lead)
      : matrix(m),
        leading(lead),
        parent(static_cast<std::size_t>(m.rows()), -1),
        mark(static_cast<std::size_t>(m.rows()), -1),
        rows(static_cast<std::size_t>(lead)),
        values(static_cast<std::size_t>(lead)),
        d(static_cast<std::size_t>(m.rows()), 0.0) {}

  int run() {
    const int n = static_cast<int>(matrix.rows());
    std::vector<double> y(static_cast<std::size_t>(n), 0.0);
    std::vector<int> pattern;
    for (int k = 0; k < n; ++k) {
      pattern.clear();
      mark[static_cast<std::size_t>(k)] = k;
      double diagonal = 0;
      for (Eigen::SparseMatrix<double>::InnerIterator entry(matrix, k); entry; ++entry) {
        const int row = static_cast<int>(entry.row());
        if (row == k) diagonal = entry.value();
        if (row >= k || row >= leading) continue;
        y[static_cast<std::size_t>(row)] = entry.value();
        climb(row, k, pattern);
      }
      std::sort(pattern.begin(), pattern.end());
      double pivot = diagonal;
      for (const int j : pattern) {
        const auto c = static_cast<std::size_t>(j);
        const double yj = y[c];
        y[c] = 0;
        for (std::size_t e = 0; e < rows[c].size(); ++e) {
          const int row = rows[c][e];
          // Only columns of this row's pattern are below `leading`; others stay untouched.
          if (row < k && row < leading) y[static_cast<std::size_t>(row)] -= values[c][e] * yj;
        }
        const double l = yj / d[c];
        pivot -= l * yj;
        rows[c].push_back(k);
        values[c].push_back(l);
      }
      d[static_cast<std::size_t>(k)] = pivot;
      if (k < leading && !(pivot > least_pivot * diagonal)) return k;
    }
    return -1;
  }

  void climb(int row, int k, std::vector<int>& pattern) {
    for (int j = row; j < leading && mark[static_cast<std::size_t>(j)] != k;
         j = parent[static_cast<std::size_t>(j)]) {
      if (parent[static_cast<std::size_t>(j)] < 0) parent[static_cast<std::size_t>(j)] = k;
      pattern.push_back(j);
      mark[static_cast<std::size_t>(j)] = k;
    }
  }
};

}  // namespace

int Partition::build(const Eigen::SparseMatrix<double>& matrix, int leading, int first) {
  first_ = first;
  size_ = static_cast<int>(matrix.rows());
  leading_ = leading;
  UpLooking factor(matrix, leading);
  if (const int bad = factor.run(); bad >= 0) return bad;

  column_.assign(1, 0);
  inverse_.assign(static_cast<std::size_t>(size_), 0.0);
  for (std::size_t j = 0; j < static_cast<std::size_t>(leading); ++j) {
    row_.insert(row_.end(), factor.rows[j].begin(), factor.rows[j].end());
    value_.insert(value_.end(), factor.values[j].begin(), factor.values[j].end());
    column_.push_back(static_cast<int>(row_.size()));
    inverse_[j] = 1 / factor.d[j];
  }

  const auto m = static_cast<std::size_t>(trailing());
  schur_.assign(m * m, 0.0);
  for (int k = leading; k < size_; ++k) {
    for (Eigen::SparseMatrix<double>::InnerIterator entry(matrix, k); entry; ++entry) {
      if (entry.row() < leading) continue;
      schur_[static_cast<std::size_t>(entry.row() - leading) * m + static_cast<std::size_t>(k - leading)] =
          entry.value();
    }
  }
  for (std::size_t j = 0; j < static_cast<std::size_t>(leading); ++j) {
    for (std::size_t a = 0; a < factor.rows[j].size(); ++a) {
      if (factor.rows[j][a] < leading) continue;
      for (std::size_t b = 0; b < factor.rows[j].size(); ++b) {
        if (factor.rows[j][b] < leading) continue;
        const auto ra = static_cast<std::size_t>(factor.rows[j][a] - leading);
        const auto rb = static_cast<std::size_t>(factor.rows[j][b] - leading);
        schur_[ra * m + rb] -= factor.values[j][a] * factor.d[j] * factor.values[j][b];
      }
    }
  }
  lower_.assign(m * m, 0.0);
  upper_.assign(m * m, 0.0);
  return -1;
}

int Partition::add_pole(int p, int q, double siemens) {
  poles_.push_back({p, q, siemens});
  return static_cast<int>(poles_.size()) - 1;
}

int Partition::refactor() noexcept {
  const auto m = static_cast<std::size_t>(trailing());
  double* u = upper_.data();  // becomes D L^T row by row; every inner loop runs along a row
  std::copy(schur_.begin(), schur_.end(), upper_.begin());
  for (const Pole& pole : poles_) {
    const auto p = static_cast<std::size_t>(pole.p - leading_);
    const auto q = static_cast<std::size_t>(pole.q - leading_);
    if (pole.p >= 0) u[p * m + p] += pole.siemens;
    if (pole.q >= 0) u[q * m + q] += pole.siemens;
    if (pole.p >= 0 && pole.q >= 0) {
      u[p * m + q] -= pole.siemens;
      u[q * m + p] -= pole.siemens;
    }
  }
  int singular = -1;
  for (std::size_t j = 0; j < m; ++j) {
    const double* row = &u[j * m];
    const double before = schur_[j * m + j];
    if (!(row[j] > least_pivot * before) && singular < 0) singular = leading_ + static_cast<int>(j);
    const double inverse = 1 / row[j];
    inverse_[static_cast<std::size_t>(leading_) + j] = inverse;
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

void Partition::solve(double* values) const noexcept {
  double* b = values + first_;
  const int m = trailing();
  double* tail = b + leading_;
  for (int j = 0; j < leading_; ++j) {
    const double bj = b[j];
    for (int e = column_[static_cast<std::size_t>(j)]; e < column_[static_cast<std::size_t>(j) + 1]; ++e) {
      b[row_[static_cast<std::size_t>(e)]] -= value_[static_cast<std::size_t>(e)] * bj;
    }
  }
  // Both sweeps of the dense block subtract multiples of rows: sums along rows would not vectorise.
  for (int j = 0; j + 1 < m; ++j) {
    const double* row = &upper_[static_cast<std::size_t>(j * m)];
    const double value = tail[j];
    for (int i = j + 1; i < m; ++i) tail[i] -= row[i] * value;
  }
  for (int k = 0; k < size_; ++k) b[k] *= inverse_[static_cast<std::size_t>(k)];
  for (int i = m - 1; i > 0; --i) {
    const double* row = &lower_[static_cast<std::size_t>(i * m)];
    const double value = tail[i];
    for (int k = 0; k < i; ++k) tail[k] -= row[k] * value;
  }
  for (int j = leading_ - 1; j >= 0; --j) {
    double sum = b[j];
    for (int e = column_[static_cast<std::size_t>(j)]; e < column_[static_cast<std::size_t>(j) + 1]; ++e) {
      sum -= value_[static_cast<std::size_t>(e)] * b[row_[static_cast<std::size_t>(e)]];
    }
    b[j] = sum;
  }
}

}  // namespace zavrek::emt::internal
