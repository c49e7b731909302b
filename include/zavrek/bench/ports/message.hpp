#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/addressed.hpp"
#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A GOOSE message (IEC 61850-8-1) that the bench publishes.
struct Message : Addressed {
  std::string name;  ///< and its identifier, where `id` is empty
  std::string id;
  std::vector<std::string> entries;  ///< in the order of its data set
  int appid = 1;
  std::string control_block, data_set;  ///< references; of its identifier where empty
  int revision = 1;
  double first_repeat_s = 0.002, slowest_repeat_s = 0.5;
  [[nodiscard]] const std::string& identifier() const { return id.empty() ? name : id; }
};

inline const network::Table& table(const Message*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      add_addressed(
          network::TableOf<Message>("message",
                                    "a GOOSE message (IEC 61850-8-1) that the bench publishes; settings for "
                                    "trials: NAME.loss, delay, "
                                    "jitter, duplicates, disorder, corruption (of its frames), NAME.test, "
                                    "invalid (of its qualities), "
                                    "simulation, needs_commissioning, silent, restart (0 or 1)")
              .text("id", &Message::id, "its identifier (goID); its name when left out", Need::optional)
              .texts(
                  "entries", &Message::entries,
                  "its data set: \"Q1\" (a boolean: breakers, switches and contactors, on while closed, "
                  "outputs "
                  "of devices such as \"R1.start\", contacts \"bench.remote\", signals, on above one half), "
                  "\"Q1 as position\" (of two bits), \"T1.p as float within 10 kW\" (sent anew when it moves "
                  "further), \"T1.tap as integer\", \"as natural\", \"quality of Q1\", \"time of Q1\" (of "
                  "its "
                  "last change), \"[ Q1 E1 - R1.trip ]\" for a bit string (\"-\" is a bit of nothing), and "
                  "\"{ Q1 as "
                  "position, quality of Q1, time of Q1 }\" for a structure",
                  Need::required)
              .count("appid", &Message::appid, within(0, 0x3FFF), "application identifier of its frames")
              .text("control_block", &Message::control_block,
                    "reference of its control block (gocbRef); NAMELD0/LLN0$GO$outputs when left out",
                    Need::optional)
              .text("data_set", &Message::data_set,
                    "reference of its data set (datSet); NAMELD0/LLN0$outputs when left out", Need::optional)
              .count("revision", &Message::revision, within(0, 1'000'000'000), "confRev of its frames")
              .quantity("first_repeat", &Message::first_repeat_s, "ms", within(0.001, 60),
                        "from a change to its first repetition; each further one comes after twice as long")
              .quantity(
                  "slowest_repeat", &Message::slowest_repeat_s, "ms", within(0.001, 60),
                  "between repetitions at most; what is promised (timeAllowedtoLive) is twice the next, at "
                  "least 200 ms"))
          .build();
  return built;
}

}  // namespace zavrek::bench
