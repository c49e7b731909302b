// What a block does at an instant.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "zavrek/control.hpp"

namespace zavrek::control {

/// What functions may reach beside their inputs and outputs.
struct Instant {
  double time_s;
  std::vector<Edge>* edges;  // with room for all of one run
};

class Function {
 public:
  virtual ~Function() = default;
  /// Whether an output depends on an input of the same instant. If not, `step` runs behind all others, and
  /// `give` shows the outputs ahead of them.
  [[nodiscard]] virtual bool feeds_through() const { return true; }
  /// The first of its gates within the controller's.
  virtual void number_gates(int /*first*/) {}
  virtual void give(double* /*outputs*/) noexcept {}
  virtual void step(const Instant& instant, const double* inputs, double* outputs) noexcept = 0;
};

/// A block ready to be wired.
struct Made {
  std::unique_ptr<Function> function;
  std::vector<std::string> inputs;   // as written; an empty one is 0
  std::vector<std::string> outputs;  // names behind the block's; the first may be empty
  std::vector<double> start;         // of the outputs; zeros when empty
  std::vector<std::string> gates{}, knobs{}, operables{};
};

/// `period_s` is that of the block.
[[nodiscard]] Made make(const Block& block, double period_s);

}  // namespace zavrek::control
