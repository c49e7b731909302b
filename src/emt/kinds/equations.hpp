// The network's differential-algebraic equations F(t, y, y') = 0, kind of part by kind of part. Each node's
// row is the sum of the currents that leave it; each kind adds its currents there, and rows of its own with
// unknowns of its own. Its source says which.
#pragma once

#include <string>
#include <vector>

#include "emt/parts/assembly.hpp"
#include "emt/parts/layout.hpp"
#include "emt/step/core.hpp"

namespace zavrek::emt::internal {

/// The step at which a start is calculated: so short that its phasors are those of the continuous equations.
inline constexpr double continuous_start_step_s = 1e-7;

/// Values kept at accepted instants, interpolated between them.
class KeptValues {
 public:
  static constexpr double same_instant_s = 1e-12;

  /// Room for `count` series of values; returns the number of the first.
  std::size_t add(std::size_t count);
  [[nodiscard]] bool empty() const { return series_.empty(); }
  /// Ahead of the values of a new instant; with `jump`, what follows is not joined smoothly to what was.
  void begin(bool jump);
  void push(std::size_t series, double value) { series_[series].push_back(value); }
  void end(double time_s) { times_s_.push_back(time_s); }
  /// The first instant that values were kept at; 1e300 without any.
  [[nodiscard]] double begins_s() const {
    return times_s_.empty() ? 1e300 : times_s_.front() - same_instant_s;
  }
  /// At an instant not before that: third-order interpolation between accepted instants.
  [[nodiscard]] double at(std::size_t series, double t) const;

 private:
  std::vector<double> times_s_;
  std::vector<std::size_t> smooth_from_;  // index in times_s_ where each smooth stretch begins
  std::vector<std::vector<double>> series_;
};

/// What the equations of all kinds share: unknowns, values, the rows of the nodes.
class ContinuousFrame {
 public:
  ContinuousFrame(Core& the_core, const Assembly& the_assembly, const Layout& the_layout);

  Core& core;
  const Assembly& assembly;
  const Layout& layout;
  std::vector<double> values;      ///< as the plant's value array
  std::vector<int> pole_unknowns;  ///< per pole: its current among the unknowns
  KeptValues kept;
  double voltage_scale = 1, current_scale = 1;  ///< V, A

  // --- unknowns ------------------------------------------------------------------------------
  struct Unknowns {
    bool differential = false;  // their derivatives appear
    bool bent = false;          // an equation bends along them
  };
  int take(int count, const std::string& owner, double scale, Unknowns what);
  /// Equations bend along any unknown: a curve hangs on the node voltages.
  void bend_all() { all_bent_ = true; }
  [[nodiscard]] int size() const { return static_cast<int>(scales.size()); }
  [[nodiscard]] bool is_linear(int k) const { return !all_bent_ && !bent_[static_cast<std::size_t>(k)]; }
  std::vector<double> scales;        ///< by which the tolerance of each unknown is measured
  std::vector<double> differential;  ///< 1 for unknowns whose derivative appears, else 0
  std::vector<std::string> owners;   ///< bus or element that each unknown belongs to
  /// A part with derivatives of the voltages across `ends`: whether it needs unknowns of its own, since both
  /// nodes of one of them are unknown.
  [[nodiscard]] bool floats(const std::vector<Ends>& ends) const;
  void mark_differential(const Ends& ends);

  // --- values --------------------------------------------------------------------------------
  /// Number of a node among the unknowns, or -1.
  [[nodiscard]] int unknown(NodeId n) const { return layout.unknown[node_position(n)]; }
  [[nodiscard]] double node(NodeId n) const { return values[node_position(n)]; }
  [[nodiscard]] double across(const Ends& ends) const { return node(ends.p) - node(ends.q); }
  [[nodiscard]] double& value(Slot slot) {
    return values[static_cast<std::size_t>(layout.slot_position[static_cast<std::size_t>(slot.index)])];
  }
  [[nodiscard]] double& value(Slot first, std::size_t k) {
    return value({first.index + static_cast<int>(k)});
  }
  /// Writes the sources' and the nodes' voltages of y into the values.
  void read_nodes(double t, const double* y);
  /// dv/dt of a node; of a source's node from its waveform.
  [[nodiscard]] double node_slope(NodeId n, const double* dy, double t) const;
  [[nodiscard]] double rate_across(const Ends& ends, const double* dy, double t) const {
    return node_slope(ends.p, dy, t) - node_slope(ends.q, dy, t);
  }

  // --- rows of the nodes ---------------------------------------------------------------------
  void add_current(const Ends& ends, double current, double* f) const;
  /// Nodes that nothing but inductances hold would make the equations one of index 2: of each such set of
  /// nodes one row is replaced by the derivative of the sum of all, sum of i' = 0. Here goes an i'.
  void add_slope(const Ends& ends, double slope);
  struct Held {
    std::vector<Ends> tied;       // by more than an inductance
    std::vector<Ends> inductive;  // only inductances make a set worth replacing a row for: what hangs on
                                  // open switches alone keeps its own
  };
  void find_sets(const Held& held, bool replace);
  void clear_slopes();
  void put_replaced(double* f) const;

 private:
  [[nodiscard]] std::size_t node_position(NodeId n) const {
    return static_cast<std::size_t>(layout.node_position[static_cast<std::size_t>(n)]);
  }

  bool all_bent_ = false;
  std::vector<char> bent_;          // per unknown
  std::vector<int> replaced_;       // per unknown node: set whose derivative stands in its row, or -1
  std::vector<int> set_of_;         // per unknown node: untied set, or -1
  std::vector<double> set_slopes_;  // per set: sum of the derivatives of the currents that leave it
};

/// The equations of all parts of one kind.
class PartEquations {
 public:
  /// A conductance below this holds no node: an open switch, the flat piece of an arrester.
  static constexpr double weak_S = 1e-6;

  explicit PartEquations(ContinuousFrame& frame) : frame_(frame) {}
  PartEquations(const PartEquations&) = delete;
  PartEquations& operator=(const PartEquations&) = delete;
  virtual ~PartEquations() = default;

  /// What its parts hold as the switches stand.
  virtual void hold(ContinuousFrame::Held& held) const = 0;
  /// Its unknowns, from the values.
  virtual void start(double* /*y*/) const {}
  /// Writes its unknowns into the values, so that signals can be read.
  virtual void read(double /*t*/, const double* /*y*/) {}
  /// Its rows, and its currents into those of the nodes; behind `read`.
  virtual void residual(double t, const double* y, const double* dy, double* f) = 0;
  /// Values that are no unknowns, behind `residual`.
  virtual void read_rest(double /*t*/) {}
  /// Lets controls of its own act at an accepted instant; whether one changed something at once.
  virtual bool act(double /*t*/) { return false; }
  /// Keeps what its equations will ask of an accepted instant.
  virtual void keep(double /*t*/) {}
  /// Times after which a jump at one place arrives as a jump at another.
  virtual void add_jump_arrivals(std::vector<double>& /*times_s*/) const {}
  /// Times after which anything that happens at one place arrives at another.
  virtual void add_travel_times(std::vector<double>& /*times_s*/) const {}

 protected:
  ContinuousFrame& frame_;
};

}  // namespace zavrek::emt::internal
