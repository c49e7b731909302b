#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A GOOSE message (IEC 61850-8-1) of somebody else that the bench reads: each entry is a point "NAME.ENTRY".
struct Subscription {
  std::string name;  ///< and the publisher's identifier, where `id` is empty
  std::string id;
  std::vector<std::string> entries;  ///< names for those of its data set, in order
  std::vector<std::string> opens;    ///< "WHAT: ENTRY"
  std::vector<std::string> closes;   ///< "WHAT: ENTRY"
  int appid = 1;
  std::string source;  ///< hardware address that it publishes from; empty: that of its first message
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
};

inline const network::Table& table(const Subscription*) {
  static const network::Table built =
      network::TableOf<Subscription>(
          "subscription", "a GOOSE message (IEC 61850-8-1) that the bench reads; NAME.ENTRY is on or off")
          .text("id", &Subscription::id, "identifier (goID) of the publisher; the name when left out",
                network::Need::optional)
          .text("source", &Subscription::source,
                "hardware address that it publishes from (\"02-5a-00-00-00-01\"); that of its first message "
                "when "
                "left out",
                network::Need::optional)
          .texts("entries", &Subscription::entries, "names for the booleans of its data set, in order",
                 network::Need::required)
          .texts("opens", &Subscription::opens,
                 "breakers, contactors or gates that an entry opens when it rises: [\"Q1: trip\"]")
          .texts("closes", &Subscription::closes, "those that it closes: [\"Q1: close\"]")
          .count("appid", &Subscription::appid, network::within(0, 0x3FFE),
                 "application identifier of its frames")
          .build();
  return built;
}

}  // namespace zavrek::bench
