#include <cmath>
#include <limits>

#include "zavrek/protection/curve.hpp"

namespace zavrek::protection {

std::span<const Curve> curves() {
  static const Curve all[] = {
      {"IEC normal inverse", 0.14, 0.02, 0, 13.5},
      {"IEC very inverse", 13.5, 1, 0, 47.3},
      {"IEC extremely inverse", 80, 2, 0, 80},
      {"IEC long time inverse", 120, 1, 0, 120},
      {"IEEE moderately inverse", 0.0515, 0.02, 0.114, 4.85},
      {"IEEE very inverse", 19.61, 2, 0.491, 21.6},
      {"IEEE extremely inverse", 28.2, 2, 0.1217, 29.1},
  };
  return all;
}

const Curve* find_curve(std::string_view name) {
  for (const Curve& curve : curves()) {
    if (curve.name == name) return &curve;
  }
  return nullptr;
}

double Curve::time_s(double multiple, double time_multiplier) const {
  if (!(multiple > 1)) return std::numeric_limits<double>::infinity();
  return time_multiplier * (a_s / (std::pow(multiple, p) - 1) + b_s);
}

double Curve::reset_time_s(double multiple, double time_multiplier) const {
  if (!(multiple < 1)) return std::numeric_limits<double>::infinity();
  return time_multiplier * reset_s / (1 - multiple * multiple);
}

}  // namespace zavrek::protection
