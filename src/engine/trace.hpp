// What a run shows, for viewers beside it: rows of values and changes of points go into rings that never make
// the thread of the plant wait. A viewer that falls behind loses its own view of what was overwritten, and is
// told.
#pragma once

#include <array>
#include <atomic>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "zavrek/bench/port.hpp"

namespace zavrek::engine::internal {

/// Rows of doubles, written by one thread, read by any.
class RowRing {
 public:
  RowRing(std::size_t rows, std::size_t width);
  [[nodiscard]] std::size_t width() const noexcept { return width_; }
  [[nodiscard]] std::size_t rows() const noexcept { return rows_; }
  /// By the writer: place of the next row, then `commit`.
  void put(std::size_t column, double value) noexcept {
    values_[at(written()) + column].store(value, std::memory_order_relaxed);
  }
  void commit() noexcept {
    written_.store(written() + 1, std::memory_order_release);
    std::atomic_thread_fence(std::memory_order_release);  // ahead of what is put next, over an old row
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
  std::atomic<std::int64_t> written_{0};
};

/// Least and greatest of each column within so many pixels, for a curve of any length.
struct Pixels {
  std::vector<double> time_s;                        ///< the middle of each
  std::vector<std::vector<double>> least, greatest;  ///< per column, per pixel
};
/// `rows` stand one behind the other, `width` values each; the first is row `first` at `rate_Hz`.
[[nodiscard]] Pixels pixels_of(const std::vector<double>& rows, std::size_t width, std::int64_t first,
                               double rate_Hz, std::size_t pixels);

/// Fills both rings.
class TracePort final : public bench::Port {
 public:
  TracePort(std::vector<std::string> signals, double rate_Hz, std::size_t most_bytes);
  void wire(bench::Exchange& exchange) override;
  [[nodiscard]] double rate_Hz() const noexcept override { return rate_Hz_; }
  void sample(const bench::Exchange& exchange) noexcept override;
  void give(bench::Exchange& exchange) noexcept override;

  [[nodiscard]] const std::vector<std::string>& signals() const noexcept { return signals_; }
  [[nodiscard]] const std::vector<std::string>& units() const noexcept { return units_; }
  [[nodiscard]] const RowRing& rows() const noexcept { return rows_; }
  /// Changes of points: time, number of the point, 0 or 1.
  [[nodiscard]] const RowRing& changes() const noexcept { return changes_; }

 private:
  static constexpr std::size_t most_changes = 4096;
  std::vector<std::string> signals_, units_;
  double rate_Hz_;
  RowRing rows_, changes_;
  std::vector<bench::ValueId> values_;
  std::size_t seen_ = 0;  // of the exchange's changes
};

}  // namespace zavrek::engine::internal
