#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "emt/compile/topology.hpp"
#include "emt/reference/reference_solver.hpp"

namespace zavrek::emt {
namespace internal {
namespace {

/// With lines, the step is also held this short, so that what they delay is interpolated to better than 1e-8.
constexpr double step_with_lines_s = 20e-6;
/// With valves, so that what passes its bound unseen is found soon.
constexpr double step_with_valves_s = 10e-6;

void silent(int, const char*, const char*, char*, void*) {}

}  // namespace

ReferenceSolver::ReferenceSolver(const Study& study, const ReferenceOptions& options)
    : study_(study), equations_(study.network), options_(options) {
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
    data(absolute_)[k] = options.relative_tolerance * equations_.scales()[static_cast<std::size_t>(k)];
  equations_.arrange();
  struck_.assign(equations_.core().poles.size(), 0);
  jumped_ = struck_;
  create();
}

ReferenceSolver::~ReferenceSolver() {
  IDAFree(&ida_);
  linear_.reset();
  matrix_.reset();
  for (Vector* v : {&y_, &dy_, &id_, &absolute_}) v->reset();
  SUNContext_Free(&context_);
}

Series ReferenceSolver::run() {
  begin_series();
  for (const ScheduledCommand& command : study_.commands) {
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
  const std::function<void(ControlledPlant&)> drive = study_.drive ? study_.drive() : nullptr;
  drive_ = drive ? &drive : nullptr;
  settle_valves();
  restart(0, followed_passages);
  sample(0);
  switch_due();
  while (next_sample_ < series_length_ && !series_.interrupted) {
    const double stop = std::min(next_event(), study_.duration_s + study_.sample_s);
    advance_to(stop);
    switch_due();
    while (next_sample_ < series_length_ && next_due() <= time_ + 1e-12) sample(time_);
  }
  return std::move(series_);
}

int ReferenceSolver::residual(realtype t, N_Vector y, N_Vector dy, N_Vector f, void* self) {
  static_cast<ReferenceSolver*>(self)->equations_.residual(t, N_VGetArrayPointer(y), N_VGetArrayPointer(dy),
                                                           N_VGetArrayPointer(f));
  return 0;
}

int ReferenceSolver::roots(realtype t, N_Vector y, N_Vector, realtype* g, void* data) {
  auto& self = *static_cast<ReferenceSolver*>(data);
  for (std::size_t k = 0; k < self.equations_.core().poles.size(); ++k)
    g[k] = self.distance(self.equations_.core().poles[k], t, N_VGetArrayPointer(y));
  const std::size_t poles = self.equations_.core().poles.size();
  const std::size_t valves = self.equations_.core().valves.size();
  if (valves + self.watched_models_.size() > 0) self.equations_.read(t, N_VGetArrayPointer(y));
  for (std::size_t k = 0; k < valves; ++k) g[poles + k] = self.equations_.valve_margin(k);
  for (std::size_t k = 0; k < self.watched_models_.size(); ++k)
    g[poles + valves + k] = self.equations_.model_margin(self.watched_models_[k]);
  return 0;
}

int ReferenceSolver::jacobian(realtype t, realtype c, N_Vector y, N_Vector dy, N_Vector f, SUNMatrix to,
                              void* self_at, N_Vector, N_Vector, N_Vector) {
  auto& self = *static_cast<ReferenceSolver*>(self_at);
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

double ReferenceSolver::distance(const Pole& pole, double t, const double* y) const {
  if (!pole.closed)
    return pole.strength.empty() ? 1 : pole.withstands(t) - std::abs(equations_.pole_voltage(pole, y));
  if (pole.part_at > time_ + 1e-12 || t <= pole.closed_at + shortest_arc_s) return 1;
  const double current = equations_.pole_current(pole, y);
  return pole.chop_A > 0 ? std::abs(current) - pole.chop_A : current;
}

void ReferenceSolver::create() {
  ida_ = IDACreate(context_);
  IDASetErrHandlerFn(ida_, silent, nullptr);
  check(IDAInit(ida_, residual, 0, y_.get(), dy_.get()), "starts");
  IDASetUserData(ida_, this);
  IDASVtolerances(ida_, options_.relative_tolerance, absolute_.get());
  IDASetLinearSolver(ida_, linear_.get(), matrix_.get());
  IDASetMaxNumSteps(ida_, 1'000'000);
  scratch_ = std::vector<double>(static_cast<std::size_t>(equations_.size()));
  if (!equations_.core().valves.empty()) {
    IDASetJacFn(ida_, jacobian);
    IDASetMaxStep(ida_, step_with_valves_s);
  }
  if (equations_.shortest_travel_s() < never)
    IDASetMaxStep(ida_, std::min(step_with_lines_s, equations_.shortest_travel_s() / 2));
  for (std::size_t k = 0; k < equations_.core().models.size(); ++k) {
    if (equations_.core().models[k].model->has_margin()) watched_models_.push_back(k);
  }
  if (watched() > 0) IDARootInit(ida_, static_cast<int>(watched()), roots);
  IDASetNoInactiveRootWarn(ida_);
}

void ReferenceSolver::check(int flag, const char* what) const {
  if (flag >= 0) return;
  for (const std::string& note : equations_.core().summary.notes) {
    if (note.find(held_by_valves) != std::string::npos)
      throw Error(
          fmt::format("the reference {} no further at t = {:.9g} s (IDA {}); {}", what, time_, flag, note));
  }
  throw Error(
      fmt::format("the reference {} no further at t = {:.9g} s (IDA {}); a loop of capacitances, or values "
                  "that differ by many "
                  "decades, stop it",
                  what, time_, flag));
}

void ReferenceSolver::account() {
  constexpr long long between_questions = 1000;
  constexpr double short_s = 1e-6;
  ++work_;
  if (options_.goes_on && work_ % between_questions == 0 && !options_.goes_on(time_, series_.steps))
    series_.interrupted = true;
  if (time_ >= marked_time_ + short_s) {
    marked_time_ = time_;
    marked_work_ = work_;
  }
  const bool stands = work_ - marked_work_ > options_.most_steps_per_us;
  if (!stands && work_ <= options_.most_steps) return;
  throw Error(fmt::format(
      "the reference {} at t = {:.9g} s: {}{}; more on_resistance, less off_resistance, or a wider "
      "tolerance lets it go on",
      stands ? fmt::format("took {} steps for less than 1 us", work_ - marked_work_)
             : fmt::format("took {} steps", work_),
      time_, stiffest(),
      left_last_.empty() ? std::string() : ", and the valve that changed over last is in " + left_last_));
}

std::string ReferenceSolver::stiffest() const {
  const Vector errors(N_VNew_Serial(equations_.size(), context_)),
      weights(N_VNew_Serial(equations_.size(), context_));
  double last_s = 0;
  IDAGetLastStep(ida_, &last_s);
  if (IDAGetEstLocalErrors(ida_, errors.get()) < 0 || IDAGetErrWeights(ida_, weights.get()) < 0)
    return "steps stay short";
  int worst = 0;
  const auto size = [&](int k) { return std::abs(data(errors)[k] * data(weights)[k]); };
  for (int k = 1; k < equations_.size(); ++k) {
    if (size(k) > size(worst)) worst = k;
  }
  return fmt::format("{} holds its steps to {:.2g} s", equations_.owner(worst), last_s);
}

double ReferenceSolver::next_event() const {
  double next = equations_.core().sources.corner_s();
  if (!arrivals_.empty()) next = std::min(next, arrivals_.begin()->first);
  for (const Pole& pole : equations_.core().poles) {
    for (const double at : {pole.close_at, pole.part_at}) {
      if (at > time_ + 1e-12) next = std::min(next, at);
    }
  }
  if (!scheduled_.empty()) next = std::min(next, scheduled_.begin()->first);
  if (drive_ != nullptr) next = std::min(next, static_cast<double>(driven_) * study_.drive_period_s);
  return std::min(next, std::max(time_, equations_.core().valves.next_edge()));
}

void ReferenceSolver::advance_to(double stop) {
  IDASetStopTime(ida_, stop);
  while (time_ < stop - 1e-12) {
    double reached = time_;
    int flag = IDASolve(ida_, stop, &reached, y_.get(), dy_.get(), IDA_ONE_STEP);
    for (double first_s = 1e-11; flag < 0 && first_s > 1e-18; first_s *= 1e-2)
      flag = set_out_slowly(stop, first_s, reached);
    check(flag, "gets");
    ++series_.steps;
    account();
    if (series_.interrupted) return;
    // What is due up to the instant reached; a sample at an event waits for what holds behind it.
    const double before =
        flag == IDA_ROOT_RETURN || reached >= stop - 1e-12 ? reached - 1e-12 : reached + 1e-12;
    while (next_sample_ < series_length_ && next_due() <= before) sample(reached);
    time_ = reached;
    equations_.keep(reached, data(y_), false);
    if (flag == IDA_ROOT_RETURN) {
      leave_pieces();
      return;
    }
    if (act()) return;
    if (next_sample_ >= series_length_) return;
    // A margin that begins at zero passes it unseen.
    auto& valves = equations_.core().valves;
    if (valves.empty()) continue;
    valves.begin_instant();
    left_ = equations_.fit_valves(time_, data(y_));
    valves.end_instant();
    if (left_) return;
  }
}

std::size_t ReferenceSolver::operable(const std::string& name) const {
  std::vector<std::string> names;
  for (std::size_t k = 0; k < equations_.core().controls.operables.size(); ++k) {
    names.push_back(equations_.core().controls.operables[k].name);
    if (names.back() == name) return k;
  }
  throw Error("nothing named \"" + name + "\" opens and closes" + suggestion(name, names));
}

int ReferenceSolver::gate(const std::string& name) const {
  const auto& gates = equations_.core().controls.gates;
  const auto at = std::find_if(gates.begin(), gates.end(), [&](const auto& g) { return g.name == name; });
  if (at == gates.end()) throw Error("no gate \"" + name + "\"");
  return static_cast<int>(at - gates.begin());
}

int ReferenceSolver::knob(const std::string& name) const {
  const auto& knobs = equations_.core().controls.knobs;
  const auto at = std::find_if(knobs.begin(), knobs.end(), [&](const auto& k) { return k.name == name; });
  if (at == knobs.end()) throw Error("nothing named \"" + name + "\" can be changed while running");
  return static_cast<int>(at - knobs.begin());
}

void ReferenceSolver::begin_series() {
  std::vector<std::string> known;
  for (const auto& row : equations_.core().signals.rows) known.push_back(row.name);
  series_.names = study_.signals.empty() ? known : study_.signals;
  for (const std::string& name : series_.names) {
    const auto at = std::find(known.begin(), known.end(), name);
    if (at == known.end()) throw Error("no signal \"" + name + "\"" + suggestion(name, known));
    rows_.push_back(static_cast<std::size_t>(at - known.begin()));
    series_.units.push_back(equations_.core().signals.rows[rows_.back()].unit);
  }
  series_.values.resize(rows_.size());
  series_length_ = static_cast<long long>(std::floor(study_.duration_s / study_.sample_s + 1e-9)) + 1;
}

void ReferenceSolver::sample(double reached) {
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
  equations_.read_rest(due);
  series_.time_s.push_back(due);
  for (std::size_t k = 0; k < rows_.size(); ++k)
    series_.values[k].push_back(equations_.value(equations_.core().signals.rows[rows_[k]]));
  ++next_sample_;
}
}  // namespace internal

Series solve_reference(const Study& study, double relative_tolerance) {
  return solve_reference(study, ReferenceOptions{.relative_tolerance = relative_tolerance});
}

Series solve_reference(const Study& study, const ReferenceOptions& options) {
  return internal::ReferenceSolver(study, options).run();
}

}  // namespace zavrek::emt
