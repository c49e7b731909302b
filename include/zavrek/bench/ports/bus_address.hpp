#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Where a field bus is: an address and a port of TCP, or a serial line.
struct BusAddress {
  std::string address = "127.0.0.1";
  int port = 0;
  std::string line;
  int speed = 9600;
  std::string parity = "none";
};

template <class Port>
network::TableOf<Port> add_bus_address(network::TableOf<Port> table, const char* what_port_is) {
  using network::Need;
  using network::within;
  table
      .text("address", &Port::address,
            "IP address, of this computer where it serves; 0.0.0.0 for all of its own", Need::optional)
      .count("port", &Port::port, within(0, 65'535), what_port_is)
      .text("line", &Port::line,
            "serial line in place of TCP: \"/dev/ttyS0\", or \"pty:PATH\" for a pseudo-terminal that is made "
            "and "
            "found at PATH",
            Need::optional)
      .count("speed", &Port::speed, within(1200, 115'200), "of the line, bits a second")
      .choice("parity", &Port::parity, {"none", "even", "odd"}, "of the line");
  return table;
}

}  // namespace zavrek::bench
