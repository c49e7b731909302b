// The network's differential-algebraic equations F(t, y, y') = 0, made of the same parts as the plant: what
// each kind of part adds stands in its source in kinds/, what they share in kinds/equations.hpp.
#pragma once

#include <memory>
#include <vector>

#include "emt/compile/compile.hpp"
#include "emt/kinds/equations.hpp"

namespace zavrek::emt::internal {

class Continuous {
 public:
  explicit Continuous(const network::Network& network);

  [[nodiscard]] int size() const { return frame_.size(); }
  /// Which of the rows to replace, from the conductances of the poles as they stand; none if not wanted.
  void arrange(bool replace = true);
  /// 1 for unknowns whose derivative appears, else 0.
  [[nodiscard]] const std::vector<double>& differential() const { return frame_.differential; }
  /// Magnitude by which the tolerance of each unknown is measured.
  [[nodiscard]] const std::vector<double>& scales() const { return frame_.scales; }
  void start(double* y) const;

  void residual(double t, const double* y, const double* dy, double* f);
  /// Writes y into the value array, so that signals can be read.
  void read(double t, const double* y);
  /// Writes what is no unknown (the currents of lines), after `residual`.
  void read_rest(double t);
  /// How far valve k is from leaving its piece, in volts or amperes; after `read`.
  [[nodiscard]] double valve_margin(std::size_t k) const {
    const ValveGroup& valves = core().valves;
    return valves.margin(k, frame_.values[static_cast<std::size_t>(valves.voltage(k))]);
  }
  [[nodiscard]] const std::string& valve_owner(std::size_t k) const {
    return frame_.assembly.valve_parts[k].owner;
  }
  /// How far model k is from the instant at which it has to act; after `read`.
  [[nodiscard]] double model_margin(std::size_t k) const {
    const ModelRow& row = core().models[k];
    return row.model->margin(row.places, frame_.values.data());
  }
  /// Changes over each valve that does not fit y; whether any did.
  bool fit_valves(double t, const double* y);
  /// Whether all equations are linear in unknown k: the network's own, as long as no curve or varying model
  /// hangs on it.
  [[nodiscard]] bool is_linear(int k) const { return frame_.is_linear(k); }
  [[nodiscard]] const double* values() const { return frame_.values.data(); }
  void turn(const Knob& knob, double value) {
    frame_.values[static_cast<std::size_t>(knob.slot.index)] = value;
  }
  [[nodiscard]] double value(const SignalRow& row) const {
    return core().signals.sum_of(row, frame_.values.data());
  }
  [[nodiscard]] double pole_voltage(const Pole& pole, const double* y) const;
  [[nodiscard]] double pole_current(const Pole& pole, const double* y) const {
    return y[frame_.pole_unknowns[core().poles.place_of(pole)]];
  }
  /// Lets the controls of models act at an accepted instant; whether any changed something at once.
  bool act(double t, const double* y);

  /// Keeps the waves of an accepted instant; with `jump`, what follows is not joined smoothly to what was.
  void keep(double t, const double* y, bool jump);
  /// 1e300 without lines.
  [[nodiscard]] double shortest_travel_s() const;
  /// Times after which a jump at one place arrives as a jump at another. Lines that follow the frequency let
  /// no jump through.
  [[nodiscard]] std::vector<double> jumps_arrive_s() const;

  [[nodiscard]] Core& core() { return *compiled_.core; }
  [[nodiscard]] const Core& core() const { return *compiled_.core; }
  /// Bus or element that unknown k belongs to.
  [[nodiscard]] const std::string& owner(int k) const { return frame_.owners[static_cast<std::size_t>(k)]; }

 private:
  network::Network network_;  // the assembly refers to it
  Compiled compiled_;
  ContinuousFrame frame_;
  std::vector<std::unique_ptr<PartEquations>> equations_;  // per kind that has some
};

}  // namespace zavrek::emt::internal
