// Dense products on the step path: a matrix kept by columns, each filled up to whole lanes, times a vector.
// The sums of some rows stay in registers while all columns pass. (Vectors of eight, where the processor has
// them, gain nothing measurable: the matrices come from the second-level cache.)
#pragma once

#include <cstddef>
#include <vector>

#include "emt/solve/lanes.hpp"

namespace zavrek::emt::internal {

/// Whole lanes for so many numbers.
[[nodiscard]] constexpr int filled_up(int count) { return (count + lanes - 1) / lanes * lanes; }

/// As many whole lanes as the numbers take; there is room for them.
inline void copy_lanes(const double* from, int count, double* to) noexcept {
  for (int k = 0; k < count; k += lanes) store(to + k, load(from + k));
}

/// The rows of a matrix, or some of them, and how they are multiplied.
class Rows {
 public:
  /// `numbers` rows (whole lanes) from row `first` on, of a matrix with `stride` rows; 0: those alone.
  void divide(int numbers, int first = 0, int stride = 0);
  /// out = constant + matrix x, `constant` and `out` beginning with row 0 of the matrix.
  void multiply(const double* matrix, const double* constant, const double* x, int columns,
                double* out) const noexcept {
    for (const Piece& piece : pieces_)
      piece.product(matrix + piece.from, static_cast<std::size_t>(stride_), constant + piece.from, x, columns,
                    out + piece.from);
  }
  /// The same for `fours` times four vectors, without a constant: number c of vector v of the four k at
  /// x[4 (k columns + c) + v], its results from out[(4 k + v) count()] on.
  void multiply_fours(const double* matrix, const double* x, int columns, int fours,
                      double* out) const noexcept;
  /// Rows of the matrix.
  [[nodiscard]] int count() const noexcept { return stride_; }

 private:
  using Product = void (*)(const double* matrix, std::size_t stride, const double* constant, const double* x,
                           int columns, double* out) noexcept;
  struct Piece {
    Product product;
    int from;
  };
  int stride_ = 0;
  std::vector<Piece> pieces_;
};

}  // namespace zavrek::emt::internal
