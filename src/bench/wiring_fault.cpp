#include "bench/wiring_fault.hpp"

#include <utility>

namespace zavrek::bench::internal {

void miswire(protection::Sample& sample, const std::string& wiring, double factor) noexcept {
  auto& i = sample.current_A;
  if (wiring == "a and b swapped") std::swap(i[0], i[1]);
  if (wiring == "b and c swapped") std::swap(i[1], i[2]);
  if (wiring == "c and a swapped") std::swap(i[2], i[0]);
  const double sign = wiring == "reversed" ? -factor : factor;
  for (double& current : i) current *= sign;
}

protection::Sample as_wired(const Device& device, const protection::Sample& sample) noexcept {
  protection::Sample seen = sample;
  miswire(seen, device.current_wiring, device.current_factor);
  return seen;
}

}  // namespace zavrek::bench::internal
