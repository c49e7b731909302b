#pragma once

#include <cmath>
#include <numbers>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// What a source of voltage or of current says of its course over time, at a peak (or a level, where omega is
/// 0).
template <class Source>
[[nodiscard]] Waveform shape_of(const Source& source, double peak, double omega) {
  Waveform shape(peak, omega, source.angle_rad);
  for (const auto& [order, share] : source.harmonics) shape.add_harmonic({order, share, 0});
  shape.set_magnitude(source.magnitude_programme);
  shape.set_angle(source.angle_programme);
  shape.set_frequency(source.frequency_programme);
  const double rms = std::abs(peak) / (omega == 0 ? 1 : std::numbers::sqrt2);
  if (source.noise > 0) shape.set_noise(source.noise * rms, source.noise_bandwidth_Hz, source.noise_seed);
  return shape;
}

/// The currents of stiff sources, as signals: what all else draws from their nodes, so they come behind it.
void assemble_stiff_currents(Assembly& assembly);

}  // namespace zavrek::emt::internal
