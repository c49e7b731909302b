#include "bench/bench_message.hpp"

#include <algorithm>

#include "bench/names.hpp"

namespace zavrek::bench::internal {

std::pair<const Device*, std::string> owner_of(const Bench& bench, const std::string& point) {
  const std::size_t dot = point.find('.');
  if (dot == std::string::npos) return {nullptr, {}};
  return {bench.find_device(point.substr(0, dot)), point.substr(dot + 1)};
}

std::vector<std::string> bench_published(const Bench& bench, const std::string& place) {
  std::vector<std::string> names;
  for (const Device& device : bench.devices) {
    if (device.at_terminals()) continue;  // contacts tell it
    for (const std::string& input : device.inputs) {
      const std::string source = split_pair(input).second;
      const Device* owner = owner_of(bench, source).first;
      const bool here = owner == nullptr || is_here(*owner, place);
      if (here && std::find(names.begin(), names.end(), source) == names.end()) names.push_back(source);
    }
  }
  return names;
}

}  // namespace zavrek::bench::internal
