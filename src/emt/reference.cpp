// The reference: continuous equations (continuous.hpp) in the hands of SUNDIALS IDA. Every switching, and
// every arrival of what it set off at the end of a line, starts the integration anew from consistent values.
#include <algorithm>
#include <cmath>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <utility>

#include <fmt/format.h>
#include <ida/ida.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunmatrix/sunmatrix_dense.h>

#include "emt/continuous.hpp"
#include "zavrek/emt/study.hpp"

namespace zavrek::emt {
namespace {

using internal::Continuous;
using internal::Core;
using internal::Pole;

struct Freed {
  void operator()(N_Vector v) const { N_VDestroy(v); }
  void operator()(SUNMatrix m) const { SUNMatDestroy(m); }
  void operator()(SUNLinearSolver s) const { SUNLinSolFree(s); }
};
using Vector = std::unique_ptr<std::remove_pointer_t<N_Vector>, Freed>;

constexpr double never = 1e300;
/// Waves of a switching are followed over so many passages before the integrator copes alone.
constexpr int followed_passages = 40;
constexpr std::size_t most_arrivals = 400;
/// With lines, the step is also held this short, so that what they delay is interpolated to better than 1e-8.
constexpr double step_with_lines_s = 20e-6;
/// So short are the two steps in which currents of inductances find together behind a jump of inductance.
constexpr double jump_s = 1e-9;
/// A restrike's current begins at nothing: that is not the zero at which its arc goes out.
constexpr double shortest_arc_s = 1e-7;
/// Bent curves take more than the one of a linear network.
constexpr int newton_iterations = 6;
constexpr double first_step_s = 1e-11;
/// With valves, so that what passes its bound unseen is found soon.
constexpr double step_with_valves_s = 10e-6;

class Solver final : public Drivable {
 public:
  Solver(const Study& study, double tolerance)
      : study_(study), equations_(study.network), tolerance_(tolerance) {
    SUNContext_Create(nullptr, &context_);
    const int n = equations_.size();
    y_.reset(N_VNew_Serial(n, context_));
    dy_.reset(N_VNew_Serial(n, context_));
    id_.reset(N_VNew_Serial(n, context_));
    absolute_.reset(N_VNew_Serial(n, context_));
    matrix_.reset(SUNDenseMatrix(n, n, context_));
    linear_.reset(SUNLinSol_Dense(y_.get(), matrix_.get(), context_));
    N_VConst(0, dy_.get());
    equations_.start(data(y_));
    for (int k = 0; k < n; ++k)
      data(absolute_)[k] = tolerance * equations_.scales()[static_cast<std::size_t>(k)];
    equations_.arrange();
    struck_.assign(equations_.core().poles.size(), 0);
    jumped_ = struck_;
    create();
  }
  Solver(const Solver&) = delete;
  Solver& operator=(const Solver&) = delete;
  ~Solver() override {
    IDAFree(&ida_);
    linear_.reset();
    matrix_.reset();
    for (Vector* v : {&y_, &dy_, &id_, &absolute_}) v->reset();
    SUNContext_Free(&context_);
  }

  Series run() {
    begin_series();
    for (const Command& command : study_.commands) {
      if (!command.fails.empty()) {
        scheduled_.insert({command.at_s, [this, gate = gate(command.fails), command] {
                             equations_.core().fail(gate, command.how, command.value);
                           }});
        continue;
      }
      if (!command.knob.empty()) {
        scheduled_.insert(
            {command.at_s, [this, knob = knob(command.knob), command] { turn({knob}, command.value); }});
        continue;
      }
      scheduled_.insert({command.at_s, [this, what = operable(command.operable), command] {
                           request(what, command.close, command.at_s);
                         }});
    }
    const std::function<void(Drivable&)> drive = study_.drive ? study_.drive() : nullptr;
    drive_ = drive ? &drive : nullptr;
    settle_valves();
    restart(0, followed_passages);
    sample(0);
    switch_due();
    while (next_sample_ < series_length_) {
      const double stop = std::min(next_event(), study_.duration_s + study_.sample_s);
      advance_to(stop);
      switch_due();
      while (next_sample_ < series_length_ && next_due() <= time_ + 1e-12) sample(time_);
    }
    return std::move(series_);
  }

