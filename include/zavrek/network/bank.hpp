#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// A bank of capacitors.
struct Capacitor {
  std::string name;
  std::string bus;
  double reactive_var = unset;
  std::string connection = "star";
  std::string phases;
};

inline const Table& table(const Capacitor*) {
  static const Table built =
      TableOf<Capacitor>("capacitor", "bank of capacitors")
          .bus("bus", &Capacitor::bus, "bus that it stands at")
          .quantity("reactive", &Capacitor::reactive_var, "Mvar", above(0), "total, at nominal voltage")
          .choice("connection", &Capacitor::connection, {"star", "grounded star", "delta"}, "of its phases")
          .text("phases", &Capacitor::phases, "such as \"a\" or \"bc\"; all of the bus when left out",
                Need::optional)
          .gives("i#", "A", "current into it from its bus")
          .build();
  return built;
}

/// A bank of reactors.
struct Reactor {
  std::string name;
  std::string bus;
  double reactive_var = unset;
  double quality = 100;
  double knee = unset;
  double air_core = 0.4;
  std::string connection = "star";
  std::string phases;
};

inline const Table& table(const Reactor*) {
  static const Table built =
      TableOf<Reactor>("reactor", "bank of shunt reactors")
          .bus("bus", &Reactor::bus, "bus that it stands at")
          .quantity("reactive", &Reactor::reactive_var, "Mvar", above(0), "total, at nominal voltage")
          .quantity("quality", &Reactor::quality, "", above(0), "reactance over resistance")
          .quantity("knee", &Reactor::knee, "", above(0.5),
                    "flux at which it saturates, of the rated peak: two straight lines; no saturation when "
                    "left out",
                    Need::optional)
          .quantity("air_core", &Reactor::air_core, "", within(0.01, 0.99),
                    "inductance beyond the knee, of that below it")
          .choice("connection", &Reactor::connection, {"star", "grounded star", "delta"}, "of its phases")
          .text("phases", &Reactor::phases, "such as \"a\" or \"bc\"; all of the bus when left out",
                Need::optional)
          .gives("i#", "A", "current into it from its bus")
          .gives("flux#", "V s", "flux linkage, where it saturates")
          .build();
  return built;
}

/// A harmonic filter: capacitor in series with a reactor, damped by a resistance across the reactor where
/// given.
struct HarmonicFilter {
  std::string name;
  std::string bus;
  double reactive_var = unset;
  double order = unset;
  double quality = 50;
  double damping_ohm = unset;
  std::string connection = "star";
};

inline const Table& table(const HarmonicFilter*) {
  static const Table built =
      TableOf<HarmonicFilter>("filter", "harmonic filter: capacitor in series with a reactor")
          .bus("bus", &HarmonicFilter::bus, "bus that it stands at")
          .quantity("reactive", &HarmonicFilter::reactive_var, "Mvar", above(0),
                    "total, delivered at nominal voltage and frequency")
          .quantity("order", &HarmonicFilter::order, "", above(1), "tuned frequency over nominal frequency")
          .quantity("quality", &HarmonicFilter::quality, "", above(0),
                    "of the reactor at the tuned frequency")
          .quantity("damping", &HarmonicFilter::damping_ohm, "ohm", above(0),
                    "resistance across the reactor (high-pass); none when left out", Need::optional)
          .choice("connection", &HarmonicFilter::connection, {"star", "grounded star", "delta"},
                  "of its phases")
          .gives("i#", "A", "current into it from its bus")
          .build();
  return built;
}

/// A surge arrester per phase to ground, by its voltage-current points.
struct Arrester {
  std::string name;
  std::string bus;
  Points curve;
};

inline const Table& table(const Arrester*) {
  static const Table built =
      TableOf<Arrester>("arrester",
                        "surge arresters from the phases to ground, straight between their points")
          .bus("bus", &Arrester::bus, "bus that they protect")
          .points("curve", &Arrester::curve, "kV", "A",
                  "voltage and current, rising, such as [\"20 kV: 1 mA\", \"28 kV: 1 kA\", \"33 kV: 10 kA\"]",
                  Need::required)
          .gives("i#", "A", "current into it from its bus")
          .build();
  return built;
}

}  // namespace zavrek::network
