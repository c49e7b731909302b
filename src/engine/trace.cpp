#include "engine/trace.hpp"

#include <algorithm>
#include <cmath>

namespace zavrek::engine::internal {

RowRing::RowRing(std::size_t rows, std::size_t width)
    : rows_(std::max<std::size_t>(2, rows)), width_(width), values_(rows_ * width) {}

std::int64_t RowRing::read(std::int64_t first, std::int64_t last, const std::vector<std::size_t>& columns,
                           std::vector<double>& into) const {
  into.clear();
  last = std::min(last, written());
  const auto room = static_cast<std::int64_t>(rows_);
  first = std::max({std::int64_t{0}, first, written() - room + 1});
  if (first >= last) return first;
  for (std::int64_t row = first; row < last; ++row) {
    for (const std::size_t column : columns)
      into.push_back(values_[at(row) + column].load(std::memory_order_relaxed));
  }
  // What the writer reached while this was copied is no row any more.
  std::atomic_thread_fence(std::memory_order_acquire);
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

TracePort::TracePort(std::vector<std::string> signals, double rate_Hz, std::size_t most_bytes)
    : signals_(std::move(signals)),
      rate_Hz_(rate_Hz),
      rows_(most_bytes / sizeof(double) / std::max<std::size_t>(1, signals_.size()), signals_.size()),
      changes_(most_changes, 3) {}

void TracePort::wire(bench::Exchange& exchange) {
  for (const std::string& name : signals_) {
    values_.push_back(exchange.value_of(name));
    units_.push_back(exchange.unit_of(values_.back()));
  }
}

void TracePort::sample(const bench::Exchange& exchange) noexcept {
  for (std::size_t k = 0; k < values_.size(); ++k) rows_.put(k, exchange.value(values_[k]));
  rows_.commit();
}

void TracePort::give(bench::Exchange& exchange) noexcept {
  for (; seen_ < exchange.changes().size(); ++seen_) {
    const bench::Change& change = exchange.changes()[seen_];
    changes_.put(0, change.time_s);
    changes_.put(1, static_cast<double>(change.point.index));
    changes_.put(2, change.on ? 1 : 0);
    changes_.commit();
  }
}

}  // namespace zavrek::engine::internal
