#include "emt/solve/sequence_columns.hpp"

#include <algorithm>
#include <cmath>
#include <optional>

namespace zavrek::emt::internal {
namespace {

/// Phases to components: the mean in lane 3, what differs from it in the others.
[[nodiscard]] Lanes components(const double* x) noexcept {
  constexpr double third = 1.0 / 3;
  const Lanes sum = all_lanes(x[0]) + all_lanes(x[1]) + all_lanes(x[2]);
  return load(x) + sum * Lanes{-third, -third, -third, third};
}
/// And back.
[[nodiscard]] Lanes phases(const double* x) noexcept {
  Lanes of_phases = load(x) + all_lanes(x[3]);
  of_phases[3] = 0;
  return of_phases;
}

/// The two numbers of a balanced block in their lanes; none when it is another. Rounding does not count.
std::optional<Lanes> sequences(const double* block) {
  double own = 0, mutual = 0, largest = 0;
  for (int c = 0; c < 3; ++c) {
    for (int r = 0; r < 3; ++r) {
      (r == c ? own : mutual) += block[c * lanes + r];
      largest = std::max(largest, std::abs(block[c * lanes + r]));
    }
  }
  own /= 3;
  mutual /= 6;
  for (int c = 0; c < 3; ++c) {
    for (int r = 0; r < 3; ++r) {
      if (std::abs(block[c * lanes + r] - (r == c ? own : mutual)) > 1e-14 * largest) return std::nullopt;
    }
  }
  const double y1 = own - mutual, y0 = own + 2 * mutual;
  return Lanes{y1, y1, y1, y0};
}

}  // namespace

void SequenceColumns::build(const Pattern& pattern, const std::vector<char>& in_condensed) {
  Numbers diagonal(pattern.diagonal.size() / block_numbers * lanes, 0.0);
  Numbers below(pattern.row.size() * lanes, 0.0);
  find_balanced(pattern, in_condensed, diagonal, below);
  find_border(pattern);
  // A group at the border goes over and back twice. The quay of demo/veskar has two balanced columns of 15,
  // with one such group: its step took longer with them than without.
  const auto columns = static_cast<std::size_t>(std::count(balanced_.begin(), balanced_.end(), 1));
  if (columns < 4 + 2 * border_.size()) {
    std::fill(balanced_.begin(), balanced_.end(), char{0});
    border_.clear();
  }
  eliminate(pattern, diagonal, below);
}

/// And their blocks in components.
void SequenceColumns::find_balanced(const Pattern& pattern, const std::vector<char>& in_condensed,
                                    Numbers& diagonal, Numbers& below) {
  const auto take = [](const Numbers& blocks, std::size_t k, Numbers& into) {
    const std::optional<Lanes> found = sequences(&blocks[k * block_numbers]);
    if (found) store(&into[k * lanes], *found);
    return found.has_value();
  };
  balanced_.assign(in_condensed.size(), 1);
  for (std::size_t j = 0; j < in_condensed.size(); ++j) {
    bool all = balanced_[j] != 0 && in_condensed[j] == 0 && take(pattern.diagonal, j, diagonal);
    for (std::size_t e = pattern.first(j); e < pattern.first(j + 1); ++e)
      all = all && take(pattern.below, e, below);
    if (all) continue;
    balanced_[j] = 0;
    if (pattern.first(j) < pattern.first(j + 1)) balanced_[pattern.group(pattern.first(j))] = 0;
  }
}

void SequenceColumns::find_border(const Pattern& pattern) {
  border_.clear();
  for (std::size_t j = 0; j < balanced_.size(); ++j) {
    for (std::size_t e = pattern.first(j); e < pattern.first(j + 1) && balanced_[j] != 0; ++e) {
      if (balanced_[pattern.group(e)] == 0) border_.push_back(pattern.row[e]);
    }
  }
  std::sort(border_.begin(), border_.end());
  border_.erase(std::unique(border_.begin(), border_.end()), border_.end());
}

/// Makes D^-1 and L of the balanced columns from the matrix in components, to the right of each column.
void SequenceColumns::eliminate(const Pattern& pattern, Numbers& diagonal, Numbers& below) {
  place_.clear();
  start_.assign(1, 0);
  row_.clear();
  divided_.clear();
  below_.clear();
  const auto append = [](Numbers& to, Lanes x) { to.insert(to.end(), {x[0], x[1], x[2], x[3]}); };
  const auto subtract = [](Numbers& from, std::size_t k, Lanes x) {
    store(&from[k * lanes], load(&from[k * lanes]) - x);
  };
  for (std::size_t j = 0; j < balanced_.size(); ++j) {
    if (balanced_[j] == 0) continue;
    const Lanes divided = all_lanes(1) / load(&diagonal[j * lanes]);
    place_.push_back(static_cast<int>(j) * lanes);
    append(divided_, divided);
    for (std::size_t e = pattern.first(j); e < pattern.first(j + 1); ++e) {
      const Lanes of_row = load(&below[e * lanes]) * divided;
      row_.push_back(pattern.row[e]);
      append(below_, of_row);
      const std::size_t column = pattern.group(e);
      if (balanced_[column] == 0) continue;
      subtract(diagonal, column, of_row * load(&below[e * lanes]));
      std::size_t at = pattern.first(column);
      for (std::size_t other = e + 1; other < pattern.first(j + 1); ++other) {
        while (pattern.row[at] != pattern.row[other]) ++at;
        subtract(below, at, of_row * load(&below[other * lanes]));
      }
    }
    start_.push_back(static_cast<int>(row_.size()));
  }
}

void SequenceColumns::forward(double* right, double* b) const noexcept {
  const auto take = [&](int place) {
    const Lanes x = components(right + place);
    store(right + place, Lanes{});
    store(b + place, x);
  };
  for (const int place : place_) take(place);
  for (const int place : border_) take(place);
  const int* start = start_.data();
  const int* row = row_.data();
  const double* below = below_.data();
  for (std::size_t j = 0; j < place_.size(); ++j) {
    const Lanes x = load(b + place_[j]);
    for (int e = start[j]; e < start[j + 1]; ++e)
      store(b + row[e], load(b + row[e]) - load(below + e * lanes) * x);
  }
  for (const int place : border_) store(right + place, phases(b + place));
}

void SequenceColumns::backward(double* b) const noexcept {
  for (const int place : border_) store(b + place, components(b + place));
  const int* start = start_.data();
  const int* row = row_.data();
  const double* below = below_.data();
  for (std::size_t j = place_.size(); j-- > 0;) {
    double* own = b + place_[j];
    Lanes x = load(&divided_[j * lanes]) * load(own);
    for (int e = start[j]; e < start[j + 1]; ++e) x -= load(below + e * lanes) * load(b + row[e]);
    store(own, x);
  }
  for (const int place : place_) store(b + place, phases(b + place));
  for (const int place : border_) store(b + place, phases(b + place));
}

}  // namespace zavrek::emt::internal
