#pragma once

#include "bench/make_port.hpp"
#include "zavrek/bench/ports/bus_address.hpp"
#include "zavrek/wire/stream_driver.hpp"

namespace zavrek::bench::internal {

/// `kind` where it is no line.
[[nodiscard]] wire::StreamPlace stream_place_of(const BusAddress& address, wire::StreamPlace::Kind kind);
void check_bus_address(Flaws& flaws, const std::string& place, const BusAddress& address);

}  // namespace zavrek::bench::internal
