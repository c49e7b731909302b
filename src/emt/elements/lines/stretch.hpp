// A stretch of conductors beside each other, of one line or of several: travelling waves, with constant
// parameters or such that follow the frequency, or a pi section where waves cross it in less than a step.
#pragma once

#include <string>
#include <vector>

#include "emt/elements/lines/line_values.hpp"
#include "emt/elements/lines/pi_section.hpp"
#include "emt/lines/modal.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

/// How parameters that follow the frequency are fitted.
struct LineFit {
  bool follows = false;
  bool in_phases = false;
  double from_Hz = 0, to_Hz = 0;
  int poles = 0;
};
template <class T>
[[nodiscard]] LineFit fit_of(const T& e) {
  return {e.parameters == "frequency", e.fit_in == "phases", e.fit_from_Hz, e.fit_to_Hz, e.fit_poles};
}

/// At the far end, in the steady state: voltages, and currents into the line.
struct PhasorsThere {
  std::vector<std::complex<double>> voltages, currents;
};

/// By phase.
struct OneEnd {
  std::vector<Terms> currents, leaving, left;
};

class CrossSection {
 public:
  /// Throws Error in the name of `owner` when the conductors have no capacitance, when waves cross `length_m`
  /// in less than a step, or when what follows the frequency has no geometry.
  CrossSection(std::string owner, LineMatrices per_metre, double length_m,
               const network::LineGeometry* geometry, const LineFit& fit);

  /// From and to two fractions of `length_m` where `near` and `far` are.
  EndCurrents add_stretch(Assembly& assembly, const std::vector<NodeId>& near, const std::vector<NodeId>& far,
                          double from, double to) const;

  /// One end of a line whose far end is elsewhere. Throws Error where that is too near to be told of in time.
  OneEnd add_end(Assembly& assembly, const std::vector<NodeId>& nodes, double length_m, FarEnd far,
                 const PhasorsThere& there) const;

 private:
  [[nodiscard]] WavePart wave_of(const std::vector<NodeId>& near, const std::vector<NodeId>& far,
                                 double length_m) const;
  [[nodiscard]] EndCurrents add_wave(Assembly& assembly, const std::vector<NodeId>& near,
                                     const std::vector<NodeId>& far, double length_m) const;
  [[nodiscard]] EndCurrents add_fitted(Assembly& assembly, const std::vector<NodeId>& near,
                                       const std::vector<NodeId>& far, double length_m) const;
  [[nodiscard]] double fastest_s_per_m() const;

  std::string owner_;
  LineMatrices per_metre_;
  double length_m_;
  const network::LineGeometry* geometry_;
  LineFit fit_;
  ModalTransformation modes_;
};

}  // namespace zavrek::emt::internal
