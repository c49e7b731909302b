// The network's differential-algebraic equations F(t, y, y') = 0, made of the same parts as the plant:
//   node       sum of the currents = 0
//   pole       R i - v = 0 with its current as an unknown: found from voltages next to each other it would be
//   as
//              coarse as their tolerance over R
//   valve      i = g (v - e) of its piece, which stays until a root of its margin or a gate edge
//   series     L i' + R i + u - v = 0,  u' - S i = 0
//   capacitance to ground or to a source   its current C v' enters the node;
//   capacitance between unknown nodes      w - v = 0 and C w' - i = 0 with unknowns w, i
//   bent inductance   x' - v = 0;   model   x' - slope = 0;   line   i = v/Z + what left the other end a
//   travel time ago
// Nodes that nothing but inductances hold would make the equations one of index 2: of each such set of nodes
// one row is replaced by the derivative of the sum of all, sum of i' = 0.
#pragma once

#include <vector>

#include "emt/compile/compile.hpp"

namespace zavrek::emt::internal {

class Continuous {
 public:
  explicit Continuous(const network::Network& network);

  [[nodiscard]] int size() const { return size_; }
  /// Which of the rows to replace, from the conductances of the poles as they stand; none if not wanted.
  void arrange(bool replace = true);
  /// 1 for unknowns whose derivative appears, else 0; after `arrange`.
  [[nodiscard]] const std::vector<double>& differential() const { return differential_; }
  /// Magnitude by which the tolerance of each unknown is measured.
  [[nodiscard]] const std::vector<double>& scales() const { return scales_; }
  void start(double* y) const;

  void residual(double t, const double* y, const double* dy, double* f);
  /// Writes y into the value array, so that signals can be read.
  void read(double t, const double* y);
  /// Writes the currents of the lines, which are no unknowns, after `residual`.
  void read_lines(double t);
  /// How far valve k is from leaving its piece, in volts or amperes; after `read`.
  [[nodiscard]] double valve_margin(std::size_t k) const {
    const ValveGroup& valves = core().valves;
    return valves.margin(k, values_[static_cast<std::size_t>(valves.voltage(k))]);
  }
  /// Changes over each valve that does not fit y; whether any did.
  bool fit_valves(double t, const double* y);
  /// Whether all equations are linear in unknown k: the network's own, as long as no curve or varying model
  /// hangs on it.
  [[nodiscard]] bool is_linear(int k) const { return k < first_bent_; }
  [[nodiscard]] const double* values() const { return values_.data(); }
  void turn(const Knob& knob, double value) { values_[static_cast<std::size_t>(knob.slot.index)] = value; }
  [[nodiscard]] double value(const SignalRow& row) const {
    return core().signals.sum_of(row, values_.data());
  }
  [[nodiscard]] double pole_voltage(const Pole& pole, const double* y) const;
  [[nodiscard]] double pole_current(const Pole& pole, const double* y) const {
    return y[pole_at_[core().poles.place_of(pole)]];
  }
  /// Lets the controls of models act at an accepted instant; whether any changed something at once.
  bool act(double t, const double* y);

  /// Keeps the waves of an accepted instant; with `jump`, what follows is not joined smoothly to what was.
  void remember(double t, const double* y, bool jump);
  [[nodiscard]] double shortest_travel_s() const { return shortest_travel_s_; }
  /// Times after which a jump at one place arrives as a jump at another. Lines that follow the frequency let
  /// no jump through.
  [[nodiscard]] const std::vector<double>& travel_times_s() const { return travel_times_s_; }
  /// What was kept at accepted instants, at an instant not before `kept_begins_s`.
  [[nodiscard]] double kept_at(std::size_t series, double t) const;
  [[nodiscard]] double kept_begins_s() const;

  [[nodiscard]] Core& core() { return *compiled_.core; }
  [[nodiscard]] const Core& core() const { return *compiled_.core; }
  /// Bus or element that unknown k belongs to.
  [[nodiscard]] const std::string& owner(int k) const { return owners_[static_cast<std::size_t>(k)]; }

 private:
  [[nodiscard]] int unknown(NodeId node) const;
  [[nodiscard]] double node(NodeId node) const;
  [[nodiscard]] double across(const Ends& ends) const { return node(ends.p) - node(ends.q); }
  void add_current(const Ends& ends, double current, double* f) const;
  void add_slope(const Ends& ends, double slope);
  [[nodiscard]] double node_slope(NodeId node, const double* dy, double t) const;
  [[nodiscard]] int slot(Slot s) const;
  void place_unknowns();
  int take(int count, const std::string& owner, double scale, bool differential);
  [[nodiscard]] double wave_at(std::size_t line, Eigen::Index mode, int end, double t) const;
  [[nodiscard]] bool floats(const std::vector<Ends>& ends) const;
  void mark_differential(const Ends& ends);
  [[nodiscard]] double rate_across(const Ends& ends, const double* dy, double t) const {
    return node_slope(ends.p, dy, t) - node_slope(ends.q, dy, t);
  }
  void remember_model(std::size_t k, double t);
  void line_currents(double t, const WavePart& part, std::size_t index, double* near, double* far) const;

  network::Network network_;  // the assembly refers to it
  Compiled compiled_;
  std::vector<double> values_;  // as of the plant
  int size_ = 0;
  int first_bent_ = 0;  // of the unknowns in which equations may bend
  std::vector<double> differential_, fixed_differential_, scales_;
  std::vector<std::string> owners_;
  std::vector<int> series_at_, charge_at_, capacitance_at_, pole_at_, segment_at_, model_at_;
  std::vector<int> model_rates_at_;  // voltages of capacitive models between unknown nodes; -1
  std::vector<int> replaced_;        // per unknown node: set whose derivative stands in its row, or -1
  std::vector<int> set_of_;          // per unknown node: untied set, or -1
  std::vector<double> set_slopes_;   // per set: sum of the derivatives of the currents that leave it
  double voltage_scale_ = 1;
  double shortest_travel_s_ = 1e300;
  std::vector<double> travel_times_s_;
  std::vector<double> kept_times_;
  std::vector<std::size_t> kept_from_;      // where each smooth stretch of them begins
  std::vector<std::vector<double>> kept_;   // per line, end and mode; then the models' remembered slots
  std::vector<std::size_t> remembered_at_;  // per model: the first of its own in kept_
};

}  // namespace zavrek::emt::internal
