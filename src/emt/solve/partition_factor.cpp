// Factoring of a partition, and again of the columns that a change reaches.
#include <algorithm>

#include "emt/solve/partition.hpp"

namespace zavrek::emt::internal {
namespace {

/// A pivot this far below the diagonal it came from is a loss of all digits: the matrix is singular.
constexpr double least_pivot = 1e-15;

/// Factors a symmetric 3 x 3 block as l d l^T with a unit lower triangle and writes what solving by it takes.
/// `before`: its diagonal before any elimination. Returns the lane whose pivot vanishes, or -1.
int factor_block(const double* block, const double* before, double* solving) noexcept {
  const auto at = [&](int row, int column) { return block[column * lanes + row]; };
  const double d0 = at(0, 0), r0 = 1 / d0;
  const double l10 = at(1, 0) * r0, l20 = at(2, 0) * r0;
  const double d1 = at(1, 1) - l10 * at(1, 0), r1 = 1 / d1;
  const double c21 = at(2, 1) - l20 * at(1, 0), l21 = c21 * r1;
  const double d2 = at(2, 2) - l20 * at(2, 0) - l21 * c21;
  const double m20 = l10 * l21 - l20;  // of the inverse of l
  const double numbers[solving_numbers] = {
      0,    -l10, m20,    0, 0,   0,    -l21, 0,  // forward: lanes 0 and 1
      -l10, 0,    0,      0, m20, -l21, 0,    0,  // backward: lanes 1 and 2
      r0,   r1,   1 / d2, 0};
  std::copy(numbers, numbers + solving_numbers, solving);
  if (!(d0 > least_pivot * before[0])) return 0;
  if (!(d1 > least_pivot * before[1])) return 1;
  return d2 > least_pivot * before[2] ? -1 : 2;
}

/// c -= a b, blocks.
void subtract_product(const double* a, const double* b, double* c) noexcept {
  for (int column = 0; column < 3; ++column)
    store(c + column * lanes, load(c + column * lanes) - times(a, b + column * lanes));
}

/// c = a D^-1 = a l^-T d^-1 l^-1, blocks.
void divide(const double* a, const double* solving, double* c) noexcept {
  const double minus_l10 = solving[1], m20 = solving[2], minus_l21 = solving[lanes + 2];
  const double* reciprocal = solving + 4 * lanes;
  const Lanes a0 = load(a), a1 = load(a + lanes), a2 = load(a + 2 * lanes);
  const Lanes c0 = reciprocal[0] * a0, c1 = reciprocal[1] * (a1 + minus_l10 * a0);
  const Lanes c2 = reciprocal[2] * (a2 + m20 * a0 + minus_l21 * a1);
  store(c, c0 + minus_l10 * c1 + m20 * c2);
  store(c + lanes, c1 + minus_l21 * c2);
  store(c + 2 * lanes, c2);
}

void transpose(const double* a, double* b) noexcept {
  for (int column = 0; column < 3; ++column) {
    const Lanes row{a[column], a[lanes + column], a[2 * lanes + column], 0};
    store(b + column * lanes, row);
  }
}

}  // namespace

int Partition::factor(const double* adjustable) {
  const auto comes_before = [](const Contribution& a, const Contribution& b) { return a.column < b.column; };
  std::stable_sort(contributions_.begin(), contributions_.end(), comes_before);
  contributions_start_.clear();
  for (int j = 0; j <= groups_; ++j) {
    const auto at = std::lower_bound(contributions_.begin(), contributions_.end(),
                                     Contribution{j, 0, 0, 0, 0}, comes_before);
    contributions_start_.push_back(static_cast<int>(at - contributions_.begin()));
  }
  first_stale_ = groups_;
  marked_ = false;
  std::fill(stale_.begin(), stale_.end(), char{0});
  find_sequences();
  sort_left(changing_columns());
  before_.assign(static_cast<std::size_t>(groups_) * lanes, 0.0);
  for (int j = 0; j < groups_; ++j) {
    settle_standing(j);
    if (const int lane = make_column(j, adjustable); lane >= 0) return j * lanes + lane;
  }
  return -1;
}

/// Which columns the adjustable conductances reach: where they enter, and on the way to the root.
std::vector<bool> Partition::changing_columns() const {
  std::vector<bool> changing(static_cast<std::size_t>(groups_), false);
  for (const Contribution& c : contributions_) changing[static_cast<std::size_t>(c.column)] = true;
  for (std::size_t j = 0; j < changing.size(); ++j) {
    if (changing[j] && column_[j] < column_[j + 1])
      changing[static_cast<std::size_t>(row_[static_cast<std::size_t>(column_[j])] / lanes)] = true;
  }
  return changing;
}

void Partition::sort_left(const std::vector<bool>& changing) {
  left_changing_.clear();
  for (std::size_t j = 0; j < changing.size(); ++j) {
    const auto middle = std::stable_partition(
        left_.begin() + left_start_[j], left_.begin() + left_start_[j + 1],
        [&](const Left& left) { return !changing[static_cast<std::size_t>(left.column)]; });
    left_changing_.push_back(static_cast<int>(middle - left_.begin()));
  }
}

void Partition::find_places(int j) noexcept {
  const int start = column_[static_cast<std::size_t>(j)];
  place_[static_cast<std::size_t>(j)] = 0;
  for (int e = start; e < column_[static_cast<std::size_t>(j) + 1]; ++e)
    place_[static_cast<std::size_t>(row_[static_cast<std::size_t>(e)] / lanes)] = e - start + 1;
}

/// Takes from the column what the blocks of L left of it take: entries `from` to `to` of left_.
void Partition::subtract_left(int from, int to, double* diagonal, double* blocks) const noexcept {
  for (int k = from; k < to; ++k) {
    const auto [first, column] = left_[static_cast<std::size_t>(k)];
    const double* scaled = &scaled_[static_cast<std::size_t>(first) * block_numbers];
    for (int e = first; e < column_[static_cast<std::size_t>(column) + 1]; ++e) {
      const int place = place_[static_cast<std::size_t>(row_[static_cast<std::size_t>(e)] / lanes)];
      subtract_product(&below_[static_cast<std::size_t>(e) * block_numbers], scaled,
                       place == 0 ? diagonal : blocks + (place - 1) * block_numbers);
    }
  }
}

/// Once: with the columns left of it that never change.
void Partition::settle_standing(int j) noexcept {
  double* diagonal = &given_diagonal_[static_cast<std::size_t>(j) * block_numbers];
  for (int lane = 0; lane < 3; ++lane)
    before_[static_cast<std::size_t>(j * lanes + lane)] = diagonal[lane * (lanes + 1)];
  find_places(j);
  subtract_left(left_start_[static_cast<std::size_t>(j)], left_changing_[static_cast<std::size_t>(j)],
                diagonal, given_.data() + column_[static_cast<std::size_t>(j)] * block_numbers);
}

void Partition::find_sequences() {
  std::vector<char> in_condensed(static_cast<std::size_t>(groups_), 0);
  for (std::size_t k = 0; k < holds_node_.size(); ++k) {
    if (!holds_node_[k] && k % lanes < 3) in_condensed[k / lanes] = 1;
  }
  for (const Contribution& c : contributions_) in_condensed[static_cast<std::size_t>(c.column)] = 1;
  sequences_.build({column_, row_, given_, given_diagonal_}, in_condensed);
  by_phase_.clear();
  for (int j = 0; j < groups_; ++j) {
    if (sequences_.holds(j)) continue;
    const int start = column_[static_cast<std::size_t>(j)];
    by_phase_.push_back({j * lanes, j * solving_numbers, start, column_[static_cast<std::size_t>(j) + 1],
                         start * block_numbers});
  }
}

/// Conductances keep the matrix positive definite: what was not singular at the start never is.
void Partition::refactor(const double* adjustable) noexcept {
  marked_ = false;
  for (int j = first_stale_; j < groups_; ++j) {
    if (!stale_[static_cast<std::size_t>(j)]) continue;
    stale_[static_cast<std::size_t>(j)] = 0;
    (void)make_column(j, adjustable);
    const int start = column_[static_cast<std::size_t>(j)];
    if (start < column_[static_cast<std::size_t>(j) + 1])
      stale_[static_cast<std::size_t>(row_[static_cast<std::size_t>(start)] / lanes)] = 1;
  }
  first_stale_ = groups_;
}

/// Column j of L and D from the columns left of it. Returns the singular lane, or -1.
int Partition::make_column(int j, const double* adjustable) noexcept {
  const int start = column_[static_cast<std::size_t>(j)];
  const int count = column_[static_cast<std::size_t>(j) + 1] - start;
  double* work = work_.data();
  double* diagonal = work;
  std::copy_n(&given_diagonal_[static_cast<std::size_t>(j) * block_numbers], block_numbers, diagonal);
  std::copy_n(given_.data() + static_cast<std::size_t>(start) * block_numbers, count * block_numbers,
              work + block_numbers);
  for (int k = contributions_start_[static_cast<std::size_t>(j)];
       k < contributions_start_[static_cast<std::size_t>(j) + 1]; ++k) {
    const Contribution& c = contributions_[static_cast<std::size_t>(k)];
    work[c.entry * block_numbers + c.at] += c.sign * adjustable[c.number];
  }
  double before[3];
  for (int lane = 0; lane < 3; ++lane) {
    const int at = lane * (lanes + 1);
    before[lane] = before_[static_cast<std::size_t>(j * lanes + lane)] + diagonal[at] -
                   given_diagonal_[static_cast<std::size_t>(j * block_numbers + at)];
  }
  find_places(j);
  subtract_left(left_changing_[static_cast<std::size_t>(j)], left_start_[static_cast<std::size_t>(j) + 1],
                diagonal, work + block_numbers);
  double* solving = &solving_[static_cast<std::size_t>(j) * solving_numbers];
  const int singular = factor_block(diagonal, before, solving);
  for (int e = 0; e < count; ++e) {
    const auto at = static_cast<std::size_t>(start + e) * block_numbers;
    const double* block = work + (e + 1) * block_numbers;
    transpose(block, &scaled_[at]);
    divide(block, solving, &below_[at]);
    transpose(&below_[at], &above_[at]);
  }
  return singular;
}

}  // namespace zavrek::emt::internal
