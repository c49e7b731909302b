#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Current transformers in the phases of one element: ideal, or with burden, saturation and remanence.
struct CurrentTransformer {
  std::string name;
  std::string on;
  std::string end = "near";
  double primary_A = unset;
  double secondary_A = 1;
  double knee_V = unset;
  double knee_current_A = 0.03;
  double winding_resistance_ohm = 2;
  double burden_resistance_ohm = 2.5;
  double burden_inductance_H = 0;
  double remanence = 0;
};

inline const Table& table(const CurrentTransformer*) {
  static const Table built =
      TableOf<CurrentTransformer>(
          "ct", "current transformers, ideal or with burden and saturation; signals are secondary amperes")
          .element("on", &CurrentTransformer::on, "element whose current they carry, positive into it")
          .choice("end", &CurrentTransformer::end, {"near", "far"}, "first or second bus of that element")
          .quantity("primary", &CurrentTransformer::primary_A, "A", above(0), "rated primary current")
          .quantity("secondary", &CurrentTransformer::secondary_A, "A", above(0), "rated secondary current")
          .quantity("knee", &CurrentTransformer::knee_V, "V", above(0),
                    "knee-point voltage, rms on the secondary (IEC 61869-2 class PX); ideal when left out",
                    Need::optional)
          .quantity("knee_current", &CurrentTransformer::knee_current_A, "A", above(0),
                    "magnetising current there, rms; beyond, ten per cent more flux takes half as much "
                    "again, without "
                    "hysteresis")
          .quantity("winding_resistance", &CurrentTransformer::winding_resistance_ohm, "ohm", at_least(0),
                    "of the secondary")
          .quantity("burden_resistance", &CurrentTransformer::burden_resistance_ohm, "ohm", at_least(0),
                    "with its leads")
          .quantity("burden_inductance", &CurrentTransformer::burden_inductance_H, "mH", at_least(0),
                    "in series with it")
          .quantity("remanence", &CurrentTransformer::remanence, "%", within(-1, 1),
                    "flux left in the core at the start, of that at the knee")
          .gives("i#", "A", "secondary current; positive as its element's is")
          .gives("flux#", "V s", "flux linkage of its core, where it saturates")
          .build();
  return built;
}

}  // namespace zavrek::network
