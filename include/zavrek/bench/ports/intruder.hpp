#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Somebody who speaks under another's identity, or floods the network, while a trial asks for it.
struct Intruder {
  std::string name;
  std::string as;
};

inline const network::Table& table(const Intruder*) {
  static const network::Table built =
      network::TableOf<Intruder>(
          "intruder",
          "somebody on the network who should not be there; settings for trials: NAME.forged (frames a "
          "second "
          "under the identity of `as` from another address: messages with all entries on, samples that are "
          "zero), NAME.ahead (by how many states or samples those are ahead), NAME.rubbish (frames a second "
          "of "
          "random bytes under its application identifier)")
          .text("as", &Intruder::as,
                "whose identity it takes: a device, a message, a subscription or a stream",
                network::Need::required)
          .build();
  return built;
}

}  // namespace zavrek::bench
