#pragma once

#include <string>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// IRIG-B as a point that a contact or a converter gives out.
struct TimeCode {
  std::string name;
  int local_minutes = 0;
};

inline const network::Table& table(const TimeCode*) {
  static const network::Table built =
      network::TableOf<TimeCode>(
          "time_code",
          "the time of the bench as IRIG-B (IRIG standard 200, with the year and the control functions of "
          "IEEE C37.118.1 annex F): NAME.level is a point for a contact_out or a message (B00x, without "
          "carrier), NAME.carrier a voltage of 1 V peak for an analogue_out (B12x, 1 kHz); a step is their "
          "resolution")
          .count("local_minutes", &TimeCode::local_minutes, network::within(-720, 840),
                 "by which its time is ahead of UTC")
          .build();
  return built;
}

}  // namespace zavrek::bench