 private:
  static double* data(const Vector& v) { return N_VGetArrayPointer(v.get()); }

  static int residual(realtype t, N_Vector y, N_Vector dy, N_Vector f, void* self) {
    static_cast<Solver*>(self)->equations_.residual(t, N_VGetArrayPointer(y), N_VGetArrayPointer(dy),
                                                    N_VGetArrayPointer(f));
    return 0;
  }
  // --- for the control ------------------------------------------------------------------------
  [[nodiscard]] double time_s() const noexcept override { return time_; }
  [[nodiscard]] double step_s() const noexcept override { return 1e-9; }
  [[nodiscard]] double value(SignalId signal) const noexcept override {
    return equations_.value(equations_.core().signals[static_cast<std::size_t>(signal.index)]);
  }
  bool open(OperableId what, double at_s) noexcept override {
    request(static_cast<std::size_t>(what.index), false, at_s);
    return true;
  }
  bool close(OperableId what, double at_s) noexcept override {
    request(static_cast<std::size_t>(what.index), true, at_s);
    return true;
  }
  bool fire(GateId gate, bool on, double at_s) noexcept override {
    bool taken = true;
    for (const int valve : equations_.core().gates[static_cast<std::size_t>(gate.index)].valves)
      taken &= equations_.core().valves.fire(static_cast<std::size_t>(valve), on, std::max(at_s, time_));
    return taken;
  }
  void turn(KnobId knob, double value) noexcept override {
    const internal::Knob& what = equations_.core().knobs[static_cast<std::size_t>(knob.index)];
    equations_.turn(what, std::clamp(value, what.low, what.high));
    turned_ = true;
  }

  void request(std::size_t what, bool close, double at_s) {
    const auto& of = equations_.core().operables[what];
    const double delay = close ? of.closing_time_s : of.opening_time_s;
    for (const int index : of.poles) {
      Pole& pole = equations_.core().poles[static_cast<std::size_t>(index)];
      (close ? pole.close_at : pole.part_at) = at_s + delay + (close ? pole.late_close_s : pole.late_open_s);
      if (close && pole.closed && pole.part_at == Core::never()) pole.close_at = Core::never();
      if (!close && !pole.closed && pole.close_at == Core::never()) pole.part_at = Core::never();
    }
  }

  /// Pieces that fit one another at the present instant: each round changes over those that do not.
  void settle_valves() {
    auto& valves = equations_.core().valves;
    if (valves.empty()) return;
    constexpr int most_rounds = 24;
    valves.begin_instant();
    for (int round = 0; round < most_rounds; ++round) {
      solve_instant();
      if (!equations_.fit_valves(time_, data(y_))) break;
    }
  }

  /// Voltages and derivatives that fit the states at the present instant, by two steps of Newton's method.
  /// Between two pieces that do not fit, what an inductance drives through valves that are off is of any
  /// size: no iteration that measures itself would end there.
  void solve_instant(int iterations = 2) {
    equations_.arrange();
    const auto state = [&](int k) { return equations_.differential()[static_cast<std::size_t>(k)] != 0; };
    solve_for(
        iterations, [&](int k) { return state(k)                  ? 1e3
                                        : equations_.is_linear(k) ? 1
                                                                  : 1e-6; },
        [&](int k, double d) { (state(k) ? data(dy_)[k] : data(y_)[k]) += d; });
  }

  /// Newton's method on the residual at the present instant, the slopes by differences: `move(k, d)` moves
  /// unknown k, `share(k)` of its scale for a difference.
  template <class Share, class Move>
  void solve_for(int iterations, Share&& share, Move&& move) {
    const int n = equations_.size();
    double *y = data(y_), *dy = data(dy_);
    Eigen::VectorXd f(n), moved(n);
    Eigen::MatrixXd jacobian(n, n);
    for (int iteration = 0; iteration < iterations; ++iteration) {
      equations_.residual(time_, y, dy, f.data());
      for (int k = 0; k < n; ++k) {
        const double kept_y = y[k], kept_dy = dy[k];
        const double d = share(k) * equations_.scales()[static_cast<std::size_t>(k)];
        move(k, d);
        equations_.residual(time_, y, dy, moved.data());
        y[k] = kept_y;
        dy[k] = kept_dy;
        jacobian.col(k) = (moved - f) / d;
      }
      const Eigen::VectorXd step = jacobian.fullPivLu().solve(f);
      for (int k = 0; k < n; ++k) move(k, -step[k]);
    }
  }

