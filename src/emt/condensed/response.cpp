#include "emt/condensed/response.hpp"

#include <algorithm>

namespace zavrek::emt::internal {

void Response::make(const Partition& partition, std::span<const Injection> injections, const double* scale,
                    double* a) noexcept {
  std::fill(voltages_.begin(), voltages_.end(), 0.0);
  const auto at = [&](int node, int column) -> double& {
    return voltages_[static_cast<std::size_t>(node) * width_ + static_cast<std::size_t>(column)];
  };
  for (int column = 0; column < maps_.injected.count(); ++column) {
    for (const auto& [node, number] : maps_.injected.line(column)) at(node, column) += number;
  }
  for (const auto& [node, column, number] : injections) at(node, column) += number;
  partition.solve_many(voltages_.data(), width_);
  for (int row = 0; row < maps_.read.count(); ++row) read_row(row, scale, a);
}

void Response::read_row(int row, const double* scale, double* a) noexcept {
  std::fill(line_.begin(), line_.end(), 0.0);
  for (const auto& [node, number] : maps_.read.line(row)) {
    const double* from = &voltages_[static_cast<std::size_t>(node) * width_];
    for (std::size_t k = 0; k < width_; k += lanes)
      store(&line_[k], load(&line_[k]) + number * load(from + k));
  }
  for (const auto& [column, number] : maps_.direct.line(row))
    line_[static_cast<std::size_t>(column)] += number;
  double* to = a + row;
  for (int column = 0; column < maps_.injected.count(); ++column, to += maps_.read.count())
    *to = scale[row] * line_[static_cast<std::size_t>(column)];
}

}  // namespace zavrek::emt::internal
