#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A GOOSE message (IEC 61850-8-1) of somebody else that the bench reads: each entry is a point or a number
/// "NAME.ENTRY".
struct Subscription {
  std::string name;  ///< and the publisher's identifier, where `id` is empty
  std::string id;
  std::vector<std::string> entries;  ///< names for those of its data set, in order
  std::vector<std::string> opens;    ///< "WHAT: ENTRY"
  std::vector<std::string> closes;   ///< "WHAT: ENTRY"
  std::vector<std::string> sets;     ///< "WHAT: ENTRY"
  int appid = 1;
  int revision = 0;    ///< 0: any
  std::string source;  ///< hardware address that it publishes from; empty: that of its first message
  std::string when_silent = "end";  ///< see `table`
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
};

inline const network::Table& table(const Subscription*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<Subscription>(
          "subscription",
          "a GOOSE message (IEC 61850-8-1) that the bench reads; NAME.ENTRY is on or off, or a number; "
          "settings for trials: NAME.loss, delay, jitter, duplicates, disorder, corruption (of its frames), "
          "NAME.accepts_test, NAME.accepts_simulated (0 or 1)")
          .text("id", &Subscription::id, "identifier (goID) of the publisher; the name when left out",
                Need::optional)
          .text("source", &Subscription::source,
                "hardware address that it publishes from (\"02-5a-00-00-00-01\"); that of its first message "
                "when left out",
                Need::optional)
          .texts("entries", &Subscription::entries,
                 "names for its data set, in order: \"trip\" (on or off: a boolean, or a position, on while "
                 "closed), \"p as float\", \"tap as integer\" (numbers), \"[ a b - d ]\" (bits of a string), "
                 "\"quality of trip\" (what is not "
                 "good, or under test, is not taken), \"time of trip\", \"-\" for what is passed over, and "
                 "\"{ trip, quality of trip, time of trip }\" for a structure; those of the configuration "
                 "(`scl`) when left out")
          .texts("opens", &Subscription::opens,
                 "breakers, contactors or gates that an entry opens when it rises: [\"Q1: trip\"]")
          .texts("closes", &Subscription::closes, "those that it closes: [\"Q1: close\"]")
          .texts("sets", &Subscription::sets,
                 "knobs of the plant or of its control that a number sets: [\"park.active_wanted: p\"]")
          .count("appid", &Subscription::appid, within(0, 0x3FFF), "application identifier of its frames")
          .count("revision", &Subscription::revision, within(0, 1'000'000'000),
                 "confRev that its data set was read for; others are not used; 0 for any")
          .choice(
              "when_silent", &Subscription::when_silent, {"end", "keep", "off"},
              "what becomes of the run when the publisher breaks its promise to be heard again "
              "(timeAllowedtoLive): it ends, or goes on with the last state, or with all that is on or off "
              "turned off")
          .build();
  return built;
}

}  // namespace zavrek::bench
