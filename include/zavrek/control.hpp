// Discrete control: blocks executed each at its own period, in an order found from their wiring.
//
// At an instant all blocks that are due run once, inputs before users; a block that is not due shows what it
// gave last (sample and hold), so that a slow block's output is up to one of its periods old for a fast one,
// and a fast block's output is that of the same instant for a slow one. A `delay` gives what came in before
// this instant and so may stand in a loop; a loop without one is an error.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "zavrek/control/blocks.hpp"

namespace zavrek::control {

class Function;

/// A gate edge that a modulator asks for.
struct Edge {
  int gate;  // of Controller::gates()
  bool on;
  double at_s;
};

class Controller {
 public:
  /// Throws Error that names the block: an unknown input (with the nearest name), a loop (with all its
  /// blocks), a period that is no multiple of the shortest, a doubled name. `signals`: names that the plant
  /// offers.
  Controller(const Description& description, const std::vector<std::string>& signals);
  Controller(Controller&&) noexcept;
  ~Controller();

  /// Signals of the plant that it reads, in the order that `run` wants.
  [[nodiscard]] const std::vector<std::string>& reads() const { return reads_; }
  /// Knobs, gates, and breakers that it drives.
  [[nodiscard]] const std::vector<std::string>& knobs() const { return knobs_; }
  [[nodiscard]] const std::vector<std::string>& gates() const { return gates_; }
  [[nodiscard]] const std::vector<std::string>& operables() const { return operables_; }
  /// Outputs of its blocks, such as "pll.angle".
  [[nodiscard]] const std::vector<std::string>& outputs() const { return outputs_; }

  /// The shortest period: `run` is called at its multiples, from t = 0 on.
  [[nodiscard]] double period_s() const { return period_s_; }
  /// Executes what is due at call number `tick` (time tick * period). No allocation.
  void run(long long tick, std::span<const double> signals) noexcept;

  [[nodiscard]] double output(std::size_t k) const noexcept { return values_[k]; }
  [[nodiscard]] double knob(std::size_t k) const noexcept { return values_[knob_at_[k]]; }
  /// Whether the breaker shall be closed.
  [[nodiscard]] bool closes(std::size_t k) const noexcept { return values_[operable_at_[k]] > 0.5; }
  /// Edges that the latest run asked for, in the order of their times per gate.
  [[nodiscard]] std::span<const Edge> edges() const noexcept { return edges_; }

 private:
  struct Wire {
    enum class From { constant, block, plant } from = From::constant;
    std::size_t index = 0;
    double factor = 1;  // or the constant
  };
  struct Row {
    std::string name;
    std::unique_ptr<Function> function;
    std::vector<Wire> inputs;
    std::size_t first_output, output_count;
    long long ratio;  // periods of the controller between its executions
  };
  class Builder;

  [[nodiscard]] double read(const Wire& wire, std::span<const double> signals) const noexcept;

  double period_s_ = 0;
  std::vector<Row> rows_;  // in the order of execution
  std::vector<double> values_, scratch_;
  std::vector<std::string> reads_, knobs_, gates_, operables_, outputs_;
  std::vector<std::size_t> knob_at_, operable_at_;  // of values_
  std::vector<Edge> edges_;
};

}  // namespace zavrek::control
