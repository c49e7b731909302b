// What the ports of a device share, wherever it is and however it is connected.
#pragma once

#include <memory>

#include "bench/make_port.hpp"
#include "bench/output_points.hpp"

namespace zavrek::bench::internal {

/// What its trip and its further outputs open and close.
void wire_outputs(const Device& device, Exchange& exchange, OutputPoints& points);

/// A relay whose currents, voltages, inputs and outputs stand at terminals.
[[nodiscard]] std::unique_ptr<Port> make_relay_at_terminals(const Device& device, const RunPlan& plan);

}  // namespace zavrek::bench::internal
