// What the reference does at an instant: commands, control, poles and valves that change over, and values
// that fit behind them.
#include <algorithm>
#include <cmath>

#include "emt/reference/reference_solver.hpp"
#include "emt/solve/dense.hpp"

namespace zavrek::emt::internal {
namespace {

constexpr std::size_t most_arrivals = 400;
/// So short are the two steps in which currents of inductances find together behind a jump of inductance.
constexpr double jump_s = 1e-9;
/// Bent curves take more than the one of a linear network.
constexpr int newton_iterations = 6;

}  // namespace

double ReferenceSolver::value(SignalId signal) const noexcept {
  return equations_.value(equations_.core().signals.rows[static_cast<std::size_t>(signal.index)]);
}

bool ReferenceSolver::open(OperableId what, double at_s) noexcept {
  request(static_cast<std::size_t>(what.index), false, at_s);
  return true;
}

bool ReferenceSolver::close(OperableId what, double at_s) noexcept {
  request(static_cast<std::size_t>(what.index), true, at_s);
  return true;
}

bool ReferenceSolver::fire(GateId gate, bool on, double at_s) noexcept {
  bool taken = true;
  for (const int valve : equations_.core().controls.gates[static_cast<std::size_t>(gate.index)].valves)
    taken &= equations_.core().valves.fire(static_cast<std::size_t>(valve), on, std::max(at_s, time_));
  return taken;
}

void ReferenceSolver::turn(KnobId knob, double value) noexcept {
  const internal::Knob& what = equations_.core().controls.knobs[static_cast<std::size_t>(knob.index)];
  equations_.turn(what, std::clamp(value, what.low, what.high));
  turned_ = true;
}

void ReferenceSolver::request(std::size_t what, bool close, double at_s) {
  const auto& of = equations_.core().controls.operables[what];
  const double delay = close ? of.closing_time_s : of.opening_time_s;
  for (const int index : of.poles)
    equations_.core().poles[static_cast<std::size_t>(index)].command(close, at_s + delay);
}

void ReferenceSolver::settle_valves() {
  auto& valves = equations_.core().valves;
  if (valves.empty()) return;
  constexpr int most_rounds = 24;
  valves.begin_instant();
  for (int round = 0; round < most_rounds; ++round) {
    solve_instant();
    if (!equations_.fit_valves(time_, data(y_))) break;
  }
  valves.end_instant();
}

void ReferenceSolver::solve_instant(int iterations) {
  equations_.arrange();
  const auto state = [&](int k) { return equations_.differential()[static_cast<std::size_t>(k)] != 0; };
  solve_for(
      iterations, [&](int k) { return state(k)                  ? 1e3
                                      : equations_.is_linear(k) ? 1
                                                                : 1e-6; },
      [&](int k, double d) { (state(k) ? data(dy_)[k] : data(y_)[k]) += d; });
}

template <class Share, class Move>
void ReferenceSolver::solve_for(int iterations, Share&& share, Move&& move) {
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
    const Eigen::VectorXd step = internal::solve(jacobian, f);
    for (int k = 0; k < n; ++k) move(k, -step[k]);
  }
}

void ReferenceSolver::restart(double t, int passages) {
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
  equations_.keep(t, data(y_), true);
  if (passages == 0) return;
  for (const double travel_s : equations_.jumps_arrive_s()) {
    // Equal sums of travel times must meet in one instant.
    if (arrivals_.size() < most_arrivals)
      arrivals_.insert({std::round((t + travel_s) * 1e12) * 1e-12, passages - 1});
  }
}

void ReferenceSolver::begin_consistent() {
  if (IDACalcIC(ida_, IDA_YA_YDP_INIT, time_ + 1e-6) >= 0) {
    IDAGetConsistentIC(ida_, y_.get(), dy_.get());
    return;
  }
  solve_instant(newton_iterations);
  check(IDAReInit(ida_, time_, y_.get(), dy_.get()), "starts");
}

int ReferenceSolver::set_out_slowly(double stop, double first_s, double& reached) {
  solve_instant(newton_iterations);
  check(IDAReInit(ida_, time_, y_.get(), dy_.get()), "starts");
  IDASetStopTime(ida_, stop);
  IDASetInitStep(ida_, first_s);
  const int flag = IDASolve(ida_, stop, &reached, y_.get(), dy_.get(), IDA_ONE_STEP);
  IDASetInitStep(ida_, 0);
  return flag;
}

bool ReferenceSolver::act() {
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

void ReferenceSolver::leave_pieces() {
  std::vector<int> found(watched());
  IDAGetRootInfo(ida_, found.data());
  equations_.read(time_, data(y_));
  for (std::size_t k = 0; k < struck_.size(); ++k)
    struck_[k] = found[k] != 0 && !equations_.core().poles[k].closed ? 1 : 0;
  for (std::size_t k = 0; k < equations_.core().valves.size(); ++k) {
    if (found[equations_.core().poles.size() + k] >= 0) continue;  // it came, it did not leave
    equations_.core().valves.leave(k, equations_.values());
    left_last_ = equations_.valve_owner(k);
  }
  left_ = true;  // also where nothing left: a margin that stays at zero is no root once the integrator
                 // starts anew
}

bool ReferenceSolver::drive_due() {
  for (; !scheduled_.empty() && scheduled_.begin()->first <= time_ + 1e-12; turned_ = true) {
    scheduled_.begin()->second();
    scheduled_.erase(scheduled_.begin());
  }
  for (; drive_ != nullptr && static_cast<double>(driven_) * study_.drive_period_s <= time_ + 1e-12;
       ++driven_) {
    // The residual writes what is no unknown, such as currents of capacitors.
    equations_.residual(time_, data(y_), data(dy_), scratch_.data());
    equations_.read_rest(time_);
    (*drive_)(*this);
  }
  (void)act();
  const bool edges = equations_.core().valves.take_all(time_ + 1e-12);
  return std::exchange(turned_, false) || std::exchange(left_, false) || edges;
}

void ReferenceSolver::switch_due() {
  while (switch_once()) continue;
}

bool ReferenceSolver::switch_once() {
  account();
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
      (closes ? pole.close_at : pole.part_at) = never_s;
    }
    changed = true;
    passages = followed_passages;
  }
  if (SourceGroup& sources = equations_.core().sources; sources.corner_s() <= time_ + 1e-12) {
    sources.pass(time_ + 1e-12);
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

bool ReferenceSolver::may_interrupt(const Pole& pole) const {
  return pole.closed && pole.part_at <= time_ + 1e-12 && time_ > pole.closed_at + shortest_arc_s;
}
}  // namespace zavrek::emt::internal
