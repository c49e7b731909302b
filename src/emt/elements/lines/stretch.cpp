// Constant parameters: waves in modes that diagonalise L C (emt/lines/modal.hpp), the series resistance
// lumped at the ends and the middle, where it couples them (wave_matrices.hpp). A transposed line has a
// zero-sequence mode and two equal aerial ones.
#include "emt/elements/lines/stretch.hpp"

#include <algorithm>
#include <cmath>
#include <memory>
#include <utility>

#include <fmt/format.h>

#include "emt/elements/lines/frequency_line_model.hpp"
#include "emt/elements/lines/phase_line_model.hpp"
#include "emt/parts/wave_matrices.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

[[noreturn]] void refuse(const std::string& owner, const char* field, std::string text) {
  throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
}

}  // namespace

CrossSection::CrossSection(std::string owner, LineMatrices per_metre, double length_m,
                           const network::LineGeometry* geometry, const LineFit& fit)
    : owner_(std::move(owner)),
      per_metre_(std::move(per_metre)),
      length_m_(length_m),
      geometry_(geometry),
      fit_(fit) {
  if (symmetric_eigenvalues(per_metre_.capacitance)[0] <= 0) {
    refuse(
        owner_, "c1",
        "waves need a capacitance in every phase; give c1 and c0, b_matrix or a geometry, or describe it as "
        "a cable (pi section)");
  }
  modes_ = modal_transformation(per_metre_.inductance, per_metre_.capacitance);
  if (fit_.follows && geometry_ == nullptr)
    refuse(owner_, "geometry", "missing; parameters that follow the frequency come from a geometry");
}

double CrossSection::fastest_s_per_m() const { return std::sqrt(modes_.inductance.minCoeff()); }

EndCurrents CrossSection::add_stretch(Assembly& assembly, const std::vector<NodeId>& near,
                                      const std::vector<NodeId>& far, double from, double to) const {
  const double length = (to - from) * length_m_;
  if (const double travel = fastest_s_per_m() * length; travel < assembly.step_s()) {
    const bool whole = from == 0 && to == 1;
    assembly.note(fmt::format(
        "{}: {} a pi section, for waves cross it in {}, less than the step of {}", owner_,
        whole ? "is" : fmt::format("its stretch from {:.4g} % to {:.4g} % is", 100 * from, 100 * to),
        print_rounded(travel, "s"), print_rounded(assembly.step_s(), "s")));
    return add_pi_section(assembly, owner_, near, far, per_metre_ * length);
  }
  return fit_.follows ? add_fitted(assembly, near, far, length) : add_wave(assembly, near, far, length);
}

WavePart CrossSection::wave_of(const std::vector<NodeId>& near, const std::vector<NodeId>& far,
                               double length_m) const {
  const Eigen::MatrixXd resistance =
      product(Eigen::MatrixXd(modes_.currents.transpose()), product(per_metre_.resistance, modes_.currents));
  return {.owner = owner_,
          .near = near,
          .far = far,
          .voltages = modes_.voltages,
          .currents = modes_.currents,
          .surge_ohm = modes_.inductance.cwiseSqrt(),
          .resistance_ohm = resistance * length_m,
          .travel_s = modes_.inductance.cwiseSqrt() * length_m,
          .first_near_current = {},
          .first_far_current = {}};
}

