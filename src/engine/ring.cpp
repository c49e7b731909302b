#include "engine/ring.hpp"

#include <algorithm>

namespace zavrek::engine::internal {

RowRing::RowRing(std::size_t rows, std::size_t width)
    : rows_(std::max<std::size_t>(2, rows)), width_(width), values_(rows_ * width) {}

RowRing::RowRing(const RowRing& other)
    : rows_(other.rows_),
      width_(other.width_),
      values_(rows_ * width_),
      written_(other.written()),
      oldest_(other.oldest_.load()) {
  for (std::size_t k = 0; k < values_.size(); ++k)
    values_[k].store(other.values_[k].load(std::memory_order_relaxed), std::memory_order_relaxed);
}

void RowRing::go_back(std::int64_t rows) noexcept {
  if (rows >= written()) return;
  const std::int64_t here = written() - static_cast<std::int64_t>(rows_) + 1;
  oldest_.store(std::max(oldest_.load(), std::min(here, rows)), std::memory_order_release);
  written_.store(rows, std::memory_order_release);
}

std::int64_t RowRing::read(std::int64_t first, std::int64_t last, const std::vector<std::size_t>& columns,
                           std::vector<double>& into) const {
  into.clear();
  last = std::min(last, written());
  const auto room = static_cast<std::int64_t>(rows_);
  first = std::max({oldest_.load(std::memory_order_acquire), first, written() - room + 1});
  if (first >= last) return first;
  for (std::int64_t row = first; row < last; ++row) {
    for (const std::size_t column : columns)
      into.push_back(values_[at(row) + column].load(std::memory_order_acquire));
  }
  // What the writer reached while this was copied is no row any more.
  const std::int64_t whole = std::clamp(written() - room + 1, first, last);
  into.erase(into.begin(), into.begin() + static_cast<std::ptrdiff_t>(
                                              (whole - first) * static_cast<std::int64_t>(columns.size())));
  return whole;
}

Pixels pixels_of(const std::vector<double>& rows, std::size_t width, std::int64_t first, double rate_Hz,
                 std::size_t pixels) {
  Pixels out;
  out.least.resize(width);
  out.greatest.resize(width);
  if (width == 0 || rows.empty() || pixels == 0) return out;
  const std::size_t count = rows.size() / width;
  const std::size_t used = std::min(pixels, count);
  for (std::size_t pixel = 0; pixel < used; ++pixel) {
    const std::size_t from = pixel * count / used, until = (pixel + 1) * count / used;
    out.time_s.push_back((static_cast<double>(first) + 0.5 * static_cast<double>(from + until - 1)) /
                         rate_Hz);
    for (std::size_t c = 0; c < width; ++c) {
      double least = rows[from * width + c], greatest = least;
      for (std::size_t k = from + 1; k < until; ++k) {
        least = std::min(least, rows[k * width + c]);
        greatest = std::max(greatest, rows[k * width + c]);
      }
      out.least[c].push_back(least);
      out.greatest[c].push_back(greatest);
    }
  }
  return out;
}

}  // namespace zavrek::engine::internal
