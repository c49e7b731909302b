#pragma once

#include <cstddef>
#include <span>
#include <vector>

namespace zavrek::emt::internal {

/// Lines of a matrix with few entries.
class SparseLines {
 public:
  struct Entry {
    int at;
    double number;
  };
  /// Appends an entry, unless it is zero, to the line that `close` will end.
  void append(int at, double number) {
    if (number != 0) entries_.push_back({at, number});
  }
  void close() { start_.push_back(static_cast<int>(entries_.size())); }
  [[nodiscard]] std::span<const Entry> line(int k) const noexcept {
    const int *from = start_.data() + k, first = *from;
    return {entries_.data() + first, static_cast<std::size_t>(from[1] - first)};
  }
  [[nodiscard]] int count() const noexcept { return static_cast<int>(start_.size()) - 1; }

 private:
  std::vector<int> start_{0};
  std::vector<Entry> entries_;
};

}  // namespace zavrek::emt::internal
