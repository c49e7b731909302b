#include "zavrek/bench/stand_ins.hpp"

#include <memory>

namespace zavrek::bench {

using namespace wire;

ControlCounts serve_controller(const std::function<control::Controller()>& make, ControlPort& port,
                               const std::atomic<bool>& stop) {
  auto held = std::make_unique<control::Controller>(make());
  constexpr int patience_ms = 50;
  std::vector<std::uint8_t> bytes(longest_control_message);
  ControlCounts counts;
  ControlMeasure measure;
  ControlAnswer answer;
  std::uint32_t next = 0;
  while (!stop) {
    const std::size_t size = port.receive(bytes, patience_ms, true);
    if (size == 0) continue;
    if (!decode({bytes.data(), size}, measure) ||
        (!measure.ends && measure.signals.size() != held->reads().size())) {
      ++counts.malformed;
      continue;
    }
    if (measure.ends) break;
    if (measure.tick == 0 && next > 1) {
      held = std::make_unique<control::Controller>(make());
      next = 0;
    }
    control::Controller& controller = *held;
    // A repeated question gets the answer that it had; the control runs once a period.
    if (measure.tick >= next) {
      for (const auto& [number, value] : measure.turned) {
        if (number < controller.parameters().size()) controller.set(number, value);
      }
      controller.run(measure.tick, measure.signals);
      next = measure.tick + 1;
      ++counts.periods;
      answer.tick = measure.tick;
      answer.knobs.resize(controller.knobs().size());
      for (std::size_t k = 0; k < answer.knobs.size(); ++k) answer.knobs[k] = controller.knob(k);
      answer.outputs.resize(controller.outputs().size());
      for (std::size_t k = 0; k < answer.outputs.size(); ++k) answer.outputs[k] = controller.output(k);
      answer.closes.resize(controller.operables().size());
      for (std::size_t k = 0; k < answer.closes.size(); ++k) answer.closes[k] = controller.closes(k) ? 1 : 0;
      answer.edges.assign(controller.edges().begin(), controller.edges().end());
      answer.failure = controller.failure();
    }
    if (!port.send({bytes.data(), encode(answer, bytes)})) ++counts.unsent;
  }
  return counts;
}

}  // namespace zavrek::bench