  /// One per pole and per valve: what must pass zero for it to change over.
  static int roots(realtype t, N_Vector y, N_Vector, realtype* g, void* data) {
    auto& self = *static_cast<Solver*>(data);
    for (std::size_t k = 0; k < self.equations_.core().poles.size(); ++k)
      g[k] = self.distance(self.equations_.core().poles[k], t, N_VGetArrayPointer(y));
    const std::size_t poles = self.equations_.core().poles.size();
    if (!self.equations_.core().valves.empty()) self.equations_.read(t, N_VGetArrayPointer(y));
    for (std::size_t k = 0; k < self.equations_.core().valves.size(); ++k)
      g[poles + k] = self.equations_.valve_margin(k);
    return 0;
  }
  /// dF/dy + c dF/dy' by differences. Most of the network is linear, so that the whole size of a value may be
  /// its difference: a small one would drown what large resistances pass in the rounding of what conductances
  /// of valves do. Where values bend curves the differences stay small.
  static int jacobian(realtype t, realtype c, N_Vector y, N_Vector dy, N_Vector f, SUNMatrix to,
                      void* self_at, N_Vector, N_Vector, N_Vector) {
    auto& self = *static_cast<Solver*>(self_at);
    const int n = self.equations_.size();
    double *values = N_VGetArrayPointer(y), *slopes = N_VGetArrayPointer(dy);
    const double* at = N_VGetArrayPointer(f);
    for (int k = 0; k < n; ++k) {
      const double y0 = values[k], dy0 = slopes[k];
      const double scale = std::max(std::abs(y0), self.equations_.scales()[static_cast<std::size_t>(k)]);
      const double d = self.equations_.is_linear(k) ? scale : 1e-7 * scale;
      values[k] += d;
      slopes[k] += c * d;
      self.equations_.residual(t, values, slopes, self.scratch_.data());
      values[k] = y0;
      slopes[k] = dy0;
      realtype* column = SM_COLUMN_D(to, k);
      for (int r = 0; r < n; ++r) column[r] = (self.scratch_[static_cast<std::size_t>(r)] - at[r]) / d;
    }
    return 0;
  }
  static void silent(int, const char*, const char*, char*, void*) {}

  [[nodiscard]] double distance(const Pole& pole, double t, const double* y) const {
    if (!pole.closed)
      return pole.strength.empty() ? 1 : pole.withstands(t) - std::abs(equations_.pole_voltage(pole, y));
    if (pole.part_at > time_ + 1e-12 || t <= pole.closed_at + shortest_arc_s) return 1;
    const double current = equations_.pole_current(pole, y);
    return pole.chop_A > 0 ? std::abs(current) - pole.chop_A : current;
  }

  void create() {
    ida_ = IDACreate(context_);
    IDASetErrHandlerFn(ida_, silent, nullptr);
    check(IDAInit(ida_, residual, 0, y_.get(), dy_.get()), "starts");
    IDASetUserData(ida_, this);
    IDASVtolerances(ida_, tolerance_, absolute_.get());
    IDASetLinearSolver(ida_, linear_.get(), matrix_.get());
    IDASetMaxNumSteps(ida_, 1'000'000);
    scratch_ = std::vector<double>(static_cast<std::size_t>(equations_.size()));
    if (!equations_.core().valves.empty()) {
      IDASetJacFn(ida_, jacobian);
      IDASetMaxStep(ida_, step_with_valves_s);
    }
    if (equations_.shortest_travel_s() < never)
      IDASetMaxStep(ida_, std::min(step_with_lines_s, equations_.shortest_travel_s() / 2));
    const auto watched = static_cast<int>(equations_.core().poles.size() + equations_.core().valves.size());
    if (watched > 0) IDARootInit(ida_, watched, roots);
    IDASetNoInactiveRootWarn(ida_);
  }

