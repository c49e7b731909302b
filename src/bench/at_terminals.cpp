#include "bench/at_terminals.hpp"

#include <algorithm>
#include <array>
#include <numbers>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zavrek::bench::internal {

std::string joined(const std::vector<std::string>& names) {
  return fmt::format("{}", fmt::join(names, ", "));
}

double full_scale_of(const Conversion& conversion, const std::string& unit) {
  return conversion.full_scale.empty() ? conversion.range_V : parse_quantity_as(conversion.full_scale, unit);
}

std::string further_delay(const Conversion& conversion) {
  std::string text;
  if (conversion.delay_s > 0) text = fmt::format("{:.3g} us of conversion", 1e6 * conversion.delay_s);
  if (conversion.filter_Hz > 0)
    text += fmt::format("{}the filter's {:.3g} us", text.empty() ? "" : ", ",
                        1e6 / (2 * std::numbers::pi * conversion.filter_Hz));
  return text;
}

std::string no_such_channel(const Terminals& at, const char* what, std::size_t channels, std::size_t has) {
  const std::size_t needed = static_cast<std::size_t>(at.first_channel) + channels;
  if (needed <= has) return {};
  return fmt::format("card {} has {} {}, and channel {} is wanted; change first_channel", at.card, has, what,
                     needed - 1);
}

void check_terminals(const Terminals& at, const std::string& place, std::size_t channels, Flaws& flaws) {
  std::vector<std::string> cards, devices;
  for (const Card* card : flaws.setup.bench.all<Card>()) cards.push_back(card->name);
  for (const Device& device : flaws.setup.bench.devices) devices.push_back(device.name);
  flaws.need_one_of(place, "card", at.card, cards, "card");
  if (!at.device.empty()) flaws.need_one_of(place, "device", at.device, devices, "device");
  if (!at.terminals.empty() && at.terminals.size() != channels)
    flaws.report(place, "terminals", fmt::format("{} labels for {} channels", at.terminals.size(), channels));
}

void check_conversion(const Conversion& conversion, const std::string& place, Flaws& flaws) {
  if (conversion.bits == 1) flaws.report(place, "bits", "a converter has 2 at least; 0: not rounded");
  for (const auto& [field, text] : {std::pair{"full_scale", &conversion.full_scale}}) {
    if (text->empty()) continue;
    try {
      (void)parse_quantity(*text);
    } catch (const Error& error) {
      flaws.report(place, field, error.what());
    }
  }
}

void check_inputs_of(const std::string& device, const std::vector<std::string>& inputs, std::size_t channels,
                     const std::string& place, Flaws& flaws) {
  if (inputs.size() != channels && !(inputs.empty() && device.empty()))
    flaws.report(place, "inputs",
                 device.empty() ? std::string("goes with `device`")
                                : fmt::format("{} names for {} channels", inputs.size(), channels));
}

std::string address_of(const Bench& bench, const std::string& card) {
  for (const Card* one : bench.all<Card>()) {
    if (one->name == card) return one->address.empty() ? one->name : one->address;
  }
  return card;
}

std::size_t tells_from(const Bench& bench, const std::string& device, const std::string& card) {
  std::size_t ahead = 0;
  for (const Device& other : bench.devices) {
    if (other.name == device) break;
    const auto ins = bench.all<ContactIn>();
    const bool same = std::any_of(ins.begin(), ins.end(), [&](const ContactIn* in) {
      return in->device == other.name && in->card == card;
    });
    if (other.at_terminals() && same) ++ahead;
  }
  return told_by_device * ahead;
}

RelayInput relay_input(const std::string& text) {
  static constexpr std::array<std::string_view, 6> names{"ia", "ib", "ic", "va", "vb", "vc"};
  RelayInput input;
  std::string_view name = text;
  if (const std::size_t dot = text.find('.'); dot == 1 && text[0] >= '1' && text[0] <= '8') {
    input.place = static_cast<std::size_t>(text[0] - '1');
    name.remove_prefix(2);
  }
  input.quantity = static_cast<std::size_t>(std::find(names.begin(), names.end(), name) - names.begin());
  return input;
}

}  // namespace zavrek::bench::internal
