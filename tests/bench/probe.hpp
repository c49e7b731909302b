#pragma once

#include <functional>

#include "zavrek/bench.hpp"

namespace zavrek::bench {

/// A port made of functions.
struct Probe final : Port {
  std::function<void(Exchange&)> wired, taken, given;
  std::function<void(const Exchange&)> sampled;
  bool every_step = true;
  void wire(Exchange& exchange) override {
    if (wired) wired(exchange);
  }
  bool each_step() const noexcept override { return every_step; }
  void take(Exchange& exchange) noexcept override {
    if (taken) taken(exchange);
  }
  void sample(const Exchange& exchange) noexcept override {
    if (sampled) sampled(exchange);
  }
  void give(Exchange& exchange) noexcept override {
    if (given) given(exchange);
  }
};

}  // namespace zavrek::bench
