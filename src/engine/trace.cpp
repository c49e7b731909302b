#include "engine/trace.hpp"

#include <algorithm>

namespace zavrek::engine::internal {

namespace {

constexpr std::size_t most_changes = 4096;

}  // namespace

Traces::Traces(std::vector<std::string> names, double samples_per_s, std::size_t most_bytes)
    : signals(std::move(names)),
      rate_Hz(samples_per_s),
      rows(most_bytes / sizeof(double) / std::max<std::size_t>(1, signals.size()), signals.size()),
      changes(most_changes, 3) {}

void TracePort::wire(bench::Exchange& exchange) {
  for (const std::string& name : traces_->signals) {
    values_.push_back(exchange.value_of(name));
    traces_->units.push_back(exchange.unit_of(values_.back()));
  }
}

void TracePort::sample(const bench::Exchange& exchange) noexcept {
  for (std::size_t k = 0; k < values_.size(); ++k) traces_->rows.put(k, exchange.value(values_[k]));
  traces_->rows.commit();
}

void TracePort::give(bench::Exchange& exchange) noexcept {
  for (; seen_ < exchange.changes().size(); ++seen_) {
    const bench::Change& change = exchange.changes()[seen_];
    traces_->changes.put(0, change.time_s);
    traces_->changes.put(1, static_cast<double>(change.point.index));
    traces_->changes.put(2, change.on ? 1 : 0);
    traces_->changes.commit();
  }
}

}  // namespace zavrek::engine::internal
