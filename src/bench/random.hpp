// Numbers drawn alike in every run.
#pragma once

#include <cstdint>

namespace zavrek::bench::internal {

/// S. Vigna, xorshift64*.
class Random {
 public:
  explicit Random(std::uint64_t seed = 0) noexcept : state_(0x9E3779B97F4A7C15U ^ seed) {}
  [[nodiscard]] std::uint64_t bits() noexcept {
    state_ ^= state_ >> 12U;
    state_ ^= state_ << 25U;
    state_ ^= state_ >> 27U;
    return state_ * 0x2545F4914F6CDD1DU;
  }
  /// 0 to 1, of 53 bits.
  [[nodiscard]] double share() noexcept { return static_cast<double>(bits() >> 11U) * 0x1p-53; }

 private:
  std::uint64_t state_;
};

}  // namespace zavrek::bench::internal
