#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A node on a controller area network.
struct CanBus {
  std::string name;
  std::string database;
  std::string database_text;  ///< what stands in that file
  std::string medium = "239.74.163.2:43113";
  std::vector<std::string> sends, sends_states, reads, reads_states;
  std::vector<std::string> at_change, counters, checksums;
  double least_gap_s = 0.001, timeout_s = 0;
};

inline const network::Table& table(const CanBus*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<CanBus>("can_bus",
                               "a node on a controller area network: messages and signals by a database "
                               "file; point NAME.alive: all that "
                               "it reads has come lately; settings for trials: NAME.silent, NAME.cut (0 or "
                               "1: it sends and reads nothing)")
          .text("database", &CanBus::database,
                "file in the common text form (BO_, SG_ ...), relative to the case; cycles are its "
                "GenMsgCycleTime",
                Need::required)
          .text("medium", &CanBus::medium,
                "\"can0\" of this computer (SocketCAN), or a group and port of datagrams that carry its "
                "frames here",
                Need::optional)
          .texts("sends", &CanBus::sends,
                 "numbers as signals: \"Drive.speed: machine.speed\", \"Drive.power: battery.p in kW within "
                 "1 kW\" "
                 "(one in the database is 1 kW)")
          .texts("sends_states", &CanBus::sends_states, "what is on or off as signals: \"Drive.main: Q1\"")
          .texts("reads", &CanBus::reads, "signals that are set here: \"Vehicle.torque: wanted\"")
          .texts("reads_states", &CanBus::reads_states,
                 "signals that open and close here: \"Vehicle.main: Q1\"")
          .texts("at_change", &CanBus::at_change,
                 "messages that go at once when something in them has moved: [\"Drive\"]")
          .texts("counters", &CanBus::counters,
                 "signals that count what is sent, and are watched in what is read: [\"Drive.count\"]")
          .texts("checksums", &CanBus::checksums,
                 "signals of one octet over all others of their message: [\"Drive.check: crc8\"] (of SAE "
                 "J1850), sum, "
                 "exclusive_or")
          .quantity("least_gap", &CanBus::least_gap_s, "ms", within(0.0001, 60),
                    "between two of a message that goes at a change")
          .quantity("timeout", &CanBus::timeout_s, "ms", within(0, 3600),
                    "without which what is read counts as gone; 0: three of its cycles")
          .build();
  return built;
}

}  // namespace zavrek::bench
