#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A GOOSE message (IEC 61850-8-1) that the bench publishes.
struct Message {
  std::string name;  ///< and its identifier, where `id` is empty
  std::string id;
  std::vector<std::string> entries;  ///< two-state points, in the order of its data set
  int appid = 1;
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
};

inline const network::Table& table(const Message*) {
  static const network::Table built =
      network::TableOf<Message>("message", "a GOOSE message (IEC 61850-8-1) that the bench publishes")
          .text("id", &Message::id, "its identifier (goID); its name when left out", network::Need::optional)
          .texts("entries", &Message::entries,
                 "booleans of its data set: breakers, switches and contactors (on while closed), outputs of "
                 "devices (\"R1.start\"), contacts (\"bench.remote\"), or signals (on above one half)",
                 network::Need::required)
          .count("appid", &Message::appid, network::within(0, 0x3FFE), "application identifier of its frames")
          .build();
  return built;
}

}  // namespace zavrek::bench
