// What a run shows, for viewers beside it: rows of values and changes of points go into rings that never make
// the thread of the plant wait. A viewer that falls behind loses its own view of what was overwritten, and is
// told.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "engine/ring.hpp"
#include "zavrek/bench/port.hpp"

namespace zavrek::engine::internal {

/// What viewers read of a run, as long as any of them does.
struct Traces {
  Traces(std::vector<std::string> names, double samples_per_s, std::size_t most_bytes);
  std::vector<std::string> signals, units;
  std::vector<double> primary,
      secondary;  ///< ratio of the transformer in front of each; rows are primary values
  double rate_Hz;
  RowRing rows;
  RowRing changes;  ///< of points: time, number of the point, 0 or 1
  RowRing seconds;  ///< of the plant: the mean of each signal, then the rms of each
};

/// Fills them.
class TracePort final : public bench::Port {
 public:
  explicit TracePort(std::shared_ptr<Traces> traces) : traces_(std::move(traces)) {}
  void wire(bench::Exchange& exchange) override;
  [[nodiscard]] double rate_Hz() const noexcept override { return traces_->rate_Hz; }
  void sample(const bench::Exchange& exchange) noexcept override;
  void give(bench::Exchange& exchange) noexcept override;
  void visit_state(StateArchive& archive) override;

 private:
  std::shared_ptr<Traces> traces_;
  void sum_up() noexcept;
  std::vector<bench::ValueId> values_;
  std::vector<double> factors_, sums_, squares_;
  int summed_ = 0;
  long long seen_ = 0;  // of the exchange's changes
};

}  // namespace zavrek::engine::internal
