// The continuous equations (continuous.hpp) in the hands of SUNDIALS IDA. Every switching, and every arrival
// of what it set off at the end of a line, starts the integration anew from consistent values. reference.cpp
// integrates and takes the samples, reference_events.cpp does what happens at an instant.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <set>
#include <utility>
#include <vector>

#include <ida/ida.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunmatrix/sunmatrix_dense.h>

#include "emt/reference/continuous.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt::internal {

class ReferenceSolver final : public ControlledPlant {
 public:
  ReferenceSolver(const Study& study, const ReferenceOptions& options);
  ReferenceSolver(const ReferenceSolver&) = delete;
  ReferenceSolver& operator=(const ReferenceSolver&) = delete;
  ~ReferenceSolver() override;
  Series run();

 private:
  static constexpr double never = 1e300;
  /// Waves of a switching are followed over so many passages before the integrator copes alone.
  static constexpr int followed_passages = 40;
  /// A restrike's current begins at nothing: that is not the zero at which its arc goes out.
  static constexpr double shortest_arc_s = 1e-7;
  struct Freed {
    void operator()(N_Vector v) const { N_VDestroy(v); }
    void operator()(SUNMatrix m) const { SUNMatDestroy(m); }
    void operator()(SUNLinearSolver s) const { SUNLinSolFree(s); }
  };
  using Vector = std::unique_ptr<std::remove_pointer_t<N_Vector>, Freed>;

  // --- asked by the control -----------------------------------------------------------------
  [[nodiscard]] double time_s() const noexcept override { return time_; }
  [[nodiscard]] double step_s() const noexcept override { return 1e-9; }
  [[nodiscard]] double value(SignalId signal) const noexcept override;
  bool open(OperableId what, double at_s) noexcept override;
  bool close(OperableId what, double at_s) noexcept override;
  bool fire(GateId gate, bool on, double at_s) noexcept override;
  void turn(KnobId knob, double value) noexcept override;

  // --- integration --------------------------------------------------------------------------
  static double* data(const Vector& v) { return N_VGetArrayPointer(v.get()); }
  static int residual(realtype t, N_Vector y, N_Vector dy, N_Vector f, void* self);
  /// One per pole, valve and watched model: what must pass zero for it to change over, or to act.
  static int roots(realtype t, N_Vector y, N_Vector, realtype* g, void* data);
  /// dF/dy + c dF/dy' by differences. Most of the network is linear, so that the whole size of a value may be
  /// its difference: a small one would drown what large resistances pass in the rounding of what conductances
  /// of valves do. Where values bend curves the differences stay small.
  static int jacobian(realtype t, realtype c, N_Vector y, N_Vector dy, N_Vector f, SUNMatrix to,
                      void* self_at, N_Vector, N_Vector, N_Vector);
  [[nodiscard]] double distance(const Pole& pole, double t, const double* y) const;
  [[nodiscard]] std::size_t watched() const {
    return equations_.core().poles.size() + equations_.core().valves.size() + watched_models_.size();
  }
  void create();
  void check(int flag, const char* what) const;
  /// One more step, or round of what changes over: throws Error when time hardly moves for it.
  void account();
  /// What the integrator's estimate of its error says is hardest to follow.
  [[nodiscard]] std::string stiffest() const;
  [[nodiscard]] double next_event() const;
  /// Integrates up to `stop`, or to where a pole opens, and takes the samples on the way.
  void advance_to(double stop);
  [[nodiscard]] std::size_t operable(const std::string& name) const;
  [[nodiscard]] int gate(const std::string& name) const;
  [[nodiscard]] int knob(const std::string& name) const;
  void begin_series();
  [[nodiscard]] double next_due() const { return static_cast<double>(next_sample_) * study_.sample_s; }
  /// The next sample, interpolated within the step that reached `reached`.
  void sample(double reached);

  // --- at an instant ------------------------------------------------------------------------
  void request(std::size_t what, bool close, double at_s);
  /// Pieces that fit one another at the present instant: each round changes over those that do not.
  void settle_valves();
  /// Voltages and derivatives that fit the states at the present instant, by two steps of Newton's method.
  /// Between two pieces that do not fit, what an inductance drives through valves that are off is of any
  /// size: no iteration that measures itself would end there.
  void solve_instant(int iterations = 2);
  /// Newton's method on the residual at the present instant, the slopes by differences: `move(k, d)` moves
  /// unknown k, `share(k)` of its scale for a difference.
  template <class Share, class Move>
  void solve_for(int iterations, Share&& share, Move&& move);
  /// Consistent algebraic values and derivatives from the states as they are.
  void restart(double t, int passages);
  /// IDA measures its own way home by the weights of its tolerance, and gives up where a current must jump
  /// from thousands of them to nothing; Newton's method on exact slopes then goes there.
  void begin_consistent();
  /// A first step that is too long for the blow of a capacitance fails at every length that IDA tries. Now
  /// and then it gives up further on too (in 12 of 300 runs of a feeder with a regulator and a fault): from
  /// consistent values it goes on by a first step of that length.
  int set_out_slowly(double stop, double first_s, double& reached);
  /// Lets the controls of models act. When one did, fluxes stay and currents jump: where inductances alone
  /// hold a node, an impulse of voltage makes them fit again. Two Euler steps next to nothing long hold it.
  bool act();
  /// The valves whose margin the integrator found at zero.
  void leave_pieces();
  /// What commands and control ask for at the present instant.
  bool drive_due();
  /// All poles that change over at the present instant, and the waves that arrive.
  void switch_due();
  /// True when a pole's current jumped through its zero: it interrupts at the same instant.
  bool switch_once();
  [[nodiscard]] bool may_interrupt(const Pole& pole) const;

  const Study& study_;
  Continuous equations_;
  ReferenceOptions options_;
  SUNContext context_ = nullptr;
  Vector y_, dy_, id_, absolute_;
  std::unique_ptr<std::remove_pointer_t<SUNMatrix>, Freed> matrix_;
  std::unique_ptr<std::remove_pointer_t<SUNLinearSolver>, Freed> linear_;
  void* ida_ = nullptr;
  double time_ = 0;
  std::vector<std::size_t> watched_models_;  // that have a margin
  double largest_current_ = 0;
  long long work_ = 0, marked_work_ = 0;  // steps and rounds, and those up to `marked_time_`
  double marked_time_ = 0;
  std::string left_last_;                      // the owner of the valve that changed over last
  std::set<std::pair<double, int>> arrivals_;  // of waves: instant, passages still to follow
  Series series_;
  std::vector<std::size_t> rows_;
  long long next_sample_ = 0, series_length_ = 0;
  std::vector<double> scratch_;
  std::multimap<double, std::function<void()>> scheduled_;  // commands by their instants
  const std::function<void(ControlledPlant&)>* drive_ = nullptr;
  long long driven_ = 0;
  bool turned_ = false, left_ = false;
  bool consistent_ = false;   // values and derivatives are, and the integrator need not look for them
  std::vector<char> jumped_;  // per pole: its current changed its sign at an event
  std::vector<char> struck_;  // per pole: its gap was found too weak
};

}  // namespace zavrek::emt::internal