  void check(int flag, const char* what) const {
    if (flag >= 0) return;
    throw Error(
        fmt::format("the reference {} no further at t = {:.9g} s (IDA {}); a loop of capacitances, or values "
                    "that differ by many "
                    "decades, stop it",
                    what, time_, flag));
  }

  /// Consistent algebraic values and derivatives from the states as they are.
  void restart(double t, int passages) {
    time_ = t;
    equations_.arrange();
    std::copy(equations_.differential().begin(), equations_.differential().end(), data(id_));
    const bool consistent = std::exchange(consistent_, false);
    for (int k = 0; k < equations_.size(); ++k) {
      if (!consistent || equations_.differential()[static_cast<std::size_t>(k)] == 0) data(dy_)[k] = 0;
    }
    check(IDAReInit(ida_, t, y_.get(), dy_.get()), "starts");
    IDASetId(ida_, id_.get());
    IDASetSuppressAlg(ida_, SUNTRUE);
    IDASetStopTime(ida_, t + 1);
    IDASetLineSearchOffIC(ida_, SUNTRUE);  // nearly linear: full steps of Newton's method go straight home
    IDASetMaxNumItersIC(ida_, 50);
    // What only large resistances tie down cannot be found to the last digit beside conductances of valves.
    if (!equations_.core().valves.empty()) IDASetNonlinConvCoefIC(ida_, 10);
    IDASetMaxNumJacsIC(ida_, 20);
    if (!consistent) begin_consistent();
    behind_a_restart_ = true;
    equations_.remember(t, data(y_), true);
    if (passages == 0) return;
    for (const double travel_s : equations_.travel_times_s()) {
      // Equal sums of travel times must meet in one instant.
      if (arrivals_.size() < most_arrivals)
        arrivals_.insert({std::round((t + travel_s) * 1e12) * 1e-12, passages - 1});
    }
  }

  /// IDA measures its own way home by the weights of its tolerance, and gives up where a current must jump
  /// from thousands of them to nothing; Newton's method on exact slopes then goes there.
  void begin_consistent() {
    if (IDACalcIC(ida_, IDA_YA_YDP_INIT, time_ + 1e-6) >= 0) {
      IDAGetConsistentIC(ida_, y_.get(), dy_.get());
      return;
    }
    solve_instant(newton_iterations);
    check(IDAReInit(ida_, time_, y_.get(), dy_.get()), "starts");
  }

  [[nodiscard]] double next_event() const {
    double next = arrivals_.empty() ? never : arrivals_.begin()->first;
    for (const Pole& pole : equations_.core().poles) {
      for (const double at : {pole.close_at, pole.part_at}) {
        if (at > time_ + 1e-12) next = std::min(next, at);
      }
    }
    if (!scheduled_.empty()) next = std::min(next, scheduled_.begin()->first);
    if (drive_ != nullptr) next = std::min(next, static_cast<double>(driven_) * study_.drive_period_s);
    return std::min(next, std::max(time_, equations_.core().valves.next_edge()));
  }

  /// Integrates up to `stop`, or to where a pole opens, and takes the samples on the way.
  void advance_to(double stop) {
    IDASetStopTime(ida_, stop);
    while (time_ < stop - 1e-12) {
      double reached = time_;
      int flag = IDASolve(ida_, stop, &reached, y_.get(), dy_.get(), IDA_ONE_STEP);
      if (flag < 0 && behind_a_restart_) {
        flag = set_out_slowly(stop, reached);
      }
      behind_a_restart_ = false;
      check(flag, "gets");
      ++series_.steps;
      // What is due up to the instant reached; a sample at an event waits for what holds behind it.
      const double before =
          flag == IDA_ROOT_RETURN || reached >= stop - 1e-12 ? reached - 1e-12 : reached + 1e-12;
      while (next_sample_ < series_length_ && next_due() <= before) sample(reached);
      time_ = reached;
      equations_.remember(reached, data(y_), false);
      if (flag == IDA_ROOT_RETURN) {
        leave_pieces();
        return;
      }
      if (act()) return;
      if (next_sample_ >= series_length_) return;
      // A margin that begins at zero passes it unseen.
      if (!equations_.core().valves.empty()) {
        equations_.core().valves.begin_instant();
        if (equations_.fit_valves(time_, data(y_))) {
          left_ = true;
          return;
        }
      }
    }
  }

