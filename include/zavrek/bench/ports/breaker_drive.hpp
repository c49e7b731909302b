#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// What moves a breaker: coils, spring, auxiliary contacts.
struct BreakerDrive {
  std::string name;
  std::string breaker;
  std::vector<std::string> opens, closes, interlocks;
  double opening_time_s = 40e-3, closing_time_s = 60e-3, coil_time_s = 5e-3;
  double a_lag_s = 2e-3, b_lag_s = 4e-3;
  double charging_time_s = 5;
};

inline const network::Table& table(const BreakerDrive*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<BreakerDrive>(
          "breaker_drive",
          "a breaker's drive between its coils and its contacts: NAME.a and NAME.b are its auxiliary "
          "contacts, "
          "NAME.charged tells of its spring; it does not pump; settings for trials: NAME.stuck (0 or 1: it "
          "does not move), NAME.late (s, by which it opens later), NAME.empty (0 or 1: its spring is not "
          "charged again)")
          .text("breaker", &BreakerDrive::breaker,
                "breaker of the network; its own opening and closing times come on top", Need::required)
          .texts("opens", &BreakerDrive::opens,
                 "points that energise a trip coil: [\"R1.trip\", \"not MU1.healthy\"]", Need::required)
          .texts("closes", &BreakerDrive::closes, "points that energise the closing coil")
          .texts("interlocks", &BreakerDrive::interlocks,
                 "points all of which must hold for it to close: [\"not E1\"]")
          .quantity("opening_time", &BreakerDrive::opening_time_s, "ms", within(0, 10),
                    "from the energised coil to the parting of the contacts")
          .quantity("closing_time", &BreakerDrive::closing_time_s, "ms", within(0, 10),
                    "likewise to their touching")
          .quantity("coil_time", &BreakerDrive::coil_time_s, "ms", within(0, 1),
                    "a coil that is energised for less does nothing; it is part of both times")
          .quantity("a_lag", &BreakerDrive::a_lag_s, "ms", within(0, 1),
                    "by which auxiliary contact a (closed while the breaker is) follows its contacts")
          .quantity("b_lag", &BreakerDrive::b_lag_s, "ms", within(0, 1),
                    "likewise b (closed while it is open)")
          .quantity("charging_time", &BreakerDrive::charging_time_s, "s", within(0, 600),
                    "of its spring behind each closing; until then it does not close again")
          .build();
  return built;
}

}  // namespace zavrek::bench
