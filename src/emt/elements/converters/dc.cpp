// D.c. side. Battery, i being what it gives: v = f (E(q) - R i - u1 - u2) - Ra i,  T_k du_k/dt = R_k i - u_k,
// dq/dt = -i/Q; f is the share of its cells that are not shorted, Ra what failing ones add. Link: capacitors
// p-n, or p-m and m-n. Source: i = (v - E)/R from p to n, as seen by the network; `NAME.i` is what it gives.
#include <fmt/format.h>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

NodeId pole(const Assembly& assembly, const std::string& owner, const std::string& bus, char letter) {
  const std::size_t at = assembly.bus(bus).phases.find(letter);
  if (at == std::string::npos)
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "bus",
                     .text = fmt::format("\"{}\" has no pole {}; give it phases = \"pn\"", bus, letter)});
  return assembly.nodes(bus)[at];
}

class DcSourceModel final : public Model {
 public:
  DcSourceModel(double ohm, Slot voltage) : siemens_(1 / ohm), voltage_(voltage) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<DcSourceModel>(*this);
  }
  [[nodiscard]] int slots() const override { return 1; }
  [[nodiscard]] std::vector<Slot> knobs() const override { return {voltage_}; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens_);
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, siemens_);
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    return WrittenLaw{"dc_source", {{"siemens", siemens_}}};
  }
  void start(const Places&, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double, double*) override {}
  [[nodiscard]] States states() const override { return {true, 0, 0, false}; }
  void slopes(const Places& places, double* values, double* currents, double*) noexcept override {
    currents[0] = siemens_ * (across(places, values) - values[places.knobs[0]]);
    values[places.first] = -currents[0];
  }
  bool begin(const Interval&, const Places& places, const double* old, double* history,
             double*) noexcept override {
    history[0] = -siemens_ * old[places.knobs[0]];
    return false;
  }
  void end(const Interval&, const Places& places, const double*, double* now, const double* history,
           const double*) noexcept override {
    now[places.first] = -(siemens_ * across(places, now) + history[0]);
  }

 private:
  [[nodiscard]] static double across(const Places& places, const double* values) noexcept {
    return values[places.p[0]] - values[places.q[0]];
  }
  double siemens_;
  Slot voltage_;
};

/// A capacitor with a series resistance R and a share k of its capacitance left: v = R i + u, k C du/dt = i.
/// With d = h/(2 k C) either rule gives u = u' + d i, u' being known. Age takes capacitance, not voltage.
class AgedCapacitor final : public Model {
 public:
  AgedCapacitor(const network::DcLink& link, double voltage_V, Slot remaining)
      : capacitance_F_(link.capacitance_F),
        series_ohm_(link.series_resistance_ohm),
        voltage_V_(voltage_V),
        remaining_(remaining),
        left_(network::is_set(link.remaining) ? link.remaining : 1) {}
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<AgedCapacitor>(*this);
  }
  void visit_state(StateArchive& archive) override { archive(left_); }
  [[nodiscard]] int slots() const override { return 2; }  // i, u
  [[nodiscard]] std::vector<Slot> knobs() const override {
    return remaining_.index < 0 ? std::vector<Slot>{} : std::vector<Slot>{remaining_};
  }
  [[nodiscard]] bool varies() const override { return remaining_.index >= 0; }
  [[nodiscard]] bool varies_by_itself() const override { return false; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens(step_s, left_));
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double step_s) const override {
    return WrittenLaw{
        .kind = "aged_capacitor",
        .numbers = {{"series", series_ohm_}, {"rate", rate(step_s, 1)}, {"ages", varies() ? 1.0 : 0.0}},
        .varies = true};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, 1.0 / (series_ohm_ + 1.0 / (s * left_ * capacitance_F_)));
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd& i, double,
             double* values) override {
    values[places.first] = i[0].real();
    values[places.first + 1] = voltage_V_;
  }
  [[nodiscard]] States states() const override {
    const bool resists = series_ohm_ > 0;
    return {.known = true, .first = 1, .count = resists ? 1 : 0, .capacitive = !resists};
  }
  void take_rates(const double* rates) noexcept override { rate_ = rates[0]; }
  [[nodiscard]] int state_count() const override { return 1; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    const double farad = capacitance_F_ * (remaining_.index < 0 ? 1 : values[places.knobs[0]]);
    const double v = values[places.p[0]] - values[places.q[0]];
    double& u = values[places.first + 1];
    if (series_ohm_ > 0) {
      currents[0] = (v - u) / series_ohm_;
      slopes[0] = currents[0] / farad;
    } else {
      u = v;
      currents[0] = farad * rate_;
    }
    values[places.first] = currents[0];
  }
  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const double left = remaining_.index < 0 ? 1 : old[places.knobs[0]];
    const bool changed = left != left_;
    left_ = left;
    if (changed) conductance[0] = siemens(stretch.step_s, left);
    history[0] = -conductance[0] * known(stretch, old + places.first);
    return changed;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override {
    double* slots = now + places.first;
    slots[0] = conductance[0] * (now[places.p[0]] - now[places.q[0]]) + history[0];
    slots[1] = known(stretch, old + places.first) + rate(stretch.step_s, left_) * slots[0];
  }

 private:
  [[nodiscard]] double rate(double step_s, double left) const noexcept {
    return step_s / 2 / (left * capacitance_F_);
  }
  [[nodiscard]] double siemens(double step_s, double left) const noexcept {
    return 1 / (series_ohm_ + rate(step_s, left));
  }
  [[nodiscard]] double known(const Interval& stretch, const double* before) const noexcept {
    return stretch.rule == Rule::half_euler ? before[1] : before[1] + rate(stretch.step_s, left_) * before[0];
  }
  double capacitance_F_, series_ohm_, voltage_V_;
  Slot remaining_;
  double left_;      // share of the capacitance
  double rate_ = 0;  // dv/dt, of the reference
};