  /// A first step that is too long for the blow of a capacitance fails at every length that IDA tries.
  int set_out_slowly(double stop, double& reached) {
    solve_instant(newton_iterations);
    check(IDAReInit(ida_, time_, y_.get(), dy_.get()), "starts");
    IDASetStopTime(ida_, stop);
    IDASetInitStep(ida_, first_step_s);
    const int flag = IDASolve(ida_, stop, &reached, y_.get(), dy_.get(), IDA_ONE_STEP);
    IDASetInitStep(ida_, 0);
    return flag;
  }

  /// Lets the controls of models act. When one did, fluxes stay and currents jump: where inductances alone
  /// hold a node, an impulse of voltage makes them fit again. Two Euler steps next to nothing long hold it.
  bool act() {
    if (!equations_.act(time_, data(y_))) return false;
    turned_ = true;
    equations_.arrange(false);
    for (int step = 0; step < 2; ++step) {
      const std::vector<double> before(data(y_), data(y_) + equations_.size());
      const auto move = [&](int k, double d) {
        data(y_)[k] += d;
        data(dy_)[k] = (data(y_)[k] - before[static_cast<std::size_t>(k)]) / jump_s;
      };
      for (int k = 0; k < equations_.size(); ++k) move(k, 0);
      solve_for(
          2, [&](int k) { return equations_.is_linear(k) ? 1 : 1e-6; }, move);
    }
    solve_instant();
    consistent_ = true;
    return true;
  }

  /// The valves whose margin the integrator found at zero.
  void leave_pieces() {
    std::vector<int> found(equations_.core().poles.size() + equations_.core().valves.size());
    IDAGetRootInfo(ida_, found.data());
    equations_.read(time_, data(y_));
    for (std::size_t k = 0; k < struck_.size(); ++k)
      struck_[k] = found[k] != 0 && !equations_.core().poles[k].closed ? 1 : 0;
    for (std::size_t k = 0; k < equations_.core().valves.size(); ++k) {
      if (found[equations_.core().poles.size() + k] >= 0) continue;  // it came, it did not leave
      equations_.core().valves.leave(k, equations_.values());
    }
    left_ = true;  // also where nothing left: a margin that stays at zero is no root once the integrator
                   // starts anew
  }

  /// What commands and control ask for at the present instant.
  bool drive_due() {
    for (; !scheduled_.empty() && scheduled_.begin()->first <= time_ + 1e-12; turned_ = true) {
      scheduled_.begin()->second();
      scheduled_.erase(scheduled_.begin());
    }
    for (; drive_ != nullptr && static_cast<double>(driven_) * study_.drive_period_s <= time_ + 1e-12;
         ++driven_) {
      // The residual writes what is no unknown, such as currents of capacitors.
      equations_.residual(time_, data(y_), data(dy_), scratch_.data());
      equations_.read_lines(time_);
      (*drive_)(*this);
    }
    (void)act();
    const bool edges = equations_.core().valves.take_all(time_ + 1e-12);
    return std::exchange(turned_, false) || std::exchange(left_, false) || edges;
  }

