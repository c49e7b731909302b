// Rows that one thread writes and others read, without ever making it wait.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace zavrek::engine::internal {

/// Rows of doubles, written by one thread, read by any.
class RowRing {
 public:
  RowRing(std::size_t rows, std::size_t width);
  /// While nobody writes to the other.
  RowRing(const RowRing& other);
  RowRing& operator=(const RowRing&) = delete;
  [[nodiscard]] std::size_t width() const noexcept { return width_; }
  [[nodiscard]] std::size_t rows() const noexcept { return rows_; }
  /// By the writer: place of the next row, then `commit`.
  void put(std::size_t column, double value) noexcept {
    // Whoever reads it over an old row knows by then how far this has come.
    values_[at(written()) + column].store(value, std::memory_order_release);
  }
  void commit() noexcept { written_.store(written() + 1, std::memory_order_release); }
  /// By the writer: as it was behind so many rows, as far as they are still here.
  void go_back(std::int64_t rows) noexcept;
  /// Ahead of the first row: as if so many had been written and overwritten.
  void begin_behind(std::int64_t rows) noexcept {
    oldest_.store(rows, std::memory_order_release);
    written_.store(rows, std::memory_order_release);
  }
  /// By anybody: rows written so far.
  [[nodiscard]] std::int64_t written() const noexcept { return written_.load(std::memory_order_acquire); }
  /// Copies rows from `first` up to `last` (not in it) of `columns`; where reading begins after what was
  /// overwritten in the meantime: that row.
  std::int64_t read(std::int64_t first, std::int64_t last, const std::vector<std::size_t>& columns,
                    std::vector<double>& into) const;

 private:
  [[nodiscard]] std::size_t at(std::int64_t row) const noexcept {
    return static_cast<std::size_t>(row) % rows_ * width_;
  }
  std::size_t rows_, width_;
  std::vector<std::atomic<double>> values_;
  std::atomic<std::int64_t> written_{0}, oldest_{0};
};

/// Least and greatest of each column within so many pixels, for a curve of any length.
struct Pixels {
  std::vector<double> time_s;                        ///< the middle of each
  std::vector<std::vector<double>> least, greatest;  ///< per column, per pixel
};
/// `rows` stand one behind the other, `width` values each; the first is row `first` at `rate_Hz`.
[[nodiscard]] Pixels pixels_of(const std::vector<double>& rows, std::size_t width, std::int64_t first,
                               double rate_Hz, std::size_t pixels);

}  // namespace zavrek::engine::internal
