#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// An operator's panel: a process of its own with switches and lamps, which `zavrek panel` is.
struct Panel {
  std::string name;
  std::vector<std::string> switches, lamps;
  int appid = 0x3000;
  int lamps_appid = 0x3001;
};

inline const network::Table& table(const Panel*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<Panel>(
          "panel",
          "an operator's panel, `zavrek panel CASE NAME` in another terminal: it operates contacts of the "
          "bench by GOOSE, and shows points by lamps")
          .texts("switches", &Panel::switches, "contacts of the bench: [\"remote\", \"order\"]",
                 Need::required)
          .texts("lamps", &Panel::lamps, "points that it shows: [\"Q1\", \"R1.trip\"]")
          .count("appid", &Panel::appid, within(0, 0x3FFE), "application identifier of its message")
          .count("lamps_appid", &Panel::lamps_appid, within(0, 0x3FFE), "of the message to it")
          .build();
  return built;
}

}  // namespace zavrek::bench