/// With d = h/(2 T_k), either rule gives u_k = a_k' + b_k i with b_k = d R_k/(1 + d), a_k' being known. E(q)
/// is taken at the state of charge before the step, which no step changes by more than a millionth.
class BatteryModel final : public Model {
 public:
  /// `failing`: knobs of cells that are shorted, and of what is added; none of a battery whose cells never
  /// fail.
  BatteryModel(const network::Battery& battery, double step_s, std::vector<Slot> failing)
      : b_(battery),
        failing_(std::move(failing)),
        ails_{battery.shorted_cells, battery.added_resistance_ohm} {
    const double ohms[] = {b_.fast_resistance_ohm, b_.slow_resistance_ohm},
                 times[] = {b_.fast_time_s, b_.slow_time_s};
    felt_ohm_ = b_.resistance_ohm;
    for (int k = 0; k < 2; ++k) {
      const double d = step_s / 2 / times[k];
      pairs_[k] = {ohms[k], d, d * ohms[k] / (1 + d)};
      felt_ohm_ += pairs_[k].gain;
    }
  }
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<BatteryModel>(*this);
  }
  void visit_state(StateArchive& archive) override { archive(ails_.shorted, ails_.added_resistance_ohm); }
  [[nodiscard]] int slots() const override { return 4; }  // i, q, u1, u2
  [[nodiscard]] std::vector<Slot> knobs() const override { return failing_; }
  [[nodiscard]] bool varies() const override { return !failing_.empty(); }
  [[nodiscard]] bool varies_by_itself() const override { return false; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, siemens(ails_));
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    constexpr std::size_t most_points = 32;
    if (b_.open_circuit.size() > most_points) return std::nullopt;
    const auto of_pairs = [&](double Pair::*what) {
      return Eigen::Vector2d(pairs_[0].*what, pairs_[1].*what);
    };
    const auto points = static_cast<Eigen::Index>(b_.open_circuit.size());
    Eigen::VectorXd charges(points), volts(points);
    for (Eigen::Index k = 0; k < points; ++k) {
      charges[k] = b_.open_circuit[static_cast<std::size_t>(k)].x;
      volts[k] = b_.open_circuit[static_cast<std::size_t>(k)].y;
    }
    return WrittenLaw{.kind = "battery",
                      .numbers = {{"fails", varies() ? 1.0 : 0.0},
                                  {"cells", static_cast<double>(b_.cells)},
                                  {"felt", felt_ohm_},
                                  {"capacity", b_.capacity_C},
                                  {"points", static_cast<double>(points)}},
                      .arrays = {{"ohm", of_pairs(&Pair::ohm)},
                                 {"d", of_pairs(&Pair::d)},
                                 {"gain", of_pairs(&Pair::gain)},
                                 {"charge", charges},
                                 {"volts", volts}},
                      .varies = true};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    const std::complex<double> z = b_.resistance_ohm + b_.fast_resistance_ohm / (1.0 + s * b_.fast_time_s) +
                                   b_.slow_resistance_ohm / (1.0 + s * b_.slow_time_s);
    return Eigen::MatrixXcd::Constant(1, 1, 1.0 / (healthy(ails_) * z + ails_.added_resistance_ohm));
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double,
             double* values) override {
    values[places.first + charge] = b_.charge;
  }
  [[nodiscard]] States states() const override { return {true, 1, 3, false}; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    double* slots = values + places.first;
    const double v = values[places.p[0]] - values[places.q[0]];
    const Ails ails = read(places, values);
    const double f = healthy(ails);
    const double i = (f * (open_circuit(slots[charge]) - slots[first_pair] - slots[first_pair + 1]) - v) /
                     (f * b_.resistance_ohm + ails.added_resistance_ohm);
    slots[current] = i;
    currents[0] = -i;
    slopes[0] = -i / b_.capacity_C;
    slopes[1] = (b_.fast_resistance_ohm * i - slots[first_pair]) / b_.fast_time_s;
    slopes[2] = (b_.slow_resistance_ohm * i - slots[first_pair + 1]) / b_.slow_time_s;
  }
  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    const Ails ails = read(places, old);
    const bool changed =
        ails.shorted != ails_.shorted || ails.added_resistance_ohm != ails_.added_resistance_ohm;
    ails_ = ails;
    if (changed) conductance[0] = siemens(ails);
    const double* slots = old + places.first;
    double behind = open_circuit(slots[charge]);
    for (int k = 0; k < 2; ++k) behind -= known(stretch, k, slots);
    history[0] = -siemens(ails) * healthy(ails) * behind;
    return changed;
  }
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double*) noexcept override {
    const double* before = old + places.first;
    double* slots = now + places.first;
    const double i = -(siemens(ails_) * (now[places.p[0]] - now[places.q[0]]) + history[0]);
    slots[current] = i;
    for (int k = 0; k < 2; ++k) slots[first_pair + k] = known(stretch, k, before) + pairs_[k].gain * i;
    const double mean = stretch.rule == Rule::trapezoidal ? (i + before[current]) / 2 : i;
    slots[charge] = before[charge] - mean * stretch.length_s() / b_.capacity_C;
  }

 private:
  enum { current, charge, first_pair };
  struct Pair {
    double ohm, d, gain;
  };
  struct Ails {
    double shorted = 0, added_resistance_ohm = 0;
  };
  [[nodiscard]] Ails read(const Places& places, const double* values) const noexcept {
    return failing_.empty() ? Ails{} : Ails{values[places.knobs[0]], values[places.knobs[1]]};
  }
  /// Share of its cells that are not shorted.
  [[nodiscard]] double healthy(const Ails& ails) const noexcept {
    return ails.shorted == 0 ? 1 : 1 - ails.shorted / b_.cells;
  }
  [[nodiscard]] double siemens(const Ails& ails) const noexcept {
    return 1 / (healthy(ails) * felt_ohm_ + ails.added_resistance_ohm);
  }
  /// What of u_k follows from the past.
  [[nodiscard]] double known(const Interval& stretch, int k, const double* before) const noexcept {
    const Pair& pair = pairs_[k];
    const double u = before[first_pair + k];
    if (stretch.rule == Rule::half_euler) return u / (1 + pair.d);
    return ((1 - pair.d) * u + pair.d * pair.ohm * before[current]) / (1 + pair.d);
  }
  [[nodiscard]] double open_circuit(double q) const noexcept {
    const network::Points& c = b_.open_circuit;
    if (q <= c.front().x) return c.front().y;
    for (std::size_t k = 1; k < c.size(); ++k) {
      if (q <= c[k].x) return c[k - 1].y + (q - c[k - 1].x) / (c[k].x - c[k - 1].x) * (c[k].y - c[k - 1].y);
    }
    return c.back().y;
  }

  network::Battery b_;
  std::vector<Slot> failing_;
  Ails ails_;
  Pair pairs_[2];
  double felt_ohm_ = 0;  // at once, of all cells
};

}  // namespace

