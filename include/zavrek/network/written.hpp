// What a model written out in C consists of, beside its text.
#pragma once

#include <string>
#include <vector>

namespace zavrek::network {

/// What can be set, in the order of the written model's inputs.
struct WrittenInput {
  std::string name, unit;
  double start = 0, least = 0, most = 0;  ///< SI units; a switch is 1 closed, 0 open
  bool is_switch = false;
};
struct WrittenOutput {
  std::string name, unit;
};
/// A control as C, which a network takes in (docs/models.md): fields of the model's struct, and the functions
/// control_start(model), control_due(model), control_set(model, input, value) and control_get(model,
/// output). They call read_signal(model, k), NAME_fire(model, control_gate[k], ...), turn(model,
/// &input[control_knob[k]], value) and operate(model, control_operable[k], ...), k being the place in these
/// lists.
struct WrittenControl {
  std::string members, source;
  std::vector<std::string> reads, knobs, gates, operables;  ///< of the network
  std::vector<WrittenInput> inputs;
  std::vector<WrittenOutput> outputs;
};

}  // namespace zavrek::network
