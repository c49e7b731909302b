// Instrument transformers. Ideal ones are signals of other elements and buses, scaled by the ratio. Others
// are measuring models (measuring_model.hpp):
//   CT   d flux/dt = (R_w + R_b) i_s + L_b di_s/dt,   i_s = i_p - m(flux)
//   CVT  seen from the divider's tap, C = C1 + C2 tuned with the reactor L:
//        L di/dt = v C1/C - v_c - R i - v_i,   C dv_c/dt = i,   d flux/dt = v_i,
//        i = v_i/R_b + m(flux) + (v_i - v_f)/R_f,   C_f dv_f/dt = (v_i - v_f)/R_f - i_f,   L_f di_f/dt = v_f
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "emt/elements/transformers/measuring_model.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

Terms scaled(Terms terms, double factor) {
  for (Term& term : terms) term.coefficient *= factor;
  return terms;
}

MeasuringModel::Equations equations_of(const network::CurrentTransformer& ct, double omega) {
  const double resistance = ct.winding_resistance_ohm + ct.burden_resistance_ohm;
  MeasuringModel::Equations q;
  q.a = Eigen::MatrixXd::Zero(1, 1);
  q.b = Eigen::VectorXd::Constant(1, resistance);
  q.e = Eigen::VectorXd::Constant(1, -resistance);
  q.f = Eigen::VectorXd::Constant(1, ct.burden_inductance_H);
  q.knee_Vs = std::numbers::sqrt2 * ct.knee_V / omega;
  q.bend_A = std::numbers::sqrt2 * ct.knee_current_A;
  q.out = Eigen::RowVectorXd::Zero(1);
  q.out_u = 1;
  q.out_m = -1;
  q.remanence_Vs = ct.remanence * q.knee_Vs;
  q.omega = omega;
  return q;
}

MeasuringModel::Equations equations_of(const network::CapacitiveVoltageTransformer& vt, double omega) {
  const double share = vt.intermediate_V / vt.primary_V;  // C1/(C1 + C2)
  const double farad = vt.capacitance_F / share;
  const double henry = 1 / (omega * omega * farad);
  const double ohm = omega * henry / vt.reactor_quality;
  const double tap_V = vt.intermediate_V / std::numbers::sqrt3;
  const double burden = tap_V * tap_V / vt.burden_VA;
  const double damper = vt.damper_share * burden;
  const double filter_henry = vt.damper_detuning * burden / omega;
  const double filter_farad = 1 / (omega * omega * filter_henry);
  const double g = 1 / burden + 1 / damper;
  enum { current, charge, flux, filter_v, filter_i };
  // v_i = (i - m + v_f/R_f)/g
  Eigen::RowVectorXd v_i = Eigen::RowVectorXd::Zero(5);
  v_i[current] = 1 / g;
  v_i[filter_v] = 1 / damper / g;
  const double v_i_m = -1 / g;
  MeasuringModel::Equations q;
  q.a = Eigen::MatrixXd::Zero(5, 5);
  q.b = q.e = Eigen::VectorXd::Zero(5);
  q.a.row(current) = -v_i / henry;
  q.a(current, charge) -= 1 / henry;
  q.a(current, current) -= ohm / henry;
  q.b[current] = share / henry;
  q.e[current] = -v_i_m / henry;
  q.a(charge, current) = 1 / farad;
  q.a.row(flux) = v_i;
  q.e[flux] = v_i_m;
  q.a.row(filter_v) = v_i / damper / filter_farad;
  q.a(filter_v, filter_v) -= 1 / damper / filter_farad;
  q.a(filter_v, filter_i) = -1 / filter_farad;
  q.e[filter_v] = v_i_m / damper / filter_farad;
  q.a(filter_i, filter_v) = 1 / filter_henry;
  q.flux = flux;
  q.knee_Vs = vt.knee * std::numbers::sqrt2 * tap_V / omega;
  q.bend_A = 0.05 * std::numbers::sqrt2 * vt.burden_VA / tap_V;
  const double to_secondary = vt.secondary_V / vt.intermediate_V;
  q.out = v_i * to_secondary;
  q.out_m = v_i_m * to_secondary;
  q.omega = omega;
  return q;
}

/// Outputs of all phases, each from its input; `flux_slots` of them when asked for.
std::vector<Terms> measure(Assembly& assembly, const std::string& owner,
                           const MeasuringModel::Equations& equations, std::vector<Terms> inputs,
                           std::vector<Slot>* flux_slots = nullptr) {
  const int phases = static_cast<int>(inputs.size());
  auto model = std::make_unique<MeasuringModel>(equations, phases, assembly.step_s());
  const MeasuringModel& placed = *model;
  const Slot first =
      assembly.model({.owner = owner, .ends = {}, .model = std::move(model), .inputs = std::move(inputs)});
  std::vector<Terms> outputs;
  for (int phase = 0; phase < phases; ++phase) {
    outputs.push_back({value_of({first.index + MeasuringModel::output_slot(phase)})});
    if (flux_slots) flux_slots->push_back({first.index + placed.flux_slot(phase)});
  }
  return outputs;
}

}  // namespace

template <>
void assemble(const network::CurrentTransformer& ct, Assembly& assembly) {
  const std::string suffix = ct.end == "far" ? "_far" : "";
  std::vector<Terms> secondary;
  std::string letters;
  for (const char letter : {'a', 'b', 'c'}) {
    const Terms* primary = assembly.find_signal(ct.on + ".i" + letter + suffix);
    if (!primary) continue;
    letters += letter;
    secondary.push_back(scaled(*primary, ct.secondary_A / ct.primary_A));
  }
  if (letters.empty()) {
    throw Error(Flaw{.file = {},
                     .place = "ct." + ct.name,
                     .field = "on",
                     .text = fmt::format("\"{}\" has no current at its {} end", ct.on, ct.end)});
  }
  if (network::is_set(ct.knee_V)) {
    std::vector<Slot> fluxes;
    secondary =
        measure(assembly, "ct." + ct.name, equations_of(ct, assembly.omega()), std::move(secondary), &fluxes);
    for (std::size_t k = 0; k < letters.size(); ++k)
      assembly.signal(ct.name + ".flux" + letters[k], "V s", {value_of(fluxes[k])});
  }
  assembly.phase_signals(ct.name + ".i", "A", secondary, letters);
}

template <>
void assemble(const network::VoltageTransformer& vt, Assembly& assembly) {
  std::vector<Terms> secondary;
  for (const NodeId node : assembly.nodes(vt.bus)) {
    secondary.push_back({voltage_of(node, vt.secondary_V / vt.primary_V)});
  }
  assembly.phase_signals(vt.name + ".v", "V", secondary, assembly.bus(vt.bus).phases);
}

template <>
void assemble(const network::CapacitiveVoltageTransformer& vt, Assembly& assembly) {
  std::vector<Terms> primary;
  for (const NodeId node : assembly.nodes(vt.bus)) primary.push_back({voltage_of(node)});
  const std::vector<Terms> secondary =
      measure(assembly, "cvt." + vt.name, equations_of(vt, assembly.omega()), std::move(primary));
  assembly.phase_signals(vt.name + ".v", "V", secondary, assembly.bus(vt.bus).phases);
}

}  // namespace zavrek::emt::internal
