// The control of a setup at its place in a run: in this process, or in one of its own across the bench.
//
// In this process it sees the plant at an instant and acts from that instant on. Elsewhere, what it answers
// to the values of one period acts `control_delay` periods later, edges by as much. A run without pace waits
// for each answer; a paced one takes what has come, and counts what came too late: that then never acts.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "pace/program.hpp"
#include "zavrek/bench/port.hpp"
#include "zavrek/emt.hpp"
#include "zavrek/model.hpp"
#include "zavrek/wire/control_link.hpp"

namespace zavrek::bench::internal {

/// A knob of the control that is turned at an instant.
struct ControlTurn {
  double at_s = 0;
  std::size_t parameter = 0;
  double value = 0;
};

class ControlSeat {
 public:
  /// Throws Error for a name that the plant does not know.
  ControlSeat(const Setup& setup, const emt::Plant& plant, bool remote);
  /// The plant keeps up what the control reads, so that no step is longer for it.
  void watch(emt::Plant& plant) const { at_plant_.watch(plant); }

  /// Starts its process where it has one. Returns why it is mute, or nothing.
  [[nodiscard]] std::string open(const Opening& how);
  /// Waits for its first answer, so that the clock begins with both there.
  void meet(emt::ControlledPlant& plant) noexcept;
  /// What is due at the start of a step: the control sees the plant at that instant.
  void run_due(emt::ControlledPlant& plant) noexcept;
  /// A knob of its own, from its next period on.
  void set(std::size_t parameter, double value) noexcept;

  /// Periods that it has had so far.
  [[nodiscard]] long long turns() const noexcept { return at_plant_.turns(); }
  [[nodiscard]] bool remote() const noexcept { return elsewhere_; }
  /// Whether the process that it started has ended by itself.
  [[nodiscard]] bool ended() { return process_ && !process_->running(); }
  [[nodiscard]] const control::Controller& controller() const noexcept { return controller_; }
  [[nodiscard]] std::optional<std::size_t> output_named(const std::string& name) const;
  [[nodiscard]] double output(std::size_t k) const noexcept {
    return elsewhere_ ? shown_[k] : controller_.output(k);
  }
  /// Of an output, in SI; "" for a plain number.
  [[nodiscard]] const std::string& unit(std::size_t output) const { return units_[output]; }
  /// Why it cannot go on; empty while all is well.
  [[nodiscard]] const std::string& failure() const noexcept { return failure_; }
  [[nodiscard]] long long late() const noexcept { return account_.late; }
  /// Gate edges that found no room; they never act.
  [[nodiscard]] long long lost_edges() const noexcept {
    return at_plant_.lost_edges() + controller_.lost_edges();
  }
  void visit_state(StateArchive& archive);
  /// Behind the run: its process ends, and says what it counted; one outside is left.
  void end();
  /// None where it is in this process.
  [[nodiscard]] std::vector<Account> accounts() const;
  [[nodiscard]] std::vector<Path> paths(double step_s) const;

 private:
  void ask(long long tick, emt::ControlledPlant& plant) noexcept;
  [[nodiscard]] std::string start_process(const Opening& how);
  [[nodiscard]] std::string find_outside();
  void fill_measure(long long tick, const emt::ControlledPlant& plant) noexcept;
  void send_measure() noexcept;
  void await_first_answer() noexcept;
  void await_own(const wire::ControlAnswer& answer, std::uint32_t due) noexcept;
  void await_answer(std::uint32_t due, double time_s) noexcept;
  [[nodiscard]] bool take_answer(int wait_ms) noexcept;
  void act(emt::ControlledPlant& plant, const wire::ControlAnswer& answer, double shift_s) noexcept;

  const Setup& setup_;
  control::Controller controller_;
  model::ControlAtPlant at_plant_;
  std::vector<std::string> units_;  // of outputs
  std::string failure_;

  // Elsewhere only.
  bool elsewhere_ = false;
  std::unique_ptr<wire::ControlWay> way_;
  std::optional<pace::internal::Program> process_;
  bool paced_ = false;
  int delay_ = 1;
  wire::ControlMeasure measure_;
  std::vector<wire::ControlAnswer> answers_;  // ring by period; tick tells whether an entry is news
  std::vector<std::int64_t> sent_ns_;         // when that period's values were sent
  wire::ControlAnswer taken_;
  std::vector<std::uint8_t> bytes_;
  std::vector<double> shown_;
  Account account_;
  std::optional<Account> counted_;  // by its process
};

}  // namespace zavrek::bench::internal
