#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// An ideal current, into the phases of a bus or between two terminals.
struct CurrentSource {
  std::string name;
  std::string bus;
  std::string from, to;
  double current_A = unset;
  double angle_rad = 0;
  double frequency_Hz = unset;
  Points harmonics;
  Points magnitude_programme;
  Points angle_programme;
  Points frequency_programme;
  double noise = 0;
  double noise_bandwidth_Hz = 2000;
  int noise_seed = 1;
};

inline const Table& table(const CurrentSource*) {
  static const Table built =
      TableOf<CurrentSource>("current_source",
                             "ideal current, from ground into a bus or between two terminals")
          .bus("bus", &CurrentSource::bus, "bus that it feeds", Need::optional)
          .text("from", &CurrentSource::from, "terminal that it takes its current from, instead of a bus",
                Need::optional)
          .text("to", &CurrentSource::to, "terminal that it gives it to, such as \"dc.p\"", Need::optional)
          .quantity("current", &CurrentSource::current_A, "A", any(),
                    "rms per phase; the level when the frequency is 0 Hz")
          .quantity("angle", &CurrentSource::angle_rad, "deg", any(), "of phase a, as a cosine")
          .quantity("frequency", &CurrentSource::frequency_Hz, "Hz", at_least(0),
                    "the frequency of the network when left out", Need::optional)
          .points("harmonics", &CurrentSource::harmonics, "", "%",
                  "order and share of the current, such as [\"5: 20 %\", \"7: 14 %\"]")
          .programme("magnitude_programme", &CurrentSource::magnitude_programme, "",
                     "factor on the current over time, as of a source")
          .programme("angle_programme", &CurrentSource::angle_programme, "deg",
                     "what is added to the angle over time")
          .programme("frequency_programme", &CurrentSource::frequency_programme, "Hz", "frequency over time")
          .quantity("noise", &CurrentSource::noise, "%", at_least(0),
                    "rms, of its rms; each phase has its own")
          .quantity("noise_bandwidth", &CurrentSource::noise_bandwidth_Hz, "kHz", above(0),
                    "of the noise: straight lines between random values twice as often")
          .count("noise_seed", &CurrentSource::noise_seed, at_least(0), "of its random numbers")
          .supplies()
          .gives("i#", "A", "current out of it, into its bus (or from `from` to `to`)")
          .build();
  return built;
}

}  // namespace zavrek::network
