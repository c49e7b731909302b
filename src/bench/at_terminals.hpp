// What the ports at the terminals of cards share.
#pragma once

#include <string>
#include <vector>

#include "bench/make_port.hpp"
#include "zavrek/bench/ports/terminals.hpp"

namespace zavrek::bench::internal {

/// "a, b, c"
[[nodiscard]] std::string joined(const std::vector<std::string>& names);
/// What the terminal has at the range of the converter.
[[nodiscard]] double full_scale_of(const Conversion& conversion, const std::string& unit);
/// Delay of filter and conversion in words; empty when there is none.
[[nodiscard]] std::string further_delay(const Conversion& conversion);
/// Why its channels do not fit a card that has so many; empty when they do.
[[nodiscard]] std::string no_such_channel(const Terminals& at, const char* what, std::size_t channels,
                                          std::size_t has);

/// A card of the bench, and as many labels as channels, or none.
void check_terminals(const Terminals& at, const std::string& place, std::size_t channels, Flaws& flaws);
void check_conversion(const Conversion& conversion, const std::string& place, Flaws& flaws);
/// What the channels are to a device: as many names as channels, or none where there is no device.
void check_inputs_of(const std::string& device, const std::vector<std::string>& inputs, std::size_t channels,
                     const std::string& place, Flaws& flaws);

/// An input of a relay at its terminals, "ia" or "2.va": its place counted from 0, and which of ia ib ic va
/// vb vc; six where it is none of them.
struct RelayInput {
  std::size_t place = 0;
  std::size_t quantity = 6;
};
[[nodiscard]] RelayInput relay_input(const std::string& text);

/// Where a card of the bench is, as others are told.
[[nodiscard]] std::string address_of(const Bench& bench, const std::string& card);

/// From which place on a device tells what it measures and sees at a board: ia ib ic va vb vc of its first
/// place, then of its second; and its binary inputs in order. Each device of a board has `told_by_device` of
/// them; those that find no room tell nothing.
inline constexpr std::size_t told_by_device = 12;
[[nodiscard]] std::size_t tells_from(const Bench& bench, const std::string& device, const std::string& card);

}  // namespace zavrek::bench::internal
