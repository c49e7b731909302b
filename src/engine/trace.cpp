#include "engine/trace.hpp"

#include <algorithm>

namespace zavrek::engine::internal {

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
