#pragma once

#include <string>

#include "zavrek/network/field.hpp"
#include "zavrek/wire/ethernet.hpp"

namespace zavrek::bench {

/// Where frames go that the bench sends.
struct Addressed {
  std::string destination;
  bool tagged = true;
  int vlan = 0;
  int priority = 4;

  /// As `usual` has it but for what is said otherwise; from this process.
  [[nodiscard]] wire::Address address(wire::Address usual) const {
    usual.source = wire::own_source();
    if (!destination.empty()) usual.destination = wire::parse_mac_address(destination);
    usual.vlan.reset();
    if (tagged) usual.vlan = wire::Vlan{priority, vlan};
    return usual;
  }
};

/// Its fields in the table of a port that has them.
template <class Kind>
network::TableOf<Kind>& add_addressed(network::TableOf<Kind>& table) {
  using network::within;
  return table
      .text("destination", &Kind::destination,
            "hardware address that its frames go to; that of IEC 61850-8-1 annex B, with the last bytes of "
            "appid, when left out",
            network::Need::optional)
      .flag("tagged", &Kind::tagged, "whether its frames have a VLAN tag")
      .count("vlan", &Kind::vlan, within(0, 4095), "identifier of its VLAN")
      .count("priority", &Kind::priority, within(0, 7), "of its frames in the VLAN");
}

}  // namespace zavrek::bench
