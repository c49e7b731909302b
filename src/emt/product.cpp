#include "emt/product.hpp"

#include <array>
#include <utility>

namespace zavrek::emt::internal {
namespace {

using Function = void (*)(const double*, std::size_t, const double*, const double*, int, double*) noexcept;

/// The number of groups of lanes is known to the compiler, which keeps the sums in registers.
template <int Groups>
void product(const double* matrix, std::size_t stride, const double* constant, const double* x, int columns,
             double* out) noexcept {
  Lanes sum[Groups];
  for (int g = 0; g < Groups; ++g) sum[g] = load(constant + g * lanes);
  for (int c = 0; c < columns; ++c, matrix += stride) {
    for (int g = 0; g < Groups; ++g) sum[g] += load(matrix + g * lanes) * x[c];
  }
  for (int g = 0; g < Groups; ++g) store(out + g * lanes, sum[g]);
}

/// Functions for 1, 2, ... groups.
template <int... Groups>
constexpr std::array<Function, sizeof...(Groups)> narrow(std::integer_sequence<int, Groups...>) {
  return {product<Groups + 1>...};
}
constexpr int most_groups = 10;  // sums that registers hold beside what they are made of
constexpr auto products = narrow(std::make_integer_sequence<int, most_groups>{});

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

void Rows::multiply(const Numbers& matrix, const Numbers& constant, const double* x, int columns,
                    double* out) const noexcept {
  for (const Piece& piece : pieces_)
    piece.product(matrix.data() + piece.from, static_cast<std::size_t>(stride_), constant.data() + piece.from,
                  x, columns, out + piece.from);
}

}  // namespace zavrek::emt::internal
