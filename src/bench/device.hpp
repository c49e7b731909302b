// What the ports of a device share, wherever it is and however it is connected.
#pragma once

#include <memory>

#include "bench/make_port.hpp"
#include "bench/output_points.hpp"

namespace zavrek::bench::internal {

/// What its trip and its further outputs open and close.
void wire_outputs(const Device& device, Exchange& exchange, OutputPoints& points);

/// The messages under which a device is heard, of so many entries at least.
[[nodiscard]] wire::Followed followed_as(const Device& device, const std::string& source,
                                         std::size_t entries);
/// What a stand-in is told of its messages, and of those that bring its inputs.
[[nodiscard]] std::vector<std::string> message_words(const Setup& setup, const Device& device,
                                                     const std::string& place, const std::string& source,
                                                     const Opening& how);

/// A relay whose currents, voltages, inputs and outputs stand at terminals.
[[nodiscard]] std::unique_ptr<Port> make_relay_at_terminals(const Device& device, const RunPlan& plan);

}  // namespace zavrek::bench::internal
