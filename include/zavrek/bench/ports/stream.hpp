#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// A merging unit: the currents of a CT and the voltages of a VT as one stream of samples, 80 per cycle.
struct Stream {
  std::string name;
  std::string ct;
  std::string vt;
  int appid = 0x4000;
};

inline const network::Table& table(const Stream*) {
  static const network::Table built =
      network::TableOf<Stream>(
          "stream",
          "sampled values of one merging unit (IEC 61850-9-2), 80 samples per cycle, primary values")
          .element("ct", &Stream::ct, "current transformers that it samples")
          .element("vt", &Stream::vt, "voltage transformers that it samples")
          .count("appid", &Stream::appid, network::within(0x4000, 0x7FFF),
                 "application identifier of its frames")
          .build();
  return built;
}

}  // namespace zavrek::bench
