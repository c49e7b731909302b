#include <cassert>

#include "emt/leap/leap.hpp"
#include "emt/step/core.hpp"

namespace zavrek::emt {

Plant::Plant(std::unique_ptr<internal::Core> core) : core_(std::move(core)) {}
Plant::Plant(Plant&&) noexcept = default;
Plant& Plant::operator=(Plant&&) noexcept = default;
Plant::~Plant() = default;

Status Plant::step() noexcept {
  replay_since_leap();
  return core_->step();
}

bool Plant::ready_leaps(int steps) {
  replay_since_leap();
  leap_ = std::make_unique<internal::Leap>(*core_, steps, core_->signals.watched);
  if (!leap_->possible()) leap_.reset();
  return leap_ != nullptr;
}
bool Plant::leap() noexcept { return leap_ && leap_->take(); }

void Plant::replay_since_leap() const noexcept {
  if (leap_) leap_->leave();
}

void Plant::save(PlantState& into) {
  replay_since_leap();
  StateArchive archive(into.bytes_);
  core_->visit_state(archive);
  if (leap_) leap_->visit_state(archive);
}

void Plant::restore(const PlantState& from) {
  replay_since_leap();
  StateArchive archive{std::span<const std::byte>(from.bytes_)};
  core_->visit_state(archive);
  if (leap_) leap_->visit_state(archive);
}

Plant Plant::clone() const {
  replay_since_leap();
  Plant copy(core_->clone());
  if (leap_) copy.leap_ = leap_->clone(*copy.core_);
  return copy;
}

double Plant::time_s() const noexcept { return core_->time_s(); }
double Plant::step_s() const noexcept { return core_->options.step_s; }
long long Plant::steps() const noexcept { return core_->counters.steps; }
long long Plant::steps_at_event_limit() const noexcept { return core_->counters.steps_at_event_limit; }

long long Plant::discontinuities() const noexcept { return core_->counters.discontinuities; }

long long Plant::matrices_made_in_run() const noexcept {
  long long met = 0;
  for (const internal::Shard& shard : core_->shards)
    met += shard.condensed ? shard.condensed->made_since() : 0;
  return met;
}
void Plant::start_anew() noexcept {
  replay_since_leap();
  core_->start_anew();
}
void Plant::look_over() noexcept {
  if (!leap_ || !leap_->landed()) core_->look_over();
}

std::vector<Excess> Plant::excesses() const {
  std::vector<Excess> all;
  for (int k = 0; k < core_->excesses.count; ++k) {
    const auto& [position, volts, at_s] = core_->excesses.all[static_cast<std::size_t>(k)];
    const auto at = static_cast<std::size_t>(position);
    all.push_back({core_->map.position_names[at], volts, core_->map.voltage_bounds[at], at_s});
  }
  return all;
}

std::string Plant::culprit() const {
  for (const internal::ModelRow& row : core_->models)
    if (row.model->ill()) return row.owner + " (what it gave is no number, or no conductance)";
  return core_->counters.culprit < 0
             ? std::string()
             : core_->map.position_names[static_cast<std::size_t>(core_->counters.culprit)];
}

SignalId Plant::signal(std::string_view name) const {
  for (std::size_t k = 0; k < core_->signals.rows.size(); ++k) {
    if (core_->signals.rows[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("no signal \"" + std::string(name) + "\"" + suggestion(name, signal_names()));
}

std::vector<std::string> Plant::signal_names() const {
  std::vector<std::string> names;
  for (const auto& signal : core_->signals.rows) names.push_back(signal.name);
  return names;
}

const std::string& Plant::unit(SignalId signal) const noexcept {
  return core_->signals.rows[static_cast<std::size_t>(signal.index)].unit;
}

double Plant::value(SignalId signal) const noexcept {
  assert(signal.index >= 0 && static_cast<std::size_t>(signal.index) < core_->signals.rows.size());
  const internal::SignalRow& row = core_->signals[signal.index];
  if (leap_ && leap_->landed()) {
    if (const double* found = leap_->found(signal.index)) return *found;
    if (leap_->knows(signal.index)) return core_->signals.sum_of(row, leap_->values());
    leap_->leave();
  }
  return core_->value(row);
}

void Plant::read(std::span<const SignalId> signals, std::span<double> into) const noexcept {
  assert(signals.size() == into.size());
  std::size_t done = 0;
  if (leap_ && leap_->landed()) {
    for (const double* found; done < signals.size() && (found = leap_->found(signals[done].index)) != nullptr;
         ++done)
      into[done] = *found;
  }
  for (; done < signals.size(); ++done) into[done] = value(signals[done]);
}

std::complex<double> Plant::phasor(SignalId signal) const noexcept {
  return core_->signals.rows[static_cast<std::size_t>(signal.index)].phasor;
}

OperableId Plant::operable(std::string_view name) const {
  std::vector<std::string> names;
  for (std::size_t k = 0; k < core_->controls.operables.size(); ++k) {
    if (core_->controls.operables[k].name == name) return {static_cast<int>(k)};
    names.push_back(core_->controls.operables[k].name);
  }
  throw Error("nothing named \"" + std::string(name) + "\" opens and closes" + suggestion(name, names));
}

std::vector<std::string> Plant::operable_names() const {
  std::vector<std::string> names;
  for (const auto& operable : core_->controls.operables) names.push_back(operable.name);
  return names;
}

bool Plant::open(OperableId what, double at_s) noexcept {
  replay_since_leap();
  return core_->request(what.index, false, at_s);
}
bool Plant::close(OperableId what, double at_s) noexcept {
  replay_since_leap();
  return core_->request(what.index, true, at_s);
}

bool Plant::set_resistance(OperableId fault, double ohm) noexcept {
  replay_since_leap();
  return core_->set_resistance(fault.index, ohm);
}
bool Plant::has_resistance(OperableId what) const noexcept { return core_->has_resistance(what.index); }

const std::string& Plant::name(OperableId what) const noexcept {
  return core_->controls.operables[static_cast<std::size_t>(what.index)].name;
}
const std::vector<Refusal>& Plant::refusals() const noexcept { return core_->controls.refusals; }

std::vector<std::string> Plant::gate_names() const {
  std::vector<std::string> names;
  for (const auto& gate : core_->controls.gates) names.push_back(gate.name);
  return names;
}

GateId Plant::gate(std::string_view name) const {
  for (std::size_t k = 0; k < core_->controls.gates.size(); ++k) {
    if (core_->controls.gates[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("no gate \"" + std::string(name) + "\"" + suggestion(name, gate_names()));
}

bool Plant::fire(GateId gate, bool on, double at_s) noexcept { return core_->fire(gate.index, on, at_s); }

void Plant::fail(GateId gate, Failure how, double late_s) noexcept { core_->fail(gate.index, how, late_s); }

std::vector<std::string> Plant::knob_names() const {
  std::vector<std::string> names;
  for (const auto& knob : core_->controls.knobs) names.push_back(knob.name);
  return names;
}

void Plant::remember_commutations(bool remember) noexcept { core_->commutator.may_remember = remember; }

KnobId Plant::knob(std::string_view name) const {
  for (std::size_t k = 0; k < core_->controls.knobs.size(); ++k) {
    if (core_->controls.knobs[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("nothing named \"" + std::string(name) + "\" can be changed while running" +
              suggestion(name, knob_names()));
}

const std::string& Plant::unit(KnobId knob) const noexcept {
  return core_->controls.knobs[static_cast<std::size_t>(knob.index)].unit;
}

std::pair<double, double> Plant::bounds(KnobId knob) const noexcept {
  const internal::Knob& what = core_->controls.knobs[static_cast<std::size_t>(knob.index)];
  return {what.low, what.high};
}

void Plant::turn(KnobId knob, double value) noexcept {
  replay_since_leap();
  core_->turn(knob.index, value);
}

std::vector<std::string> voltages_and_currents(const Plant& plant) {
  std::vector<std::string> names = plant.signal_names();
  std::erase_if(names, [&](const std::string& name) {
    const std::string& unit = plant.unit(plant.signal(name));
    return unit != "V" && unit != "A";
  });
  return names;
}

void Plant::share(StepWorkers* crew) noexcept { core_->workers = crew; }

void Plant::watch(std::span<const SignalId> signals) {
  replay_since_leap();
  core_->watch(signals);
}

const Summary& Plant::summary() const noexcept { return core_->summary; }

}  // namespace zavrek::emt
