#include "trial/recalculation/phasor_fit.hpp"

#include <cmath>
#include <numbers>
#include <utility>

namespace zavrek::trial::internal {
namespace {

constexpr std::size_t terms_of_fit = 8;
using Row = std::array<double, terms_of_fit>;

Row basis(double share_of_cycle) {
  const double angle = 2 * std::numbers::pi * share_of_cycle;
  return {1,
          share_of_cycle - 0.5,
          std::cos(angle),
          std::sin(angle),
          std::cos(2 * angle),
          std::sin(2 * angle),
          std::cos(5 * angle),
          std::sin(5 * angle)};
}

/// Inverse of a symmetric positive definite matrix, by elimination.
std::array<Row, terms_of_fit> inverse(std::array<Row, terms_of_fit> a) {
  std::array<Row, terms_of_fit> inverse{};
  for (std::size_t k = 0; k < terms_of_fit; ++k) inverse[k][k] = 1;
  for (std::size_t k = 0; k < terms_of_fit; ++k) {
    const double pivot = a[k][k];
    for (std::size_t c = 0; c < terms_of_fit; ++c) {
      a[k][c] /= pivot;
      inverse[k][c] /= pivot;
    }
    for (std::size_t r = 0; r < terms_of_fit; ++r) {
      if (r == k) continue;
      const double factor = a[r][k];
      for (std::size_t c = 0; c < terms_of_fit; ++c) {
        a[r][c] -= factor * a[k][c];
        inverse[r][c] -= factor * inverse[k][c];
      }
    }
  }
  return inverse;
}

}  // namespace

PhasorFit::PhasorFit(std::size_t samples_per_cycle)
    : count_(samples_per_cycle), weights_(terms * samples_per_cycle) {
  std::vector<Row> rows;
  std::array<Row, terms> normal{};
  for (std::size_t n = 0; n < count_; ++n) {
    const Row& row = rows.emplace_back(basis(static_cast<double>(n) / static_cast<double>(count_)));
    for (std::size_t r = 0; r < terms; ++r) {
      for (std::size_t c = 0; c < terms; ++c) normal[r][c] += row[r] * row[c];
    }
  }
  const std::array<Row, terms> solved = inverse(normal);
  for (std::size_t r = 0; r < terms; ++r) {
    for (std::size_t n = 0; n < count_; ++n) {
      double sum = 0;
      for (std::size_t c = 0; c < terms; ++c) sum += solved[r][c] * rows[n][c];
      weights_[r * count_ + n] = sum;
    }
  }
}

PhasorFit::Found PhasorFit::fit(const double* samples) const {
  const auto part = [&](std::size_t term) {
    const double* weights = &weights_[term * count_];
    double sum = 0;
    for (std::size_t n = 0; n < count_; ++n) sum += weights[n] * samples[n];
    return sum / std::numbers::sqrt2;
  };
  // A cos(x) + B sin(x) is the real part of (A - jB) exp(jx).
  const auto phasor = [&](std::size_t term) { return Complex(part(term), -part(term + 1)); };
  return {phasor(2), phasor(4), phasor(6)};
}

}  // namespace zavrek::trial::internal