  /// All poles that change over at the present instant, and the waves that arrive.
  void switch_due() {
    while (switch_once()) continue;
  }
  /// True when a pole's current jumped through its zero: it interrupts at the same instant.
  bool switch_once() {
    bool changed = drive_due();
    int passages = 0;
    for (std::size_t k = 0; k < struck_.size(); ++k) {
      Pole& pole = equations_.core().poles[k];
      const bool commanded = pole.close_at <= time_ + 1e-12;
      const bool strikes_again = std::exchange(struck_[k], 0) != 0;
      const bool closes = !pole.closed && (commanded || strikes_again);
      const double current = equations_.pole_current(pole, data(y_));
      const bool at_zero =
          std::exchange(jumped_[k], 0) != 0 ||
          std::abs(current) <= std::max(pole.chop_A * (1 + 1e-9), 1e-6 + 1e-6 * largest_current_);
      const bool opens = at_zero && may_interrupt(pole);
      largest_current_ = std::max(largest_current_, std::abs(current));
      if (!closes && !opens) continue;
      pole.closed = closes;
      (closes ? pole.closed_at : pole.ceased_at) = time_;
      if (closes && !commanded) {
        pole.part_at = time_;  // the contacts stay apart: the arc goes out at a coming current zero
      } else {
        (closes ? pole.close_at : pole.part_at) = Core::never();
      }
      changed = true;
      passages = followed_passages;
    }
    while (!arrivals_.empty() && arrivals_.begin()->first <= time_ + 1e-12) {
      changed = true;
      passages = std::max(passages, arrivals_.begin()->second);
      arrivals_.erase(arrivals_.begin());
    }
    if (!changed) return false;
    std::vector<double> before;
    for (const Pole& pole : equations_.core().poles)
      before.push_back(may_interrupt(pole) ? equations_.pole_current(pole, data(y_)) : 0);
    settle_valves();
    restart(time_, passages);
    for (std::size_t k = 0; k < jumped_.size(); ++k)
      jumped_[k] = before[k] * equations_.pole_current(equations_.core().poles[k], data(y_)) < 0 ? 1 : 0;
    return std::any_of(jumped_.begin(), jumped_.end(), [](char jumped) { return jumped != 0; });
  }
  [[nodiscard]] bool may_interrupt(const Pole& pole) const {
    return pole.closed && pole.part_at <= time_ + 1e-12 && time_ > pole.closed_at + shortest_arc_s;
  }

  [[nodiscard]] std::size_t operable(const std::string& name) const {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < equations_.core().operables.size(); ++k) {
      names.push_back(equations_.core().operables[k].name);
      if (names.back() == name) return k;
    }
    throw Error("nothing named \"" + name + "\" opens and closes" + suggestion(name, names));
  }

  [[nodiscard]] int gate(const std::string& name) const {
    const auto& gates = equations_.core().gates;
    const auto at = std::find_if(gates.begin(), gates.end(), [&](const auto& g) { return g.name == name; });
    if (at == gates.end()) throw Error("no gate \"" + name + "\"");
    return static_cast<int>(at - gates.begin());
  }
  [[nodiscard]] int knob(const std::string& name) const {
    const auto& knobs = equations_.core().knobs;
    const auto at = std::find_if(knobs.begin(), knobs.end(), [&](const auto& k) { return k.name == name; });
    if (at == knobs.end()) throw Error("nothing named \"" + name + "\" can be changed while running");
    return static_cast<int>(at - knobs.begin());
  }

  void begin_series() {
    std::vector<std::string> known;
    for (const auto& row : equations_.core().signals) known.push_back(row.name);
    series_.names = study_.signals.empty() ? known : study_.signals;
    for (const std::string& name : series_.names) {
      const auto at = std::find(known.begin(), known.end(), name);
      if (at == known.end()) throw Error("no signal \"" + name + "\"" + suggestion(name, known));
      rows_.push_back(static_cast<std::size_t>(at - known.begin()));
      series_.units.push_back(equations_.core().signals[rows_.back()].unit);
    }
    series_.values.resize(rows_.size());
    series_length_ = static_cast<long long>(std::floor(study_.duration_s / study_.sample_s + 1e-9)) + 1;
  }

  [[nodiscard]] double next_due() const { return static_cast<double>(next_sample_) * study_.sample_s; }

  /// The next sample, interpolated within the step that reached `reached`.
  void sample(double reached) {
    const double due = next_due();
    const double* y = data(y_);
    Vector between(N_VNew_Serial(equations_.size(), context_));
    Vector slope(N_VNew_Serial(equations_.size(), context_));
    const double* dy = data(dy_);
    if (due < reached - 1e-12 && IDAGetDky(ida_, due, 0, between.get()) >= 0 &&
        IDAGetDky(ida_, due, 1, slope.get()) >= 0) {
      y = data(between);
      dy = data(slope);
    }
    // The residual writes what is no unknown: capacitor currents, currents of lines and models.
    equations_.residual(due, y, dy, scratch_.data());
    equations_.read_lines(due);
    series_.time_s.push_back(due);
    for (std::size_t k = 0; k < rows_.size(); ++k)
      series_.values[k].push_back(equations_.value(equations_.core().signals[rows_[k]]));
    ++next_sample_;
  }

