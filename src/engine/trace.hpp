// What a run shows, for viewers beside it: rows of values and changes of points go into rings that never make
// the thread of the plant wait. A viewer that falls behind loses its own view of what was overwritten, and is
// told.
#pragma once

#include <string>
#include <vector>

#include "engine/ring.hpp"
#include "zavrek/bench/port.hpp"

namespace zavrek::engine::internal {

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