template <>
void assemble(const network::Battery& battery, Assembly& assembly) {
  const std::string owner = "battery." + battery.name;
  if (battery.open_circuit.empty())
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "open_circuit",
                     .text = "missing; points are wanted, such as [\"0 %: 640 V\", \"100 %: 820 V\"]"});
  std::vector<Slot> failing;
  if (battery.cells > 0) {
    const double most = battery.cells - 1;
    if (battery.shorted_cells > most)
      throw Error(Flaw{.file = {},
                       .place = owner,
                       .field = "shorted_cells",
                       .text = fmt::format("at most {} of its {} cells", most, battery.cells)});
    failing = {
        assembly.knob(battery.name + ".shorted_cells", "", battery.shorted_cells, 0, most),
        assembly.knob(battery.name + ".added_resistance", "ohm", battery.added_resistance_ohm, 0, 1e6)};
  } else if (battery.shorted_cells > 0 || battery.added_resistance_ohm > 0) {
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "cells",
                     .text = "missing; how many are in series is wanted where some of them fail"});
  }
  const Slot first = assembly.model(
      {.owner = owner,
       .ends = {{pole(assembly, owner, battery.bus, 'p'), pole(assembly, owner, battery.bus, 'n')}},
       .model = std::make_unique<BatteryModel>(battery, assembly.step_s(), std::move(failing))});
  assembly.signal(battery.name + ".i", "A", {value_of(first)});
  assembly.signal(battery.name + ".charge", "", {value_of({first.index + 1})});
}