  const Study& study_;
  Continuous equations_;
  double tolerance_;
  SUNContext context_ = nullptr;
  Vector y_, dy_, id_, absolute_;
  std::unique_ptr<std::remove_pointer_t<SUNMatrix>, Freed> matrix_;
  std::unique_ptr<std::remove_pointer_t<SUNLinearSolver>, Freed> linear_;
  void* ida_ = nullptr;
  double time_ = 0;
  double largest_current_ = 0;
  std::set<std::pair<double, int>> arrivals_;  // of waves: instant, passages still to follow
  Series series_;
  std::vector<std::size_t> rows_;
  long long next_sample_ = 0, series_length_ = 0;
  std::vector<double> scratch_;
  std::multimap<double, std::function<void()>> scheduled_;  // commands by their instants
  const std::function<void(Drivable&)>* drive_ = nullptr;
  long long driven_ = 0;
  bool turned_ = false, left_ = false;
  bool consistent_ = false;  // values and derivatives are, and the integrator need not look for them
  bool behind_a_restart_ = false;
  std::vector<char> jumped_;  // per pole: its current changed its sign at an event
  std::vector<char> struck_;  // per pole: its gap was found too weak
};

}  // namespace

Series solve_reference(const Study& study, double relative_tolerance) {
  return Solver(study, relative_tolerance).run();
}

std::vector<Mode> modes(const network::Network& network) {
  Continuous equations(network);
  equations.arrange();
  const int n = equations.size();
  std::vector<double> y(static_cast<std::size_t>(n)), dy(y.size(), 0.0), f0(y.size()), f1(y.size());
  equations.start(y.data());
  equations.residual(0, y.data(), dy.data(), f0.data());
  Eigen::MatrixXd stiffness(n, n), mass(n, n);
  for (int k = 0; k < n; ++k) {
    const auto at = static_cast<std::size_t>(k);
    const double d = 1e-4 * equations.scales()[at], kept = y[at];
    y[at] += d;
    equations.residual(0, y.data(), dy.data(), f1.data());
    y[at] = kept;
    for (int r = 0; r < n; ++r)
      stiffness(r, k) = (f1[static_cast<std::size_t>(r)] - f0[static_cast<std::size_t>(r)]) / d;
    const double rate = 1e3 * equations.scales()[at];
    dy[at] = rate;
    equations.residual(0, y.data(), dy.data(), f1.data());
    dy[at] = 0;
    for (int r = 0; r < n; ++r)
      mass(r, k) = (f1[static_cast<std::size_t>(r)] - f0[static_cast<std::size_t>(r)]) / rate;
  }
  // (s M + K) x = 0 as K^-1 M x = -(1/s) x: modes without an end (s infinite) become zeros, which are left
  // out.
  const Eigen::MatrixXd inverse = stiffness.fullPivLu().solve(mass);
  const Eigen::EigenSolver<Eigen::MatrixXd> solver(inverse);
  std::vector<Mode> found;
  const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
  for (Eigen::Index k = 0; k < n; ++k) {
    const std::complex<double> mu = solver.eigenvalues()[k];
    if (std::abs(mu) < 1e-9 && std::abs(mu) < 1e-12 * largest) continue;
    if (std::abs(mu) < 1e-10 || mu.imag() > 0) continue;  // one of each pair
    Eigen::Index most = 0;
    Eigen::VectorXd part = solver.eigenvectors().col(k).cwiseAbs();
    for (Eigen::Index r = 0; r < n; ++r) part[r] /= equations.scales()[static_cast<std::size_t>(r)];
    part.maxCoeff(&most);
    found.push_back({-1.0 / mu, equations.owner(static_cast<int>(most))});
  }
  std::sort(found.begin(), found.end(),
            [](const Mode& a, const Mode& b) { return std::abs(a.s) > std::abs(b.s); });
  return found;
}

}  // namespace zavrek::emt
