// Four doubles side by side. The three phases of a bus stand in lanes 0 to 2 of one such group, the
// fourth stays zero, so that three-phase blocks are loaded, multiplied and stored whole.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <cstring>
#include <new>
#include <vector>

#include <Eigen/Core>

namespace zavrek::emt::internal {

inline constexpr int lanes = 4;           // doubles in a group
inline constexpr int block_numbers = 12;  // a 3 x 3 block: three columns of four lanes

using Lanes = double __attribute__((vector_size(lanes * sizeof(double))));

/// Vectors of numbers that the step reads in groups of lanes start on a cache line, so that no group lies
/// across two. Each starts at another distance from its page: the processor holds back a load that agrees in
/// its last 12 address bits with a store under way, and arrays that are read and written side by side would
/// otherwise agree in all of them (measured: a step over 100 buses takes up to a third longer).
template <class T>
struct LineAllocator {
  using value_type = T;
  static constexpr std::size_t line = 64;
  static constexpr std::size_t page = 4096;
  LineAllocator() = default;
  template <class U>
  LineAllocator(const LineAllocator<U>&) noexcept {
  }  // NOLINT(google-explicit-constructor): allocators convert
  [[nodiscard]] T* allocate(std::size_t count) {
    static std::atomic<unsigned> allocations{0};
    constexpr std::size_t places = 13;  // times 5 lines stays within a page
    const std::size_t shift = line + 5 * line * (allocations++ % places);
    auto* raw = static_cast<char*>(::operator new (count * sizeof(T) + page + line, std::align_val_t{page}));
    std::memcpy(raw + shift - sizeof raw, &raw, sizeof raw);
    return reinterpret_cast<T*>(raw + shift);
  }
  void deallocate(T* memory, std::size_t) noexcept {
    char* raw = nullptr;
    std::memcpy(&raw, reinterpret_cast<char*>(memory) - sizeof raw, sizeof raw);
    ::operator delete (raw, std::align_val_t{page});
  }
  friend bool operator==(const LineAllocator&, const LineAllocator&) { return true; }
};
using Numbers = std::vector<double, LineAllocator<double>>;

[[nodiscard]] inline Lanes load(const double* at) noexcept {
  Lanes value;
  std::memcpy(&value, at, sizeof value);
  return value;
}
inline void store(double* at, Lanes value) noexcept { std::memcpy(at, &value, sizeof value); }

[[nodiscard]] inline Lanes all_lanes(double value) noexcept { return Lanes{value, value, value, value}; }
[[nodiscard]] inline Lanes lesser(Lanes a, Lanes b) noexcept { return a < b ? a : b; }
[[nodiscard]] inline Lanes greater(Lanes a, Lanes b) noexcept { return a > b ? a : b; }
[[nodiscard]] inline double least_of(Lanes x) noexcept {
  return std::min(std::min(x[0], x[1]), std::min(x[2], x[3]));
}
[[nodiscard]] inline double greatest_of(Lanes x) noexcept {
  return std::max(std::max(x[0], x[1]), std::max(x[2], x[3]));
}
/// What a comparison of lanes gives: all bits of a lane, or none.
using LaneMask = decltype(Lanes{} < Lanes{});
/// A bit per lane.
[[nodiscard]] inline unsigned bits_of(LaneMask mask) noexcept {
#ifdef __AVX__
  Lanes signs;
  std::memcpy(&signs, &mask, sizeof signs);
  return static_cast<unsigned>(__builtin_ia32_movmskpd256(signs));
#else
  unsigned bits = 0;
  for (unsigned k = 0; k < lanes; ++k) bits |= static_cast<unsigned>(mask[k] & 1) << k;
  return bits;
#endif
}
[[nodiscard]] inline bool any(LaneMask mask) noexcept { return bits_of(mask) != 0; }

/// Block times the first three of x.
[[nodiscard]] inline Lanes times(const double* block, const double* x) noexcept {
  return load(block) * x[0] + load(block + lanes) * x[1] + load(block + 2 * lanes) * x[2];
}
[[nodiscard]] inline Lanes times(const double* block, Lanes x) noexcept {
  return load(block) * x[0] + load(block + lanes) * x[1] + load(block + 2 * lanes) * x[2];
}

/// The sum of the first three lanes, in each of them; lane 3 of `x` is zero.
[[nodiscard]] inline Lanes spread_sum(Lanes x) noexcept {
  return x + __builtin_shufflevector(x, x, 1, 2, 0, 3) + __builtin_shufflevector(x, x, 2, 0, 1, 3);
}

/// Appends a matrix of at most 3 x 3, filled up with zeros, as a block.
template <class Matrix>
void append_block(const Matrix& matrix, Numbers& into) {
  for (Eigen::Index column = 0; column < 3; ++column) {
    for (Eigen::Index row = 0; row < lanes; ++row) {
      const bool inside = row < matrix.rows() && column < matrix.cols();
      into.push_back(inside ? matrix(row, column) : 0);
    }
  }
}

}  // namespace zavrek::emt::internal
