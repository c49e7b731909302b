#include <bit>
#include <cmath>

#include "zavrek/count.hpp"
#include "zavrek/pace.hpp"

namespace zavrek::pace {

// Below 64 ns every nanosecond has its class; above, each octave is cut into 64 equal ones.
std::size_t Histogram::class_of(std::int64_t ns) noexcept {
  const auto value = static_cast<std::uint64_t>(ns < 0 ? 0 : ns);
  if (value < per_octave) return static_cast<std::size_t>(value);
  const int octave = std::bit_width(value) - 7;  // value >> octave lies in 64 ... 127
  const std::size_t index =
      static_cast<std::size_t>(octave) * per_octave + static_cast<std::size_t>(value >> octave);
  return index < 64 * 40 ? index : 64 * 40 - 1;
}

std::int64_t Histogram::upper_edge(std::size_t index) noexcept {
  if (index < 2 * per_octave) return static_cast<std::int64_t>(index);
  const std::size_t octave = index / per_octave - 1;
  const std::size_t within = index % per_octave + per_octave;
  return static_cast<std::int64_t>(((within + 1) << octave) - 1);
}

void Histogram::add(std::int64_t ns) noexcept {
  std::uint32_t& of_class = classes_[class_of(ns)];
  note(of_class, of_class + 1);
  note(count_, count_ + 1);
  if (ns > max_) note(max_, ns);
}

Histogram& Histogram::operator=(const Histogram& other) noexcept {
  for (std::size_t k = 0; k < classes_.size(); ++k) classes_[k] = seen(other.classes_[k]);
  count_ = seen(other.count_);
  max_ = seen(other.max_);
  return *this;
}

std::int64_t Histogram::quantile_ns(double share) const noexcept {
  const auto wanted = static_cast<std::int64_t>(std::ceil(share * static_cast<double>(count_)));
  std::int64_t passed = 0;
  for (std::size_t k = 0; k < classes_.size(); ++k) {
    passed += classes_[k];
    if (classes_[k] > 0 && passed >= wanted) return std::min(upper_edge(k), max_);
  }
  return 0;
}

void Histogram::read_coarse(double* counts) const noexcept {
  constexpr std::size_t merged = 64 * 40 / coarse_classes;
  for (std::size_t k = 0; k < coarse_classes; ++k) {
    std::uint64_t sum = 0;
    for (std::size_t j = 0; j < merged; ++j) sum += classes_[k * merged + j];
    counts[k] = static_cast<double>(sum);
  }
}

std::int64_t Histogram::coarse_edge_ns(std::size_t index) noexcept {
  constexpr std::size_t merged = 64 * 40 / coarse_classes;
  return upper_edge(index * merged + merged - 1);
}

}  // namespace zavrek::pace
