// Rows of numbers from the plant's thread to one beside it: neither waits, a full ring loses the row,
// counted.
#pragma once

#include <atomic>
#include <cstdint>
#include <span>
#include <vector>

#include "zavrek/count.hpp"

namespace zavrek::bench::internal {

class SampleRing {
 public:
  /// Ahead of the run.
  void size(std::size_t columns, std::size_t rows) {
    columns_ = columns;
    rows_ = rows;
    times_.assign(rows, 0);
    values_.assign(rows * columns, 0);
  }
  /// By the writer: where the next row goes; null when there is no room.
  [[nodiscard]] double* next() noexcept {
    const std::uint64_t written = written_.load(std::memory_order_relaxed);
    if (written - read_.load(std::memory_order_acquire) < rows_) return &values_[written % rows_ * columns_];
    ++lost_;
    return nullptr;
  }
  void commit(std::int64_t time_ns) noexcept {
    const std::uint64_t written = written_.load(std::memory_order_relaxed);
    times_[written % rows_] = time_ns;
    written_.store(written + 1, std::memory_order_release);
  }
  /// By the reader: `take(time, row)` for each.
  template <class Take>
  void drain(Take&& take) {
    std::uint64_t read = read_.load(std::memory_order_relaxed);
    for (const std::uint64_t written = written_.load(std::memory_order_acquire); read != written; ++read) {
      take(times_[read % rows_], std::span<const double>(&values_[read % rows_ * columns_], columns_));
      read_.store(read + 1, std::memory_order_release);
    }
  }
  [[nodiscard]] long long lost() const noexcept { return lost_; }

 private:
  std::size_t columns_ = 0, rows_ = 0;
  std::vector<std::int64_t> times_;
  std::vector<double> values_;
  alignas(64) std::atomic<std::uint64_t> written_{0};
  alignas(64) std::atomic<std::uint64_t> read_{0};
  Count lost_;
};

}  // namespace zavrek::bench::internal
