// What the bench itself publishes to devices elsewhere: what they read that this process knows.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "zavrek/bench/port.hpp"

namespace zavrek::bench::internal {

/// Name and application identifier of its GOOSE message.
inline constexpr const char* bench_goose_id = "bench";
inline constexpr int bench_goose_appid = 0x3FFF;

/// The device and the output that "DEVICE.OUTPUT" names; null when no device does.
[[nodiscard]] std::pair<const Device*, std::string> owner_of(const Bench& bench, const std::string& point);
/// Whether a contact at its terminals brings this input of a device.
[[nodiscard]] bool comes_by_contact(const Bench& bench, const Device& device, const std::string& input);
/// Points that devices read and this process knows, in the order of the message's entries. `place` overrides
/// that of every device when not empty.
[[nodiscard]] std::vector<std::string> bench_published(const Bench& bench, const std::string& place);

/// The settings of a message that nobody reads in this run.
[[nodiscard]] std::unique_ptr<Port> make_idle_message(const std::string& name);

}  // namespace zavrek::bench::internal