template <>
void assemble(const network::DcLink& link, Assembly& assembly) {
  const std::string owner = "dc_link." + link.name;
  const NodeId p = pole(assembly, owner, link.bus, 'p'), n = pole(assembly, owner, link.bus, 'n');
  std::vector<Ends> capacitors{{p, n}};
  std::vector<NodeId> earthed{p, n};
  if (assembly.bus(link.bus).phases.find('m') != std::string::npos) {
    const NodeId m = pole(assembly, owner, link.bus, 'm');
    capacitors = {{p, m}, {m, n}};
    earthed = {m};
  }
  const bool ages = network::is_set(link.remaining);
  Slot remaining;
  if (ages) remaining = assembly.knob(link.name + ".remaining", "", link.remaining, 0.01, 1);
  for (const Ends& ends : capacitors) {
    if (network::is_set(link.discharge_ohm)) assembly.conductance(ends, 1 / link.discharge_ohm);
    if (ages || link.series_resistance_ohm > 0) {
      const double share = 1 / static_cast<double>(capacitors.size());
      assembly.model({.owner = owner,
                      .ends = {ends},
                      .model = std::make_unique<AgedCapacitor>(link, link.voltage_V * share, remaining)});
      continue;
    }
    assembly.capacitance({.owner = owner,
                          .ends = {ends},
                          .capacitance = Eigen::MatrixXd::Constant(1, 1, link.capacitance_F),
                          .first_current = {}});
  }
  if (network::is_set(link.earth_ohm)) {
    for (const NodeId node : earthed) assembly.conductance({node, ground_node}, 1 / link.earth_ohm);
  }
  if (link.voltage_V > 0) assembly.charge({p, n}, link.voltage_V);
  assembly.signal(link.name + ".v", "V", {voltage_of(p), voltage_of(n, -1)});
  if (capacitors.size() == 2)
    assembly.signal(link.name + ".v_upper", "V",
                    {voltage_of(capacitors[0].p), voltage_of(capacitors[0].q, -1)});
}

template <>
void assemble(const network::DcSource& source, Assembly& assembly) {
  const std::string owner = "dc_source." + source.name;
  const bool between = !source.plus.empty() || !source.minus.empty();
  if (between == !source.bus.empty() || source.plus.empty() != source.minus.empty())
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = "bus",
                     .text = "a bus is wanted, or the terminals plus and minus, not both"});
  const Slot voltage = assembly.knob(source.name + ".voltage", "V", source.voltage_V, -1e9, 1e9);
  const Ends ends =
      between ? Ends{assembly.terminal(owner, "plus", source.plus),
                     assembly.terminal(owner, "minus", source.minus)}
              : Ends{pole(assembly, owner, source.bus, 'p'), pole(assembly, owner, source.bus, 'n')};
  const Slot first =
      assembly.model({.owner = owner,
                      .ends = {ends},
                      .model = std::make_unique<DcSourceModel>(source.resistance_ohm, voltage)});
  assembly.signal(source.name + ".i", "A", {value_of(first)});
}

}  // namespace zavrek::emt::internal
