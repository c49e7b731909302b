#pragma once

#include <string>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::bench {

/// Keeps a stretch around each trigger in a file of its own, or all of a run in one that grows.
struct DisturbanceRecorder {
  std::string name;
  std::vector<std::string> records, triggers;
  double rate_Hz = network::unset;  ///< 80 per cycle when unset
  double before_s = 0.1, after_s = 0.4;
  double longest_s = network::unset;  ///< no further trigger lengthens it when unset
  double dead_s = 0;
  int at_most = 1000;
  std::string keeps = "captures";
  std::string format = "COMTRADE";
};

inline const network::Table& table(const DisturbanceRecorder*) {
  using network::Need;
  using network::within;
  static const network::Table built =
      network::TableOf<DisturbanceRecorder>(
          "disturbance_recorder",
          "waits for triggers and keeps what was before and behind each, in a file NAME-001 and so on of the "
          "folder that a run is told; NAME.triggered is on while it does")
          .texts(
              "records", &DisturbanceRecorder::records,
              "signals and points to keep: [\"VT1.v\", \"ferry.ia\", \"R1.trip\", \"Q1\"]; \"VT1.v\" stands "
              "for its three phases",
              Need::required)
          .texts(
              "triggers", &DisturbanceRecorder::triggers,
              "any of which begins a capture as it comes true: [\"R1.trip\", \"magnitude of CT1.ia above 3 "
              "kA\", "
              "\"rms of VT1.va below 5 kV and not Q2 for 20 ms\"]; a signal itself, its magnitude, its slope "
              "(\"above 2 kA/ms\"), its rms or its frequency is above or below a level, a point is on or "
              "\"not\"; \"and\" joins them, \"for\" is how long they hold")
          .quantity("rate", &DisturbanceRecorder::rate_Hz, "Hz", within(100, 1e6),
                    "samples per second; 80 per cycle when left out", Need::optional)
          .quantity("before", &DisturbanceRecorder::before_s, "ms", within(0, 60),
                    "what is kept ahead of a trigger")
          .quantity("after", &DisturbanceRecorder::after_s, "ms", within(0, 600), "and behind it")
          .quantity("longest", &DisturbanceRecorder::longest_s, "s", within(0, 600),
                    "a trigger within a capture keeps `after` behind itself too, until so long behind the "
                    "first; it lengthens nothing when left out",
                    Need::optional)
          .quantity("dead", &DisturbanceRecorder::dead_s, "s", within(0, 86'400),
                    "behind a capture no trigger counts for so long")
          .count("at_most", &DisturbanceRecorder::at_most, within(0, 100'000), "captures in one run")
          .choice("keeps", &DisturbanceRecorder::keeps, {"captures", "all"},
                  "a file for each trigger, or all that it records in one HDF5 file that grows, to be read "
                  "while it does, with the triggers among its events")
          .choice("format", &DisturbanceRecorder::format, {"COMTRADE", "CSV", "HDF5"}, "of the captures")
          .build();
  return built;
}

}  // namespace zavrek::bench
