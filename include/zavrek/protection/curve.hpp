// Inverse-time characteristics of overcurrent stages.
#pragma once

#include <span>
#include <string>
#include <string_view>

namespace zavrek::protection {

/// Operating time t = T (a / (M^p - 1) + b) and reset time t = T r / (1 - M^2), M the multiple of pickup,
/// T the time multiplier: IEC 60255-151:2009 annex A, IEEE C37.112-2018.
struct Curve {
  std::string name;
  double a_s = 0;
  double p = 1;
  double b_s = 0;
  double reset_s = 0;
  /// Infinite at and below pickup.
  [[nodiscard]] double time_s(double multiple, double time_multiplier) const;
  /// From full travel to rest at a constant multiple below 1; infinite at and above it.
  [[nodiscard]] double reset_time_s(double multiple, double time_multiplier) const;
};
[[nodiscard]] std::span<const Curve> curves();
/// Null when no curve has that name.
[[nodiscard]] const Curve* find_curve(std::string_view name);

}  // namespace zavrek::protection
