// The samples of a record row by row, wherever they are.
#pragma once

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <functional>
#include <string_view>
#include <vector>

#include "zavrek/record.hpp"
#include "zavrek/record/row_file.hpp"

namespace zavrek::record::internal {

/// Takes text piece by piece.
using Sink = std::function<void(std::string_view)>;

class Rows {
 public:
  virtual ~Rows() = default;
  [[nodiscard]] virtual std::size_t count() const = 0;
  [[nodiscard]] virtual double time_s(std::size_t row) const = 0;
  /// Largest magnitude of a signal that is a number.
  [[nodiscard]] virtual double peak(std::size_t analog) const = 0;
  /// Values of the analogs, then of the binaries; rows are asked for in order.
  [[nodiscard]] virtual const double* row(std::size_t number) = 0;
};

class RowsInMemory final : public Rows {
 public:
  explicit RowsInMemory(const Record& record)
      : record_(record), row_(record.analogs.size() + record.binaries.size()) {}
  std::size_t count() const override { return record_.time_s.size(); }
  double time_s(std::size_t row) const override { return record_.time_s[row]; }
  double peak(std::size_t analog) const override {
    double peak = 0;
    for (const double sample : record_.analogs[analog].samples) {
      if (std::isfinite(sample)) peak = std::max(peak, std::abs(sample));
    }
    return peak;
  }
  const double* row(std::size_t number) override {
    double* out = row_.data();
    for (const Analog& analog : record_.analogs) *out++ = analog.samples[number];
    for (const Binary& binary : record_.binaries) *out++ = binary.samples[number];
    return row_.data();
  }

 private:
  const Record& record_;
  std::vector<double> row_;
};

class RowsOnDisk final : public Rows {
 public:
  explicit RowsOnDisk(const RowFile& file) : file_(file), held_(rows_at_once * file.width()) {}
  std::size_t count() const override { return file_.rows(); }
  double time_s(std::size_t row) const override { return static_cast<double>(row) / file_.rate_Hz(); }
  double peak(std::size_t analog) const override { return file_.peak(analog); }
  const double* row(std::size_t number) override {
    if (number < first_ || number >= first_ + held_rows_) {
      held_rows_ = file_.read(number, held_);
      first_ = number;
    }
    return held_.data() + (number - first_) * file_.width();
  }

 private:
  static constexpr std::size_t rows_at_once = 1024;
  const RowFile& file_;
  std::vector<double> held_;
  std::size_t first_ = 0, held_rows_ = 0;
};

}  // namespace zavrek::record::internal
