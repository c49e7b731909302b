// The matrices that an area of a condensed part has kept, found by the conductances of its breakers and knobs
// that they belong to. They are kept in sets of eight; a ninth of a set takes the place of its oldest. All
// numbers of one stand side by side: going over to another touches few pages of memory.
#pragma once

#include <cassert>
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <vector>

#include "emt/solve/lanes.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::emt::internal {

class KeptMatrices {
 public:
  static constexpr std::size_t ways = 8;
  static constexpr std::size_t most_bytes = std::size_t{16} << 20U;

  struct Kept {
    const double* conductances;
    double* matrix;
  };

  /// Room for so many, a power of two and at least a set, or for as many as `most_bytes` hold; all empty.
  /// `conductances` and `matrix`: how many numbers each has, in whole lanes.
  void make_room(std::size_t conductances, std::size_t matrix, std::size_t count) {
    assert((count & (count - 1)) == 0 && count >= ways);
    width_ = conductances;
    constexpr std::size_t line = 8;  // numbers
    const auto in_lines = [](std::size_t numbers) { return (numbers + line - 1) / line * line; };
    matrix_ = in_lines(conductances);
    stride_ = matrix_ + in_lines(matrix);
    while (count > ways && count * stride_ * sizeof(double) > most_bytes) count /= 2;
    numbers_.assign(count * stride_, 0.0);
    keys_.assign(count, 0);
    serials_.assign(count, 0);
    oldest_.assign(count / ways, 0);
    weights_.assign(conductances, 0.0);
    for (std::size_t k = 0; k < weights_.size(); ++k) weights_[k] = std::pow(1.37, k);
  }
  [[nodiscard]] std::size_t count() const noexcept { return keys_.size(); }
  [[nodiscard]] std::size_t bytes() const noexcept { return numbers_.size() * sizeof(double); }

  /// The one of these conductances; none when it was not met, or is no longer kept.
  [[nodiscard]] bool find(const Numbers& conductances, Kept& into) noexcept {
    const std::uint64_t key = key_of(conductances);
    const std::size_t first = set_of(key) * ways;
    for (std::size_t place = first; place < first + ways; ++place) {
      if (keys_[place] != key || !same(at(place), conductances.data(), width_)) continue;
      into = {at(place), at(place) + matrix_};
      return true;
    }
    return false;
  }
  /// A place for these conductances, which has no matrix yet: the `serial`th that is taken.
  [[nodiscard]] Kept take(const Numbers& conductances, long long serial) noexcept {
    const std::uint64_t key = key_of(conductances);
    std::uint8_t& way = oldest_[set_of(key)];
    const std::size_t place = set_of(key) * ways + way;
    way = static_cast<std::uint8_t>((way + 1) % ways);
    keys_[place] = key;
    serials_[place] = serial;
    std::memcpy(at(place), conductances.data(), conductances.size() * sizeof(double));
    return {at(place), at(place) + matrix_};
  }

  /// Which there are. Those up to serial `ahead` are made alike by every compile of the network: they are
  /// still there, or forgotten. Of the others the numbers go along.
  void visit_state(StateArchive& archive, long long ahead) {
    archive(oldest_);
    for (std::size_t place = 0; place < keys_.size(); ++place) {
      std::uint64_t key = keys_[place];
      archive(key);
      archive(serials_[place]);
      if (key != 0 && serials_[place] > ahead) {
        archive.carry(at(place), stride_ * sizeof(double));
      } else if (key != keys_[place]) {
        key = 0;
      }
      keys_[place] = key;
    }
  }

  /// Whether numbers in whole lanes are the same.
  [[nodiscard]] static bool same(const double* a, const double* b, std::size_t count) noexcept {
    auto differ = Lanes{} < Lanes{};
    for (std::size_t k = 0; k < count; k += lanes) differ |= load(a + k) != load(b + k);
    return !any(differ);
  }

 private:
  [[nodiscard]] double* at(std::size_t place) noexcept { return &numbers_[place * stride_]; }
  [[nodiscard]] std::uint64_t key_of(const Numbers& conductances) const noexcept {
    Lanes sums{};
    for (std::size_t k = 0; k < conductances.size(); k += lanes)
      sums += load(&weights_[k]) * load(&conductances[k]);
    const double sum = (sums[0] + sums[1]) + (sums[2] + sums[3]);
    std::uint64_t bits = 0;
    std::memcpy(&bits, &sum, sizeof bits);
    bits *= 0x9E3779B97F4A7C15U;
    return (bits ^ (bits >> 29U)) | 1U;  // 0: none
  }
  [[nodiscard]] std::size_t set_of(std::uint64_t key) const noexcept { return (key >> 1U) % oldest_.size(); }

  std::size_t width_ = 0, matrix_ = 0, stride_ = 0;
  Numbers numbers_;                   // one behind the other
  std::vector<std::uint64_t> keys_;   // 0: not used
  std::vector<long long> serials_;    // how many were taken until then
  std::vector<std::uint8_t> oldest_;  // per set: the way to give up next
  Numbers weights_;                   // of conductances in the key
};

}  // namespace zavrek::emt::internal
