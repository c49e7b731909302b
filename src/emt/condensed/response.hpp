// What a small part of the network answers to a drive d, for all its numbers at once:
//   v = G^-1 J d,   result = C v + D d,   so the matrix is A = C G^-1 J + D.
// J, C and D have few entries and stand but for a few that are given anew each time; the factors of G solve
// for all columns of J side by side. Each number of the drive is a column of its own, acting between its two
// nodes: the inverse of G, node by node, would lose all digits where hardly anything earths the part.
#pragma once

#include <cstddef>
#include <span>
#include <vector>

#include "emt/solve/lanes.hpp"
#include "emt/solve/partition.hpp"

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

class Response {
 public:
  /// A current into a node (local to the partition) per unit of a column, beside those that stand.
  struct Injection {
    int node, column;
    double number;
  };
  /// Those that stand, `injected` by columns of J, `read` and `direct` by rows of C and D.
  struct Maps {
    SparseLines injected, read, direct;
  };

  Response() = default;
  Response(Maps maps, int nodes)
      : maps_(std::move(maps)),
        width_(static_cast<std::size_t>((maps_.injected.count() + lanes - 1) / lanes * lanes)),
        voltages_(static_cast<std::size_t>(nodes) * width_, 0.0),
        line_(width_, 0.0) {}

  /// The matrix, column after column of as many numbers as there are rows; `scale` is a factor per row.
  void make(const Partition& partition, std::span<const Injection> injections, const double* scale,
            double* a) noexcept;

 private:
  void read_row(int row, const double* scale, double* a) noexcept;

  Maps maps_;
  std::size_t width_ = 0;  // columns, in whole lanes
  Numbers voltages_;       // per node: those that each column leads to
  Numbers line_;           // a row at work
};

}  // namespace zavrek::emt::internal
