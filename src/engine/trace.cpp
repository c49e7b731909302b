#include "engine/trace.hpp"

#include <algorithm>
#include <cmath>

#include "bench/measured.hpp"

namespace zavrek::engine::internal {

namespace {

constexpr std::size_t most_changes = 16'384;
constexpr std::size_t most_seconds = 3600;

}  // namespace

Traces::Traces(std::vector<std::string> names, double samples_per_s, std::size_t most_bytes)
    : signals(std::move(names)),
      rate_Hz(samples_per_s),
      rows(most_bytes / sizeof(double) / std::max<std::size_t>(1, signals.size()), signals.size()),
      changes(most_changes, 3),
      seconds(most_seconds, 2 * signals.size()) {}

void TracePort::visit_state(StateArchive& archive) {
  for (RowRing* ring : {&traces_->rows, &traces_->changes, &traces_->seconds}) {
    std::int64_t written = ring->written();
    archive(written);
    if (archive.restores()) ring->go_back(written);
  }
  archive(sums_, squares_, summed_);
}

void TracePort::wire(bench::Exchange& exchange) {
  traces_->units.clear();
  traces_->primary.clear();
  traces_->secondary.clear();
  for (const std::string& name : traces_->signals) {
    values_.push_back(exchange.value_of(name));
    traces_->units.push_back(exchange.unit_of(values_.back()));
    const bench::internal::Ratio ratio = bench::internal::ratio_of(exchange, name);
    traces_->primary.push_back(ratio.primary);
    traces_->secondary.push_back(ratio.secondary);
    factors_.push_back(ratio.primary / ratio.secondary);
  }
  sums_.assign(values_.size(), 0);
  squares_ = sums_;
}

void TracePort::sample(const bench::Exchange& exchange) noexcept {
  for (std::size_t k = 0; k < values_.size(); ++k) {
    const double value = factors_[k] * exchange.value(values_[k]);
    traces_->rows.put(k, value);
    sums_[k] += value;
    squares_[k] += value * value;
  }
  traces_->rows.commit();
  if (++summed_ >= traces_->rate_Hz) sum_up();
}

void TracePort::sum_up() noexcept {
  for (std::size_t k = 0; k < values_.size(); ++k) {
    traces_->seconds.put(k, sums_[k] / summed_);
    traces_->seconds.put(values_.size() + k, std::sqrt(squares_[k] / summed_));
    sums_[k] = squares_[k] = 0;
  }
  traces_->seconds.commit();
  summed_ = 0;
}

void TracePort::give(bench::Exchange& exchange) noexcept {
  for (; seen_ < exchange.change_count(); ++seen_) {
    const bench::Change& change = exchange.change(seen_);
    traces_->changes.put(0, change.time_s);
    traces_->changes.put(1, static_cast<double>(change.point.index));
    traces_->changes.put(2, change.on ? 1 : 0);
    traces_->changes.commit();
  }
}

}  // namespace zavrek::engine::internal
