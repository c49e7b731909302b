#include "bench/bus_address.hpp"

#include <algorithm>
#include <array>
#include <memory>

#include <arpa/inet.h>
#include <fmt/format.h>

namespace zavrek::bench::internal {

wire::StreamPlace stream_place_of(const BusAddress& address, wire::StreamPlace::Kind kind) {
  wire::StreamPlace place;
  place.kind = address.line.empty() ? kind : wire::StreamPlace::Kind::line;
  place.address = address.address;
  place.port = address.port;
  place.path = address.line;
  place.bits_per_s = address.speed;
  place.parity = address.parity == "even" ? 'E' : address.parity == "odd" ? 'O' : 'N';
  return place;
}

void check_bus_address(Flaws& flaws, const std::string& place, const BusAddress& address) {
  std::array<unsigned char, 16> ignored{};
  if (::inet_pton(AF_INET, address.address.c_str(), ignored.data()) != 1 &&
      ::inet_pton(AF_INET6, address.address.c_str(), ignored.data()) != 1)
    flaws.report(place, "address",
                 fmt::format("\"{}\" is no address; write one such as \"127.0.0.1\"", address.address));
  constexpr std::array speeds{1200, 2400, 4800, 9600, 19'200, 38'400, 57'600, 115'200};
  if (std::find(speeds.begin(), speeds.end(), address.speed) == speeds.end())
    flaws.report(
        place, "speed",
        fmt::format("{} is none of 1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200", address.speed));
}

}  // namespace zavrek::bench::internal
