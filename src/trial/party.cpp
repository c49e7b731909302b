#include "trial/party.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zavrek::trial::internal {

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
        std::holds_alternative<network::EarthingSwitch>(element))
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

wire::Medium medium_of(const std::string& word) {
  if (word == "raw") return wire::Medium::raw;
  return word == "datagram" ? wire::Medium::datagram : wire::Medium::automatic;
}

Party::Party(const Device& device, bool remote, double frequency_Hz)
    : device_(&device), remote_(remote), outputs_(protection::outputs_of(device.relay)) {
  if (remote) {
    subscriber_ = std::make_unique<wire::GooseSubscriber>(wire::stand_in_subscriber(
        {.name = device.name, .goose_appid = static_cast<std::uint16_t>(device.appid)}));
  } else {
    relay_ = std::make_unique<protection::Relay>(device.relay, samples_per_cycle * frequency_Hz, frequency_Hz,
                                                 static_cast<int>(device.reads.size()));
  }
}

void Party::start_process(const std::filesystem::path& program, const std::filesystem::path& folder,
                          const Bench& bench, const std::string& interface, const std::string& place,
                          double frequency_Hz) {
  std::vector<std::string> words{program.string(),
                                 "relay",
                                 (folder / device_->settings).string(),
                                 "--name",
                                 device_->name,
                                 "--interface",
                                 interface,
                                 "--medium",
                                 bench.medium,
                                 "--frequency",
                                 print_quantity(frequency_Hz, "Hz"),
                                 "--goose-appid",
                                 std::to_string(device_->appid)};
  for (const std::string& name : device_->reads) {
    const auto stream = std::find_if(bench.streams.begin(), bench.streams.end(),
                                     [&](const Stream& s) { return s.name == name; });
    words.insert(words.end(), {"--stream", fmt::format("{}@{}", stream->name, stream->appid)});
  }
  const std::vector<std::string> told = told_by_bench(bench, place);
  for (const std::string& input : device_->inputs) {
    const auto [name, source] = split_pair(input);
    const auto known = std::find(told.begin(), told.end(), source);
    std::string publisher = bench_goose_id;
    int appid = bench_goose_appid;
    auto entry = static_cast<std::size_t>(known - told.begin());
    if (known == told.end()) {
      const auto other =
          std::find_if(bench.devices.begin(), bench.devices.end(),
                       [&, of = source](const Device& d) { return of.starts_with(d.name + "."); });
      publisher = other->name;
      appid = other->appid;
      const auto outputs = protection::outputs_of(other->relay);
      entry = static_cast<std::size_t>(
          std::find(outputs.begin(), outputs.end(), source.substr(other->name.size() + 1)) - outputs.begin());
    }
    words.insert(words.end(), {"--input", fmt::format("{}={}@{}:{}", name, publisher, appid, entry)});
  }
  process_ = std::make_unique<pace::internal::Program>(
      words, pace::internal::Program::Options{.errors_shown = true});
}

bool Party::shown(std::size_t output) const noexcept {
  if (relay_) return relay_->output(output);
  const auto& entries = subscriber_->message().entries;
  return subscriber_->heard() && output < entries.size() && entries[output];
}

std::vector<std::string> told_by_bench(const Bench& bench, const std::string& place) {
  std::vector<std::string> names;
  for (const Device& device : bench.devices) {
    for (const std::string& input : device.inputs) {
      const std::string source = split_pair(input).second;
      const auto owner = std::find_if(bench.devices.begin(), bench.devices.end(),
                                      [&](const Device& d) { return source.starts_with(d.name + "."); });
      const bool here = owner == bench.devices.end() || (place.empty() ? owner->place : place) == "plant";
      if (here && std::find(names.begin(), names.end(), source) == names.end()) names.push_back(source);
    }
  }
  return names;
}

}  // namespace zavrek::trial::internal