OneEnd CrossSection::add_end(Assembly& assembly, const std::vector<NodeId>& nodes, double length_m,
                             FarEnd far, const PhasorsThere& there) const {
  // Half steps behind an event look so far ahead of the newest grid point; what jumped there is known a step
  // later.
  const double steps = fastest_s_per_m() * length_m / assembly.step_s();
  const double least = far.delay_steps + 1.5;
  if (steps < least) {
    refuse(
        owner_, "length",
        fmt::format("waves cross it in {}; with a delay of {} step{} it takes {:g} steps, {}, to be told of "
                    "them in time",
                    print_rounded(steps * assembly.step_s(), "s"), far.delay_steps,
                    far.delay_steps == 1 ? "" : "s", least, print_rounded(least * assembly.step_s(), "s")));
  }
  if (steps < least + 1)
    assembly.note(fmt::format(
        "{}: waves cross it in {:.3g} steps; what jumps at the far end is felt exactly from {:g} on", owner_,
        steps, least + 1));
  assembly.tell_each_step();
  WavePart part = wave_of(nodes, {}, length_m);
  part.elsewhere = std::move(far);
  const Eigen::MatrixXd leaves =
      product(part.voltages, product(WaveMatrices(part).leaves, Eigen::MatrixXd(part.voltages.transpose())));
  for (std::size_t k = 0; k < nodes.size(); ++k) {
    std::complex<double> wave = there.voltages[k];
    for (std::size_t m = 0; m < nodes.size(); ++m)
      wave += leaves(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(m)) * there.currents[m];
    part.elsewhere.starts_with.push_back(wave);
  }
  const auto& made = assembly.wave_parts[static_cast<std::size_t>(assembly.wave(std::move(part)))];
  OneEnd end;
  const int n = static_cast<int>(nodes.size());
  for (int k = 0; k < n; ++k) {
    end.currents.push_back({value_of({made.first_near_current.index + k})});
    end.leaving.push_back({value_of({made.first_leaving.index + k})});
    end.left.push_back({value_of({made.first_leaving.index + n + k})});
  }
  return end;
}

EndCurrents CrossSection::add_wave(Assembly& assembly, const std::vector<NodeId>& near,
                                   const std::vector<NodeId>& far, double length_m) const {
  const auto& made =
      assembly.wave_parts[static_cast<std::size_t>(assembly.wave(wave_of(near, far, length_m)))];
  EndCurrents currents;
  for (int k = 0; k < static_cast<int>(near.size()); ++k) {
    currents.near.push_back({value_of({made.first_near_current.index + k})});
    currents.far.push_back({value_of({made.first_far_current.index + k})});
  }
  return currents;
}

EndCurrents CrossSection::add_fitted(Assembly& assembly, const std::vector<NodeId>& near,
                                     const std::vector<NodeId>& far, double length_m) const {
  const FrequencyLineOptions options{
      .length_m = length_m, .from_Hz = fit_.from_Hz, .to_Hz = fit_.to_Hz, .poles = fit_.poles};
  std::unique_ptr<Model> model;
  double worst = 0;
  bool passive = false;
  if (fit_.in_phases) {
    PhaseLine fitted = fit_line_in_phases(*geometry_, options);
    passive = fitted.passive();
    worst = std::max(fitted.admittance_error, fitted.propagation_error);
    model = std::make_unique<PhaseLineModel>(std::move(fitted), assembly.step_s(), assembly.omega());
  } else {
    FrequencyLine fitted = fit_line(*geometry_, options);
    passive = fitted.passive();
    for (const FittedMode& mode : fitted.modes)
      worst = std::max({worst, mode.admittance.error, mode.propagation.error});
    model = std::make_unique<FrequencyLineModel>(std::move(fitted), assembly.step_s(), assembly.omega());
  }
  if (!passive)
    refuse(owner_, "fit_poles",
           "the fit is not passive; take other fit_poles or a narrower range of frequency");
  assembly.note(fmt::format("{}: fitted with {} poles to {:.2g} % rms", owner_, fit_.poles, 100 * worst));
  std::vector<Ends> ends;
  for (const auto* nodes : {&near, &far}) {
    for (const NodeId node : *nodes) ends.push_back({node, ground_node});
  }
  const Slot first = assembly.model({.owner = owner_, .ends = ends, .model = std::move(model)});
  EndCurrents currents;
  const int n = static_cast<int>(near.size());
  for (int k = 0; k < n; ++k) {
    currents.near.push_back({value_of({first.index + k})});
    currents.far.push_back({value_of({first.index + n + k})});
  }
  return currents;
}

}  // namespace zavrek::emt::internal
