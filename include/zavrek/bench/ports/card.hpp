#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Converters and contacts that terminals hang on.
struct Card {
  std::string name;
  std::string library;
  std::string address;
};

inline const network::Table& table(const Card*) {
  using network::Need;
  static const network::Table built =
      network::TableOf<Card>(
          "card", "converters and contacts: a terminal board in shared memory, or hardware by its driver")
          .text(
              "library", &Card::library,
              "driver of the card, a shared library that implements zavrek/card.h, relative to the case; it "
              "runs in the tool's process. A terminal board (\"/dev/shm/zavrek-ADDRESS\", see "
              "zavrek/card.hpp) when left out",
              Need::optional)
          .text("address", &Card::address, "which one, as the driver understands it; the name when left out",
                Need::optional)
          .build();
  return built;
}

}  // namespace zavrek::bench
