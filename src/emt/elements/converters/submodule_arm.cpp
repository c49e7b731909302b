// Arm of a modular multilevel converter: inductor x - x', then, between x' and y,
//   bypass   a diode y -> x': what the current takes backwards while the arm is blocked
//   stack    behind a transistor s -> x' with its diode x' -> s: the capacitors that are in,
//            v = R i + sum w_k u_k,   C du_k/dt = w_k i,   w_k in {0, 1}, for one of them the part of a step
// With d = h/(2 C) either rule gives u_k = u_k' + d w_k i, so the stack is a conductance
// 1/(R + d sum w_k^2) behind a known voltage. The number that is in follows the knob `inserted`; which ones
// come and go is chosen by voltage and direction of the current, so that all stay charged alike: one
// exchange a step beside what the number asks for. While the arm is blocked (gate NAME.enable off),
// `inserted` is to be 1: the diodes then charge all of them.
#include <algorithm>
#include <array>
#include <cmath>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

class StackModel final : public Model {
 public:
  StackModel(const network::SubmoduleArm& arm, Slot inserted, Slot bypassed)
      : b_(arm),
        inserted_(inserted),
        bypassed_(bypassed),
        weight_(static_cast<std::size_t>(arm.submodules), 1.0),
        weight_before_(weight_) {
    choose({b_.inserted, 0}, nullptr);
    asked_ = {b_.inserted, b_.bypassed};
  }
  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<StackModel>(*this); }
  void visit_state(StateArchive& archive) override {
    archive(weight_);
    archive(weight_before_);
    archive(healthy_);
    archive(healthy_before_);
    archive(chosen_at_);
    archive(asked_);
  }
  [[nodiscard]] int slots() const override { return first_voltage + b_.submodules; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {inserted_, bypassed_}; }
  [[nodiscard]] bool varies() const override { return true; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens(step_s));
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    std::vector<double> memory{static_cast<double>(healthy_), static_cast<double>(healthy_before_),
                               chosen_at_, asked_[0], asked_[1]};
    for (const auto* weights : {&weight_, &weight_before_})
      memory.insert(memory.end(), weights->begin(), weights->end());
    return WrittenLaw{.kind = "stack",
                      .numbers = {{"submodules", static_cast<double>(b_.submodules)},
                                  {"capacitance", b_.capacitance_F},
                                  {"ohms", ohms()},
                                  {"averaged", b_.depth == "averaged" ? 1.0 : 0.0}},
                      .memory = std::move(memory),
                      .varies = true};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, 1.0 / (ohms() + squares() / (s * b_.capacitance_F)));
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double,
             double* values) override {
    double* slots = values + places.first;
    for (int k = 0; k < b_.submodules; ++k) slots[first_voltage + k] = b_.voltage_V;
    summarise(slots);
  }
  [[nodiscard]] int state_count() const override { return b_.submodules; }
  [[nodiscard]] States states() const override { return {true, first_voltage, b_.submodules, false}; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    double* slots = values + places.first;
    double v = values[places.p[0]] - values[places.q[0]];
    for (int k = 0; k < b_.submodules; ++k)
      v -= weight_[static_cast<std::size_t>(k)] * slots[first_voltage + k];
    slots[current] = currents[0] = v / ohms();
    for (int k = 0; k < b_.submodules; ++k)
      slopes[k] = weight_[static_cast<std::size_t>(k)] * currents[0] / b_.capacitance_F;
    summarise(slots);
  }
  /// The reference chooses when the number that is asked for changes.
  bool act(const Places& places, double, double* values) noexcept override {
    const std::array<double, 2> asked{values[places.knobs[0]], values[places.knobs[1]]};
    if (asked == asked_) return false;
    choose(asked, values + places.first);
    return true;
  }

  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const double* slots = old + places.first;
    // Once a step, on its first solution; what follows within it keeps the choice. A step that was looked
    // ahead begins anew when its knobs are turned.
    const std::array<double, 2> asked{old[places.knobs[0]], old[places.knobs[1]]};
    if (stretch.grid_s != chosen_at_) {
      weight_before_ = weight_;
      healthy_before_ = healthy_;
      choose(asked, slots);
    } else if (asked != asked_) {
      weight_ = weight_before_;
      healthy_ = healthy_before_;
      choose(asked, slots);
    }
    chosen_at_ = stretch.grid_s;
    const double wanted = siemens(stretch.step_s);
    const bool changes = wanted != conductance[0];
    conductance[0] = wanted;
    history[0] = -wanted * known(stretch, slots);
    return changes;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override {
    const double* before = old + places.first;
    double* slots = now + places.first;
    const double v = now[places.p[0]] - now[places.q[0]];
    const double i = conductance[0] * v + history[0];
    const double moved = rate(stretch.step_s) * (i + (whole(stretch) ? before[current] : 0));
    slots[current] = i;
    for (int k = 0; k < b_.submodules; ++k)
      slots[first_voltage + k] = before[first_voltage + k] + weight_[static_cast<std::size_t>(k)] * moved;
    summarise(slots);
  }

  enum { current, in, least, greatest, first_voltage };

 private:
  static bool whole(const Interval& stretch) noexcept { return stretch.rule == Rule::trapezoidal; }
  [[nodiscard]] double rate(double step_s) const noexcept { return step_s / 2 / b_.capacitance_F; }
  [[nodiscard]] double ohms() const noexcept { return b_.submodules * b_.on_resistance_ohm; }
  [[nodiscard]] double squares() const noexcept {
    double sum = 0;
    for (const double w : weight_) sum += w * w;
    return sum;
  }
  [[nodiscard]] double siemens(double step_s) const noexcept {
    return 1 / (ohms() + rate(step_s) * squares());
  }
  /// The stack's voltage at no current at the end.
  [[nodiscard]] double known(const Interval& stretch, const double* slots) const noexcept {
    const double moved = whole(stretch) ? rate(stretch.step_s) * slots[current] : 0;
    double sum = 0;
    for (int k = 0; k < b_.submodules; ++k) {
      const double w = weight_[static_cast<std::size_t>(k)];
      sum += w * (slots[first_voltage + k] + w * moved);
    }
    return sum;
  }
  void summarise(double* slots) const noexcept {
    const auto [low, high] = std::minmax_element(slots + first_voltage, slots + first_voltage + healthy_);
    slots[in] = 0;
    for (const double w : weight_) slots[in] += w;
    slots[least] = *low;
    slots[greatest] = *high;
  }

  /// Weights for the coming step. The last submodules are the bridged ones.
  void choose(const std::array<double, 2>& asked, const double* slots) noexcept {
    asked_ = asked;
    const auto [share, bypassed] = asked;
    const int n = b_.submodules;
    healthy_ = std::max(1, n - static_cast<int>(std::lround(bypassed * n)));
    for (int k = healthy_; k < n; ++k) weight_[static_cast<std::size_t>(k)] = 0;
    const double wanted = std::min(std::clamp(share, 0.0, 1.0) * n, static_cast<double>(healthy_));
    const bool averaged = b_.depth == "averaged";
    const int full = static_cast<int>(averaged ? std::floor(wanted + 1e-9) : std::lround(wanted));
    const double part = averaged ? std::max(0.0, wanted - full) : 0;
    if (slots == nullptr) {
      for (int k = 0; k < healthy_; ++k) weight_[static_cast<std::size_t>(k)] = k < full ? 1 : 0;
      if (full < healthy_) weight_[static_cast<std::size_t>(full)] = part;
      return;
    }
    // The one that was in for a part is out again before the others are counted.
    int now = 0;
    for (int k = 0; k < healthy_; ++k) {
      double& w = weight_[static_cast<std::size_t>(k)];
      if (w < 1) w = 0;
      now += w == 1 ? 1 : 0;
    }
    const double* u = slots + first_voltage;
    const bool charges = slots[current] >= 0;
    for (; now < full; ++now) weight_[best(u, false, charges)] = 1;
    for (; now > full; --now) weight_[best(u, true, !charges)] = 0;
    if (full > 0 && full < healthy_) exchange(u, charges);
    if (part > 0 && full < healthy_) weight_[best(u, false, charges)] = part;
  }
  /// Of those that are in (or out), the one of the least (or greatest) voltage.
  [[nodiscard]] std::size_t best(const double* u, bool in_now, bool lowest) const noexcept {
    int found = -1;
    for (int k = 0; k < healthy_; ++k) {
      if ((weight_[static_cast<std::size_t>(k)] == 1) != in_now) continue;
      if (found < 0 || (lowest ? u[k] < u[found] : u[k] > u[found])) found = k;
    }
    return static_cast<std::size_t>(std::max(found, 0));
  }
  void exchange(const double* u, bool charges) noexcept {
    const std::size_t enters = best(u, false, charges), leaves = best(u, true, !charges);
    const double gain = charges ? u[leaves] - u[enters] : u[enters] - u[leaves];
    if (gain < 0.02 * std::abs(u[leaves])) return;
    weight_[enters] = 1;
    weight_[leaves] = 0;
  }

  network::SubmoduleArm b_;
  Slot inserted_, bypassed_;
  std::vector<double> weight_;         // per submodule: share of the step for which it is in
  std::vector<double> weight_before_;  // ahead of the choice of the step at hand
  int healthy_ = 1, healthy_before_ = 1;
  double chosen_at_ = -1e300;
  std::array<double, 2> asked_{};  // of its knobs, at the last choice
};

}  // namespace

