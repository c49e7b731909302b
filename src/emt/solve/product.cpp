#include "emt/solve/product.hpp"

#include <array>
#include <utility>

namespace zavrek::emt::internal {
namespace {

using Function = void (*)(const double*, std::size_t, const double*, const double*, int, double*) noexcept;

/// The number of groups of lanes is known to the compiler, which keeps the sums in registers. A processor
/// adds to some eight sums while one addition takes its time: where there are fewer, even and odd columns
/// have sums of their own.
template <int Groups>
void product(const double* matrix, std::size_t stride, const double* constant, const double* x, int columns,
             double* out) noexcept {
  constexpr int at_once = Groups <= 5 ? 2 : 1;
  Lanes sum[at_once][Groups] = {};
  for (int g = 0; g < Groups; ++g) sum[0][g] = load(constant + g * lanes);
  int c = 0;
  for (; c + at_once <= columns; c += at_once) {
    for (int k = 0; k < at_once; ++k, matrix += stride) {
      for (int g = 0; g < Groups; ++g) sum[k][g] += load(matrix + g * lanes) * x[c + k];
    }
  }
  if (c < columns) {
    for (int g = 0; g < Groups; ++g) sum[0][g] += load(matrix + g * lanes) * x[c];
  }
  for (int g = 0; g < Groups; ++g) {
    for (int k = 1; k < at_once; ++k) sum[0][g] += sum[k][g];
    store(out + g * lanes, sum[0][g]);
  }
}

/// Twice the lanes, for processors with registers that long.
using Wide = double __attribute__((vector_size(2 * lanes * sizeof(double))));

/// `Pieces` vectors of rows times four vectors.
template <class Vector, int Pieces>
[[gnu::always_inline]] inline void product_of_four(const double* matrix, std::size_t stride, const double* x,
                                                   int columns, double* out) noexcept {
  constexpr std::size_t width = sizeof(Vector) / sizeof(double);
  Vector sum[Pieces][4] = {};
  for (int c = 0; c < columns; ++c, matrix += stride, x += 4) {
    for (std::size_t p = 0; p < Pieces; ++p) {
      Vector column;
      std::memcpy(&column, matrix + p * width, sizeof column);
      for (int v = 0; v < 4; ++v) sum[p][v] += column * x[v];
    }
  }
  for (std::size_t v = 0; v < 4; ++v) {
    for (std::size_t p = 0; p < Pieces; ++p)
      std::memcpy(out + v * stride + p * width, &sum[p][v], sizeof(Vector));
  }
}

/// Some rows meet all vectors before the next, so that the numbers of those rows stay in the first cache.
template <class Vector>
[[gnu::always_inline]] inline void products_of_fours(const double* matrix, std::size_t stride,
                                                     const double* x, int columns, int fours,
                                                     double* out) noexcept {
  constexpr std::size_t one = sizeof(Vector) / sizeof(double), two = 2 * one;
  const auto each = [&]<class Part, int Pieces>(std::size_t row) {
    for (std::ptrdiff_t k = 0; k < fours; ++k)
      product_of_four<Part, Pieces>(matrix + row, stride, x + 4 * k * columns, columns,
                                    out + 4 * k * static_cast<std::ptrdiff_t>(stride) + row);
  };
  std::size_t row = 0;
  for (; row + two <= stride; row += two) each.template operator()<Vector, 2>(row);
  if (row + one <= stride) each.template operator()<Vector, 1>(std::exchange(row, row + one));
  if (row < stride) each.template operator()<Lanes, 1>(row);
}

using Products = void (*)(const double*, std::size_t, const double*, int, int, double*) noexcept;
void products_in_lanes(const double* matrix, std::size_t stride, const double* x, int columns, int fours,
                       double* out) noexcept {
  products_of_fours<Lanes>(matrix, stride, x, columns, fours, out);
}
/// With registers twice as long, the same sums in the same order.
__attribute__((target("avx512f"))) void products_in_wide_lanes(const double* matrix, std::size_t stride,
                                                               const double* x, int columns, int fours,
                                                               double* out) noexcept {
  products_of_fours<Wide>(matrix, stride, x, columns, fours, out);
}
const Products products_of_this_processor =
    __builtin_cpu_supports("avx512f") ? products_in_wide_lanes : products_in_lanes;

/// As `product`, in registers twice as long: two groups in each, the same sums in the same order.
template <int Groups>
__attribute__((target("avx512f"))) void wide_product(const double* matrix, std::size_t stride,
                                                     const double* constant, const double* x, int columns,
                                                     double* out) noexcept {
  constexpr int at_once = Groups <= 5 ? 2 : 1, pairs = Groups / 2;
  constexpr bool odd = Groups % 2 != 0;
  constexpr int last = 2 * pairs * lanes;
  const auto load_wide = [](const double* from) __attribute__((target("avx512f"))) {
    Wide wide;
    std::memcpy(&wide, from, sizeof wide);
    return wide;
  };
  Wide sum[at_once][pairs + 1] = {};
  Lanes rest[at_once] = {};
  for (int p = 0; p < pairs; ++p) sum[0][p] = load_wide(constant + 2 * p * lanes);
  if constexpr (odd) rest[0] = load(constant + last);
  const auto add = [&](int k, double number) __attribute__((target("avx512f"))) {
    for (int p = 0; p < pairs; ++p) sum[k][p] += load_wide(matrix + 2 * p * lanes) * number;
    if constexpr (odd) rest[k] += load(matrix + last) * number;
  };
  int c = 0;
  for (; c + at_once <= columns; c += at_once) {
    for (int k = 0; k < at_once; ++k, matrix += stride) add(k, x[c + k]);
  }
  if (c < columns) add(0, x[c]);
  for (int k = 1; k < at_once; ++k) {
    for (int p = 0; p < pairs; ++p) sum[0][p] += sum[k][p];
    rest[0] += rest[k];
  }
  for (int p = 0; p < pairs; ++p) std::memcpy(out + 2 * p * lanes, &sum[0][p], sizeof(Wide));
  if constexpr (odd) store(out + last, rest[0]);
}

/// Functions for 1, 2, ... groups.
template <int... Groups>
constexpr std::array<Function, sizeof...(Groups)> narrow(std::integer_sequence<int, Groups...>) {
  return {product<Groups + 1>...};
}
template <int... Groups>
constexpr std::array<Function, sizeof...(Groups)> wide(std::integer_sequence<int, Groups...>) {
  return {wide_product<Groups + 1>...};
}
constexpr int most_groups = 10;  // sums that registers hold beside what they are made of
const auto products = __builtin_cpu_supports("avx512f")
                          ? wide(std::make_integer_sequence<int, most_groups>{})
                          : narrow(std::make_integer_sequence<int, most_groups>{});

}  // namespace

/// In pieces of about equal size, each as many sums as fit.
void Rows::divide(int numbers, int first, int stride) {
  stride_ = stride > 0 ? stride : numbers;
  pieces_.clear();
  const int groups = numbers / lanes;
  const int parts = (groups + most_groups - 1) / most_groups;
  for (int k = 0, from = 0; k < parts; ++k) {
    const int until = groups * (k + 1) / parts;
    pieces_.push_back({products[static_cast<std::size_t>(until - from - 1)], first + from * lanes});
    from = until;
  }
}

void Rows::multiply_fours(const double* matrix, const double* x, int columns, int fours,
                          double* out) const noexcept {
  products_of_this_processor(matrix, static_cast<std::size_t>(stride_), x, columns, fours, out);
}

}  // namespace zavrek::emt::internal
