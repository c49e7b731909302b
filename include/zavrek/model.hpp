// A plant and its control as one thing that is stepped: what a run does with them, and what an exported model
// is.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "zavrek/control.hpp"
#include "zavrek/count.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/emt/written.hpp"

namespace zavrek::model {

/// What stands between a control and the plant that it drives: which signals it reads, when its turn is, and
/// how what it wants is done.
class ControlAtPlant {
 public:
  /// Throws Error for a name that the plant does not know.
  ControlAtPlant(const control::Controller& controller, const emt::Plant& plant);

  /// The plant keeps up what the control reads, so that no step is longer for it.
  void watch(emt::Plant& plant) const { plant.watch(reads_); }
  /// Calls execute(tick, values) for each turn that is due at the start of a step.
  template <class Execute>
  void run_due(const emt::ControlledPlant& plant, Execute&& execute) noexcept {
    const double slack = 1e-6 * plant.step_s();
    for (; static_cast<double>(next_tick_) * period_s_ <= plant.time_s() + slack; ++next_tick_)
      execute(next_tick_, read(plant));
  }
  [[nodiscard]] std::span<const double> read(const emt::ControlledPlant& plant) noexcept;
  /// Turns that it has had so far.
  [[nodiscard]] long long turns() const noexcept { return next_tick_; }

  /// All that the latest turn of a control in this process wants.
  void act(emt::ControlledPlant& plant, const control::Controller& controller) noexcept;
  void fire(emt::ControlledPlant& plant, std::span<const control::Edge> edges, double shift_s) noexcept;
  void drive(emt::ControlledPlant& plant, std::size_t knob, double wanted) noexcept;
  void operate(emt::ControlledPlant& plant, std::size_t operable, bool closes) noexcept;
  [[nodiscard]] std::size_t knobs() const noexcept { return knobs_.size(); }
  [[nodiscard]] std::size_t operables() const noexcept { return operables_.size(); }
  [[nodiscard]] std::size_t reads() const noexcept { return reads_.size(); }
  /// Gate edges that found no room; they never act.
  [[nodiscard]] long long lost_edges() const noexcept { return lost_edges_; }
  void visit_state(StateArchive& archive) { archive(knobs_sent_, closes_sent_, next_tick_, lost_edges_); }

 private:
  double period_s_;
  std::vector<emt::SignalId> reads_;
  std::vector<emt::KnobId> knobs_;
  std::vector<emt::GateId> gates_;
  std::vector<emt::OperableId> operables_;
  std::vector<double> signals_;     // as read last
  std::vector<double> knobs_sent_;  // NaN before the first time
  std::vector<char> closes_sent_;
  long long next_tick_ = 0;
  Count lost_edges_;
};

/// What a model shows or takes, in SI units; of a switch 1 is closed.
struct Variable {
  std::string name, unit;
  double start = 0, least = -1e300, most = 1e300;
  bool is_switch = false;
};

/// A compiled network with its control. Inputs are what operates: switches, then set points of the control;
/// parameters are all other knobs, of the plant and of the control's blocks. Both may change between any two
/// steps.
class Model {
 public:
  /// Outputs: signals of the plant and outputs of blocks. Throws Error for a name that is neither, and for
  /// whatever does not compile.
  Model(const network::Network& network, const control::Description& control,
        const std::vector<std::string>& outputs);

  [[nodiscard]] const std::vector<Variable>& inputs() const noexcept { return inputs_; }
  [[nodiscard]] const std::vector<Variable>& parameters() const noexcept { return parameters_; }
  [[nodiscard]] const std::vector<Variable>& outputs() const noexcept { return outputs_; }
  [[nodiscard]] double step_s() const noexcept { return plant_.step_s(); }
  [[nodiscard]] double time_s() const noexcept { return plant_.time_s(); }

  [[nodiscard]] double input(std::size_t k) const noexcept { return input_values_[k]; }
  [[nodiscard]] double parameter(std::size_t k) const noexcept { return parameter_values_[k]; }
  [[nodiscard]] double output(std::size_t k) const noexcept;
  /// Kept within the bounds of the variable. False for what is no number.
  bool set_input(std::size_t k, double value) noexcept;
  bool set_parameter(std::size_t k, double value) noexcept;

  /// By one step; no allocation, bounded work. False when it cannot go on: `failure` says why.
  [[nodiscard]] bool step() noexcept;
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }

  /// All that steps and settings change. What follows a restored state is the same to the bit.
  void save(std::vector<std::byte>& into);
  /// Throws Error for what this model did not save.
  void restore(std::span<const std::byte> from);
  /// Back to the start.
  void reset() { restore(at_start_); }

 private:
  /// Where a variable stands: a switch or knob of the plant, or a parameter of the control.
  struct Place {
    std::optional<emt::OperableId> operable{};
    std::optional<emt::KnobId> knob{};
    std::size_t of_control = 0;
  };
  struct Shown {
    std::optional<emt::SignalId> signal{};
    std::size_t of_control = 0;
  };
  void visit_state(StateArchive& archive);
  void find_inputs(const control::Description& control);
  void find_outputs(const control::Description& control, const std::vector<std::string>& names);
  static bool set(const Variable& what, double value, double& kept) noexcept;

  emt::Plant plant_;
  std::optional<control::Controller> controller_;
  std::optional<ControlAtPlant> at_plant_;
  std::vector<Variable> inputs_, parameters_, outputs_;
  std::vector<Place> input_places_, parameter_places_;
  std::vector<Shown> shown_;
  std::vector<double> input_values_, parameter_values_;
  std::string failure_;
  std::vector<std::byte> at_start_, scratch_;
  emt::PlantState plant_state_;
  std::uint64_t identity_ = 0;
};

/// A network with its control as C99, which does what a Model does to within 1e-9. `outputs`: signals of the
/// network and outputs of blocks. Throws Error for what cannot be written so (emt::write_c; code of a user's
/// own in the control).
[[nodiscard]] emt::WrittenModel write_c(const network::Network& network, const control::Description& control,
                                        emt::WritingOptions options);

}  // namespace zavrek::model
