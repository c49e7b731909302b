#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Ideal current transformers in the phases of one element.
struct CurrentTransformer {
  std::string name;
  std::string on;
  std::string end = "near";
  double primary_A = unset;
  double secondary_A = 1;
};

inline const Table& table(const CurrentTransformer*) {
  static const Table built =
      TableOf<CurrentTransformer>("ct", "current transformers, ideal ratio; signals are secondary amperes")
          .element("on", &CurrentTransformer::on, "element whose current they carry, positive into it")
          .choice("end", &CurrentTransformer::end, {"near", "far"}, "first or second bus of that element")
          .quantity("primary", &CurrentTransformer::primary_A, "A", above(0), "rated primary current")
          .quantity("secondary", &CurrentTransformer::secondary_A, "A", above(0), "rated secondary current")
          .build();
  return built;
}

}  // namespace zavrek::network
