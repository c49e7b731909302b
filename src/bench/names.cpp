#include "bench/names.hpp"

#include <algorithm>

namespace zavrek::bench {

Setup::Setup() = default;
Setup::Setup(const Setup&) = default;
Setup::Setup(Setup&&) noexcept = default;
Setup& Setup::operator=(const Setup&) = default;
Setup& Setup::operator=(Setup&&) noexcept = default;
Setup::~Setup() = default;

const Stream* Bench::find_stream(std::string_view name) const {
  for (const Stream* stream : all<Stream>()) {
    if (stream->name == name) return stream;
  }
  return nullptr;
}

Bench::Stems Bench::stems_of(std::string_view name) const {
  if (const Stream* stream = find_stream(name)) return {stream->ct + ".i", stream->vt + ".v"};
  return {std::string(name) + ".i", std::string(name) + ".v"};
}

const Device* Bench::find_device(std::string_view name) const {
  const auto at =
      std::find_if(devices.begin(), devices.end(), [&](const Device& d) { return d.name == name; });
  return at == devices.end() ? nullptr : &*at;
}

void complete(Bench& bench) {
  for (Device& device : bench.devices) {
    for (const ContactOut* out : bench.all<ContactOut>()) {
      if (out->device != device.name) continue;
      for (std::size_t k = 0; k < std::min(out->inputs.size(), out->points.size()); ++k) {
        const std::string text = out->inputs[k] + ": " + out->points[k];
        if (std::find(device.inputs.begin(), device.inputs.end(), text) == device.inputs.end())
          device.inputs.push_back(text);
      }
    }
  }
}

namespace internal {

std::pair<std::string, std::string> split_pair(const std::string& text) {
  const std::size_t colon = text.find(':');
  if (colon == std::string::npos) return {};
  const auto trimmed = [](std::string part) {
    const auto blank = [](char c) { return c == ' ' || c == '\t'; };
    while (!part.empty() && blank(part.back())) part.pop_back();
    while (!part.empty() && blank(part.front())) part.erase(0, 1);
    return part;
  };
  return {trimmed(text.substr(0, colon)), trimmed(text.substr(colon + 1))};
}

std::vector<std::string> switchgear_of(const network::Network& network) {
  std::vector<std::string> names;
  for (const network::Element& element : network.elements) {
    if (std::holds_alternative<network::Breaker>(element) ||
        std::holds_alternative<network::Disconnector>(element) ||
        std::holds_alternative<network::EarthingSwitch>(element) ||
        std::holds_alternative<network::Contactor>(element))
      names.push_back(network::name_of(element));
  }
  return names;
}

std::vector<std::string> contacts_of(const Bench& bench) {
  std::vector<std::string> names;
  for (const std::string& contact : bench.contacts)
    names.push_back(std::string(contact_prefix) + contact_of(contact).name);
  return names;
}

Contact contact_of(const std::string& text) {
  if (text.find(':') == std::string::npos) return {text, "open"};
  auto [name, state] = split_pair(text);
  return {std::move(name), std::move(state)};
}

bool is_here(const Device& device, const std::string& place) {
  return (place.empty() ? device.place : place) == "plant";
}

bool anybody_elsewhere(const Bench& bench, const std::string& place) {
  return std::any_of(bench.devices.begin(), bench.devices.end(),
                     [&](const Device& device) { return !is_here(device, place); });
}

Signed signed_signal(const std::string& text) {
  if (text.starts_with('-')) return {text.substr(1), true};
  return {text, false};
}

Signed signed_point(const std::string& text) {
  constexpr std::string_view no = "not ";
  if (text.starts_with(no)) return {text.substr(no.size()), true};
  return {text, false};
}

}  // namespace internal
}  // namespace zavrek::bench
