#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A voltage source behind the short-circuit impedance of the system it stands for. Without
/// `short_circuit` it is stiff: the bus voltage is imposed.
struct Source {
  std::string name;
  std::string bus;
  double voltage_V = unset;  ///< rms between phases (three phases), rms to ground (one phase), or d.c.
  double angle_rad = 0;      ///< of phase a as a cosine
  double frequency_Hz = unset;
  double short_circuit_VA = unset;
  double x_over_r = 10;
  double z0_over_z1 = 1;
  double x0_over_r0 = 10;
  Points harmonics;                              ///< order to share of the voltage
  Points magnitude_programme;                    ///< factor over time
  Points angle_programme;                        ///< rad over time, added to the angle
  Points frequency_programme;                    ///< Hz over time
  Points magnitude_a, magnitude_b, magnitude_c;  ///< factors on a phase over time
  Points angle_a, angle_b, angle_c;              ///< rad over time, added to the angle of a phase
  double noise = 0;                              ///< rms, of the rms of the voltage
  double noise_bandwidth_Hz = 2000;
  int noise_seed = 1;
  std::string playback;  ///< COMTRADE file, relative to the case
  std::vector<std::string> playback_channels;
  std::vector<double> playback_time_s;               ///< read from `playback`
  std::vector<std::vector<double>> playback_values;  ///< V to ground, per channel
};

inline const Table& table(const Source*) {
  static const Table built =
      TableOf<Source>("source", "voltage source behind a short-circuit impedance, or stiff without one")
          .bus("bus", &Source::bus, "bus that it feeds")
          .quantity("voltage", &Source::voltage_V, "kV", at_least(0),
                    "open-circuit voltage, rms between phases (to ground on a one-phase bus; the level when "
                    "the frequency is 0 Hz); the nominal voltage of the bus when left out",
                    Need::optional)
          .quantity("angle", &Source::angle_rad, "deg", any(), "angle of phase a, as a cosine")
          .quantity("frequency", &Source::frequency_Hz, "Hz", at_least(0),
                    "the frequency of the network when left out", Need::optional)
          .quantity("short_circuit", &Source::short_circuit_VA, "MVA", above(0),
                    "three-phase short-circuit power; stiff when left out", Need::optional)
          .quantity("x_over_r", &Source::x_over_r, "", above(0), "ratio X1/R1 of the positive sequence")
          .quantity("z0_over_z1", &Source::z0_over_z1, "", above(0), "magnitude of Z0 over that of Z1")
          .quantity("x0_over_r0", &Source::x0_over_r0, "", above(0), "ratio X0/R0 of the zero sequence")
          .points("harmonics", &Source::harmonics, "", "%",
                  "order and share of the voltage, such as [\"5: 3 %\", \"7: 2 %\"]")
          .programme(
              "magnitude_programme", &Source::magnitude_programme, "",
              "factor on the voltage over time, straight between, such as [\"0.5 s: 1\", \"0.6 s: 0.7\"]; "
              "two pairs of one instant are a jump")
          .programme(
              "angle_programme", &Source::angle_programme, "deg",
              "what is added to the angle over time, likewise, such as [\"1 s: 0 deg\", \"1 s: 8 deg\"]")
          .programme("frequency_programme", &Source::frequency_programme, "Hz",
                     "frequency over time, likewise, such as [\"1 s: 50 Hz\", \"3 s: 48 Hz\"]")
          .programme("magnitude_a", &Source::magnitude_a, "",
                     "factor on phase a alone over time, likewise, beside magnitude_programme")
          .programme("magnitude_b", &Source::magnitude_b, "", "of phase b")
          .programme("magnitude_c", &Source::magnitude_c, "", "of phase c")
          .programme("angle_a", &Source::angle_a, "deg",
                     "what is added to the angle of phase a alone over time, likewise")
          .programme("angle_b", &Source::angle_b, "deg", "of phase b")
          .programme("angle_c", &Source::angle_c, "deg", "of phase c")
          .quantity("noise", &Source::noise, "%", at_least(0),
                    "rms, of the rms of the voltage; each phase has its own")
          .quantity("noise_bandwidth", &Source::noise_bandwidth_Hz, "kHz", above(0),
                    "of the noise: straight lines between random values twice as often")
          .count("noise_seed", &Source::noise_seed, at_least(0), "of its random numbers")
          .text("playback", &Source::playback,
                "COMTRADE record whose voltages it plays instead, relative to the case", Need::optional)
          .texts("playback_channels", &Source::playback_channels, "its channels for the phases of the bus")
          .supplies()
          .gives("i#", "A", "current out of it, into its bus")
          .build();
  return built;
}

}  // namespace zavrek::network
