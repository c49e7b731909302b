// From the parts of the assembly to the arrays of the step.
#include <algorithm>

#include "emt/compile/compiler.hpp"

namespace zavrek::emt::internal {

void Compiler::lower_parts() {
  for (const PartKind* kind : part_kinds()) kind->lower(stamps_, lowering_);
  core_->sources.set_waveforms(assembly_.waveforms, core_->options.step_s);
  for (const KnownNode& known : assembly_.known_nodes) {
    const SourceNode node{at(known.node), known.waveform, Waveform::Phase(known.angle_rad)};
    if (known.knob.index >= 0)
      core_->sources.add_told(node, at(known.knob));
    else
      core_->sources.add(node);
  }
}

void Compiler::lower_signals() {
  for (const SignalDefinition& signal : assembly_.signals) {
    const Terms terms = assembly_.resolved(signal.terms);
    SignalRow row{.name = signal.name,
                  .unit = signal.unit,
                  .first = static_cast<int>(core_->signals.terms.size()),
                  .count = static_cast<int>(terms.size()),
                  .phasor = {},
                  .evaluated_each_step = true};
    for (Term term : terms) {
      term.index = term.is_node ? at(term.index) : at(Slot{term.index});
      core_->signals.terms.push_back(term);
      row.evaluated_each_step = row.evaluated_each_step && core_->map.is_evaluated(term.index);
    }
    core_->signals.rows.push_back(std::move(row));
  }
  core_->controls.operables = assembly_.operables;
  core_->controls.refusals.reserve(Controls::most_refusals);
  for (Operable& operable : core_->controls.operables) resolve_interlocking(operable);
  for (const Knob& knob : assembly_.knobs) {
    core_->controls.knobs.push_back(knob);
    core_->controls.knobs.back().slot.index = at(knob.slot);
  }
}

void Compiler::resolve_interlocking(Operable& operable) const {
  std::vector<std::string> known;
  for (const Operable& other : assembly_.operables) known.push_back(other.name);
  for (const std::string& name : operable.only_when_open) {
    const auto found = std::find(known.begin(), known.end(), name);
    if (found == known.end()) {
      throw Error(Flaw{.file = {},
                       .place = operable.name,
                       .field = "only_when_open",
                       .text = "nothing named \"" + name + "\" opens and closes" + suggestion(name, known)});
    }
    operable.blocking.push_back(static_cast<int>(found - known.begin()));
  }
}

}  // namespace zavrek::emt::internal
