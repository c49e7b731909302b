#include "bench/bench_message.hpp"

#include <algorithm>

#include "bench/names.hpp"

namespace zavrek::bench::internal {

std::pair<const Device*, std::string> owner_of(const Bench& bench, const std::string& point) {
  const std::size_t dot = point.find('.');
  if (dot == std::string::npos) return {nullptr, {}};
  return {bench.find_device(point.substr(0, dot)), point.substr(dot + 1)};
}

bool comes_by_contact(const Bench& bench, const Device& device, const std::string& input) {
  const auto contacts = bench.all<ContactOut>();
  return std::any_of(contacts.begin(), contacts.end(), [&](const ContactOut* out) {
    return out->device == device.name &&
           std::find(out->inputs.begin(), out->inputs.end(), input) != out->inputs.end();
  });
}

std::vector<std::string> bench_published(const Bench& bench, const std::string& place) {
  std::vector<std::string> names;
  for (const Device& device : bench.devices) {
    if (!device.by_frames()) continue;  // contacts tell it
    for (const std::string& input : device.inputs) {
      const auto [name, text] = split_pair(input);
      const std::string source = signed_point(text).name;
      if (device.at_terminals() && comes_by_contact(bench, device, name)) continue;
      const Device* owner = owner_of(bench, source).first;
      const bool here = owner == nullptr || is_here(*owner, place) || !owner->by_frames();
      if (here && std::find(names.begin(), names.end(), source) == names.end()) names.push_back(source);
    }
  }
  return names;
}

}  // namespace zavrek::bench::internal
