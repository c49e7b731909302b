// Discrete control: blocks executed each at its own period, in an order found from their wiring.
//
// At an instant all blocks that are due run once, inputs before users; a block that is not due shows what it
// gave last (sample and hold), so that a slow block's output is up to one of its periods old for a fast one,
// and a fast block's output is that of the same instant for a slow one. A `delay` gives what came in before
// this instant and so may stand in a loop; a loop without one is an error.
#pragma once

#include <functional>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "zavrek/control/blocks.hpp"
#include "zavrek/count.hpp"
#include "zavrek/network/written.hpp"
#include "zavrek/state_archive.hpp"

namespace zavrek::control {

class BlockFunction;

/// A user's own controller, as a C++ class.
class Own {
 public:
  virtual ~Own() = default;
  [[nodiscard]] virtual std::vector<std::string> inputs() const = 0;
  [[nodiscard]] virtual std::vector<std::string> outputs() const = 0;
  [[nodiscard]] virtual std::vector<std::string> parameters() const { return {}; }
  /// Called once, ahead of the first step, with a value for each parameter (NaN for one that was not given).
  virtual void start(double /*period_s*/, std::span<const double> /*parameters*/) {}
  /// Called once per period. Returns an empty text, or why it cannot go on. Outputs are NaN before; one that
  /// still is, or is not finite, ends the run.
  virtual std::string step(double time_s, std::span<const double> inputs, std::span<double> outputs) = 0;
};
/// Gives the code that a block asks for; throws Error when there is none.
using OwnMaker = std::function<std::unique_ptr<Own>(const OwnCode&)>;

/// A description with ready controllers replaced by the blocks that they are made of.
[[nodiscard]] Description expand(const Description& description);

/// What an output of a block is; empty for what no table says. `expanded`: by `expand`.
[[nodiscard]] std::string meaning_of(const Description& expanded, std::string_view output);

/// Units of `outputs`, which are all of a controller of that description, in SI: those that blocks say, or
/// that follow from what they read. "" for a plain number, and for what is not known. `of_signal` tells those
/// of signals of the plant.
[[nodiscard]] std::vector<std::string> output_units(
    const Description& description, const std::vector<std::string>& outputs,
    const std::function<std::string(const std::string&)>& of_signal);

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
  Controller(const Description& description, const std::vector<std::string>& signals,
             const OwnMaker& own = {});
  Controller(Controller&&) noexcept;
  ~Controller();

  /// Signals of the plant that it reads, in the order that `run` wants.
  [[nodiscard]] const std::vector<std::string>& reads() const { return reads_; }
  /// Knobs, gates, and breakers that it drives.
  [[nodiscard]] const std::vector<std::string>& knobs() const { return knobs_; }
  [[nodiscard]] const std::vector<std::string>& gates() const { return gates_; }
  [[nodiscard]] const std::vector<std::string>& operables() const { return operables_; }
  /// Its own knobs: fields marked changeable, such as "d_control.proportional"; of a setpoint, its name
  /// alone.
  [[nodiscard]] const std::vector<std::string>& parameters() const { return parameters_; }
  /// Throws Error with the nearest name.
  [[nodiscard]] std::size_t parameter(std::string_view name) const;
  [[nodiscard]] const std::string& unit(std::size_t parameter) const;
  [[nodiscard]] double value(std::size_t parameter) const noexcept {
    return *parameter_rows_[parameter].value;
  }
  [[nodiscard]] std::pair<double, double> bounds(std::size_t parameter) const noexcept;
  /// Within the bounds of the field; holds from the next execution on.
  void set(std::size_t parameter, double value) noexcept;

  /// Outputs of its blocks, such as "pll.angle".
  [[nodiscard]] const std::vector<std::string>& outputs() const { return outputs_; }

  /// The shortest period: `run` is called at its multiples, from t = 0 on.
  [[nodiscard]] double period_s() const { return period_s_; }
  /// Executes what is due at call number `tick` (time tick * period). No allocation.
  void run(long long tick, std::span<const double> signals) noexcept;

  /// All that `run` and `set` change. A user's own code keeps what it remembers to itself: no whole state
  /// then.
  void visit_state(StateArchive& archive);

  /// Why a user's own code cannot go on; empty while all is well. Its outputs then hold their last values.
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }

  /// As C: all parameters can be set, all outputs read. `units`: of the outputs. Throws Error for a user's
  /// own code.
  [[nodiscard]] network::WrittenControl written(const std::vector<std::string>& units) const;

  [[nodiscard]] double output(std::size_t k) const noexcept { return values_[k]; }
  [[nodiscard]] double knob(std::size_t k) const noexcept { return values_[knob_at_[k]]; }
  /// Whether the breaker shall be closed.
  [[nodiscard]] bool closes(std::size_t k) const noexcept { return values_[operable_at_[k]] > 0.5; }
  /// Edges that the latest run asked for, in the order of their times per gate.
  [[nodiscard]] std::span<const Edge> edges() const noexcept { return edges_; }
  /// Edges so far for which one run had no room; they never act.
  [[nodiscard]] long long lost_edges() const noexcept { return lost_edges_; }

 private:
  /// A number of `values_` times a factor.
  struct Wire {
    std::size_t index = 0;
    double factor = 1;
  };
  struct Row {
    std::string name;
    const Block* block;
    std::unique_ptr<BlockFunction> function;
    std::size_t first_output, output_count;
    std::size_t first_wire = 0, wire_count = 0;
    std::size_t first_gate = 0;
    std::size_t rate = 0;       // of `rates_`
    bool feeds_through = true;  // (see BlockFunction)
    bool may_fail = false;
  };
  /// Blocks that run at the same calls.
  struct Rate {
    long long ratio;  // periods of the controller between their executions
    bool due = false;
  };
  struct Parameter {
    double* value;
    const network::Field* field;
    std::string unit;
  };
  class Builder;
  class Writer;

  double period_s_ = 0;
  std::vector<std::unique_ptr<Block>> blocks_;  // functions read their fields
  std::vector<Parameter> parameter_rows_;
  std::vector<std::string> parameters_;
  std::string failure_;
  std::vector<Rate> rates_;
  std::vector<Row> rows_;       // in the order of execution: those that feed through, then the others
  std::size_t through_ = 0;     // how many do
  std::vector<Wire> wires_;     // of all rows
  std::vector<double> values_;  // outputs, a one for what is constant, signals of the plant
  std::vector<double> scratch_;
  std::vector<std::string> reads_, knobs_, gates_, operables_, outputs_;
  std::vector<std::size_t> knob_at_, operable_at_;  // of values_
  std::vector<Edge> edges_;
  Count lost_edges_;
};

}  // namespace zavrek::control
