#include <utility>

#include "bench/bench_message.hpp"
#include "bench/make_port.hpp"
#include "bench/names.hpp"

namespace zavrek::bench::internal {

std::vector<std::unique_ptr<Port>> make_ports(const RunPlan& plan) {
  const Bench& bench = plan.setup.bench;
  std::vector<std::unique_ptr<Port>> made;
  for (const PortSettings& port : bench.ports)
    made.push_back(std::visit([&](const auto& settings) { return make_port(settings, plan); }, port));
  for (const Device& device : bench.devices) made.push_back(make_port(device, plan));
  if (!anybody_elsewhere(bench, plan.place)) {
    if (!bench_published(bench, {}).empty()) made.push_back(make_idle_message(bench_goose_id));
    return made;
  }
  if (std::vector<std::string> told = bench_published(bench, plan.place); !told.empty()) {
    Message message;
    message.name = bench_goose_id;
    message.entries = std::move(told);
    message.appid = bench_goose_appid;
    made.push_back(make_port(message, plan));
  }
  return made;
}

void declare_ports(const Setup& setup, Exchange& exchange) {
  for (const auto& port : make_ports({setup, {}})) {
    if (port) port->declare(exchange);
  }
}

}  // namespace zavrek::bench::internal
