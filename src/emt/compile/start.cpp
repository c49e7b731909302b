// The first instant: the sinusoidal steady state or rest, charged capacitors, residual flux.
#include "emt/compile/compiler.hpp"
#include "emt/steady/steady.hpp"

namespace zavrek::emt::internal {

void Compiler::start() {
  core_->options.euler_throughout = network_.rule == "euler";
  core_->options.told_each_step = assembly_.is_told_each_step();
  for (std::size_t k = 0; k < assembly_.knobs.size(); ++k) {
    core_->at.present[static_cast<std::size_t>(at(assembly_.knobs[k].slot))] = assembly_.knob_values[k];
  }
  if (network_.start == "steady") {
    start_steady();
  } else {
    core_->restart.settle_first = true;
    for (std::size_t k = 0; k < core_->models.size(); ++k) {
      const auto n = static_cast<Eigen::Index>(assembly_.model_parts[k].ends.size());
      start_model(k, Eigen::VectorXcd::Zero(n), Eigen::VectorXcd::Zero(n));
    }
  }
  // Models set the references of their controls: those knobs hold their values in all arrays.
  for (const Knob& knob : assembly_.knobs) {
    const auto slot = static_cast<std::size_t>(at(knob.slot));
    for (Numbers* array : core_->at.all()) (*array)[slot] = core_->at.present[slot];
  }
  start_charged();
  for (const PartKind* kind : part_kinds()) kind->start(lowering_);
  core_->sources.impose_at(0, 0, core_->at.present.data());
  core_->begin_condensed();
}

void Compiler::start_model(std::size_t k, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i) {
  ModelRow& row = core_->models[k];
  row.places.input_phasors = row.input_phasors;
  row.model->start(row.places, v, i, core_->options.step_s, core_->at.present.data());
}

void Compiler::start_steady() {
  const std::vector<SteadyComponent> components = steady_components(assembly_, core_->models, layout_);
  std::vector<WaveGroup::Component> waves;
  for (const SteadyComponent& component : components) {
    for (int k = 0; k < layout_.values; ++k)
      core_->at.present[static_cast<std::size_t>(k)] += component.values[static_cast<std::size_t>(k)].real();
    waves.push_back({component.omega, component.values});
    if (component.omega != assembly_.omega()) continue;
    for (SignalRow& row : core_->signals.rows) {
      for (int k = row.first; k < row.first + row.count; ++k) {
        const Term& term = core_->signals.terms[static_cast<std::size_t>(k)];
        row.phasor += term.coefficient * component.values[static_cast<std::size_t>(term.index)];
      }
    }
  }
  core_->lines.fill(waves, core_->options.step_s);
  for (std::size_t k = 0; k < core_->models.size(); ++k) {
    const auto n = static_cast<Eigen::Index>(assembly_.model_parts[k].ends.size());
    Eigen::VectorXcd v = Eigen::VectorXcd::Zero(n);
    Eigen::VectorXcd i = v;
    for (const SteadyComponent& component : components) {
      if (component.omega != assembly_.omega()) continue;
      v = component.model_voltages[k];
      for (std::size_t input = 0; input < core_->models[k].places.inputs.size(); ++input) {
        for (const auto& [position, coefficient] : core_->models[k].places.inputs[input])
          core_->models[k].input_phasors[input] +=
              coefficient * component.values[static_cast<std::size_t>(position)];
      }
      i = component.model_currents[k];
    }
    start_model(k, v, i);
  }
}

void Compiler::start_charged() {
  for (const ChargedPart& part : assembly_.charged) {
    core_->at.present[static_cast<std::size_t>(at(part.ends.p))] += part.voltage_V / 2;
    core_->at.present[static_cast<std::size_t>(at(part.ends.q))] -= part.voltage_V / 2;
  }
  core_->at.present[0] = 0;
  // Valves may conduct from the start on.
  if (!assembly_.charged.empty() || !assembly_.valve_parts.empty()) core_->restart.settle_first = true;
}

}  // namespace zavrek::emt::internal
