// Line: travelling waves in modes with constant parameters, series resistance lumped at the ends and the
// middle, where it couples them (wave_matrices.hpp). The modes diagonalise L C: with C^(1/2) L C^(1/2) = Q D
// Q^T, v = C^(-1/2) Q v_m and i = C^(1/2) Q i_m, each mode has the inductance D and the capacitance 1 per
// metre. A transposed line has a zero-sequence mode and two equal aerial ones. A stretch between taps that
// waves cross in less than a step is a pi section instead.
#include <cmath>

#include <fmt/format.h>

#include "emt/elements/lines/frequency_line_model.hpp"
#include "emt/elements/lines/pi_section.hpp"
#include "emt/lines/modal.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

struct Modes : ModalTransformation {
  Eigen::MatrixXd resistance;                                                         // per metre
  [[nodiscard]] double slowness() const { return std::sqrt(inductance.minCoeff()); }  // of the fastest, s/m
};

Modes modes_of(const std::string& owner, const LineMatrices& per_metre) {
  if (symmetric_eigenvalues(per_metre.capacitance)[0] <= 0) {
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "c1",
             .text = "waves need a capacitance in every phase; give c1 and c0, b_matrix or a geometry, or "
                     "describe it as a cable (pi section)"});
  }
  Modes modes{modal_transformation(per_metre.inductance, per_metre.capacitance), {}};
  modes.resistance = internal::product(Eigen::MatrixXd(modes.currents.transpose()),
                                       internal::product(per_metre.resistance, modes.currents));
  return modes;
}

EndCurrents add_wave(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                     const std::vector<NodeId>& far, const Modes& modes, double length_m) {
  const auto& made = assembly.wave_parts[static_cast<std::size_t>(
      assembly.wave({.owner = owner,
                     .near = near,
                     .far = far,
                     .voltages = modes.voltages,
                     .currents = modes.currents,
                     .surge_ohm = modes.inductance.cwiseSqrt(),
                     .resistance_ohm = modes.resistance * length_m,
                     .travel_s = modes.inductance.cwiseSqrt() * length_m,
                     .first_near_current = {},
                     .first_far_current = {}}))];
  EndCurrents currents;
  for (int k = 0; k < static_cast<int>(near.size()); ++k) {
    currents.near.push_back({value_of({made.first_near_current.index + k})});
    currents.far.push_back({value_of({made.first_far_current.index + k})});
  }
  return currents;
}

EndCurrents add_frequency_line(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                               const std::vector<NodeId>& far, const network::Line& line,
                               const std::string& letters, double length_m) {
  const network::LineGeometry& geometry = geometry_of(assembly, owner, letters, line.geometry);
  FrequencyLine fitted = fit_line(
      geometry,
      {.length_m = length_m, .from_Hz = line.fit_from_Hz, .to_Hz = line.fit_to_Hz, .poles = line.fit_poles});
  if (!fitted.passive()) {
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "fit_poles",
             .text = "the fit is not passive; take other fit_poles or a narrower range of frequency"});
  }
  double worst = 0;
  for (const FittedMode& mode : fitted.modes)
    worst = std::max({worst, mode.admittance.error, mode.propagation.error});
  assembly.note(fmt::format("{}: fitted with {} poles to {:.2g} % rms", owner, line.fit_poles, 100 * worst));
  std::vector<Ends> ends;
  for (const auto* nodes : {&near, &far}) {
    for (const NodeId node : *nodes) ends.push_back({node, ground_node});
  }
  const Slot first = assembly.model({.owner = owner,
                                     .ends = ends,
                                     .model = std::make_unique<FrequencyLineModel>(
                                         std::move(fitted), assembly.step_s(), assembly.omega())});
  EndCurrents currents;
  const int n = static_cast<int>(near.size());
  for (int k = 0; k < n; ++k) {
    currents.near.push_back({value_of({first.index + k})});
    currents.far.push_back({value_of({first.index + n + k})});
  }
  return currents;
}

}  // namespace

template <>
void assemble(const network::Line& line, Assembly& assembly) {
  const std::string owner = "line." + line.name;
  const std::vector<Tap> stations = assembly.stations(line.name, line.between);
  const std::string letters = assembly.span(owner, line.between).letters;
  const LineMatrices per_metre = line_matrices(assembly, owner, letters, values_of(line));
  const Modes modes = modes_of(owner, per_metre);
  const double travel = modes.slowness() * line.length_m;
  if (travel < assembly.step_s()) {
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "length",
             .text = fmt::format("waves cross it in {}, less than the step of {}; take a step of at most {} "
                                 "or describe it as a cable (pi section)",
                                 print_rounded(travel, "s"), print_rounded(assembly.step_s(), "s"),
                                 print_rounded(travel, "s"))});
  }
  const bool follows = line.parameters == "frequency";
  if (follows && line.geometry.empty()) {
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "geometry",
                     .text = "missing; parameters that follow the frequency come from a geometry"});
  }
  EndCurrents whole;
  for (std::size_t s = 0; s + 1 < stations.size(); ++s) {
    const double length = (stations[s + 1].fraction - stations[s].fraction) * line.length_m;
    const bool waves = modes.slowness() * length >= assembly.step_s();
    if (!waves) {
      assembly.note(
          fmt::format("{}: its stretch from {:.4g} % to {:.4g} % is a pi section, being shorter than a "
                      "step's travel",
                      owner, 100 * stations[s].fraction, 100 * stations[s + 1].fraction));
    }
    const auto &near = stations[s].nodes, &far = stations[s + 1].nodes;
    EndCurrents currents = waves && follows
                               ? add_frequency_line(assembly, owner, near, far, line, letters, length)
                           : waves ? add_wave(assembly, owner, near, far, modes, length)
                                   : add_pi_section(assembly, owner, near, far, per_metre * length);
    if (whole.near.empty()) whole.near = std::move(currents.near);
    whole.far = std::move(currents.far);
  }
  assembly.end_currents(line.name, whole.near, whole.far, letters);
}

}  // namespace zavrek::emt::internal