template <>
void assemble(const network::SubmoduleArm& arm, Assembly& assembly) {
  const std::string owner = "submodule_arm." + arm.name;
  const NodeId x = assembly.terminal(owner, "between", arm.between[0]);
  const NodeId y = assembly.terminal(owner, "between", arm.between[1]);
  const NodeId inner = assembly.new_node(owner + ".inner"), s = assembly.new_node(owner + ".stack");
  const Slot through =
      uncoupled_series(assembly, owner, {{x, inner}}, arm.resistance_ohm, arm.inductance_H)[0];
  ValvePart diode{.owner = owner,
                  .ends = {y, inner},
                  .kind = ValveKind::diode,
                  .on_resistance_ohm = arm.on_resistance_ohm * arm.submodules};
  (void)assembly.valve(std::move(diode));
  ValvePart enable{.owner = owner,
                   .ends = {s, inner},
                   .kind = ValveKind::transistor,
                   .on_resistance_ohm = arm.on_resistance_ohm};
  enable.diode_resistance_ohm = arm.on_resistance_ohm;
  const int index = assembly.valve(std::move(enable));
  assembly.gate(arm.name + ".enable", {index});
  const Slot inserted = assembly.knob(arm.name + ".inserted", "", arm.inserted, 0, 1);
  const Slot bypassed = assembly.knob(arm.name + ".bypassed", "", arm.bypassed, 0, 1);
  const Slot first = assembly.model(
      {.owner = owner, .ends = {{s, y}}, .model = std::make_unique<StackModel>(arm, inserted, bypassed)});
  assembly.signal(arm.name + ".i", "A", {value_of(through)});
  assembly.signal(arm.name + ".in", "", {value_of({first.index + StackModel::in})});
  assembly.signal(arm.name + ".least", "V", {value_of({first.index + StackModel::least})});
  assembly.signal(arm.name + ".greatest", "V", {value_of({first.index + StackModel::greatest})});
  assembly.signal(arm.name + ".v", "V", {voltage_of(s), voltage_of(y, -1)});
}

}  // namespace zavrek::emt::internal
