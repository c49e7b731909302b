#include "emt/core.hpp"

namespace zavrek::emt {

Plant::Plant(std::unique_ptr<internal::Core> core) : core_(std::move(core)) {}
Plant::Plant(Plant&&) noexcept = default;
Plant& Plant::operator=(Plant&&) noexcept = default;
Plant::~Plant() = default;

Status Plant::step() noexcept { return core_->step(); }

bool Plant::ready_leaps(int steps) { return core_->ready_leaps(steps); }
bool Plant::leap() noexcept { return core_->leap && core_->leap->take(); }

double Plant::time_s() const noexcept { return core_->time_s(); }
double Plant::step_s() const noexcept { return core_->step_s; }
long long Plant::steps() const noexcept { return core_->steps; }
long long Plant::crowded_steps() const noexcept { return core_->crowded_steps; }

long long Plant::discontinuities() const noexcept { return core_->discontinuities; }

long long Plant::states_met() const noexcept {
  long long met = 0;
  for (const internal::Shard& shard : core_->shards)
    met += shard.condensed ? shard.condensed->made_since() : 0;
  return met;
}
std::string Plant::culprit() const {
  return core_->culprit < 0 ? std::string() : core_->position_names[static_cast<std::size_t>(core_->culprit)];
}

SignalId Plant::signal(std::string_view name) const {
  for (std::size_t k = 0; k < core_->signals.size(); ++k) {
    if (core_->signals[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("no signal \"" + std::string(name) + "\"" + suggestion(name, signal_names()));
}

std::vector<std::string> Plant::signal_names() const {
  std::vector<std::string> names;
  for (const auto& signal : core_->signals) names.push_back(signal.name);
  return names;
}

const std::string& Plant::unit(SignalId signal) const noexcept {
  return core_->signals[static_cast<std::size_t>(signal.index)].unit;
}

double Plant::value(SignalId signal) const noexcept {
  return core_->value(core_->signals[static_cast<std::size_t>(signal.index)]);
}

void Plant::read(std::span<const SignalId> signals, double* into) const noexcept {
  core_->read(signals, into);
}

std::complex<double> Plant::phasor(SignalId signal) const noexcept {
  return core_->signals[static_cast<std::size_t>(signal.index)].phasor;
}

OperableId Plant::operable(std::string_view name) const {
  std::vector<std::string> names;
  for (std::size_t k = 0; k < core_->operables.size(); ++k) {
    if (core_->operables[k].name == name) return {static_cast<int>(k)};
    names.push_back(core_->operables[k].name);
  }
  throw Error("nothing named \"" + std::string(name) + "\" opens and closes" + suggestion(name, names));
}

std::vector<std::string> Plant::operable_names() const {
  std::vector<std::string> names;
  for (const auto& operable : core_->operables) names.push_back(operable.name);
  return names;
}

bool Plant::open(OperableId what, double at_s) noexcept { return core_->request(what.index, false, at_s); }
bool Plant::close(OperableId what, double at_s) noexcept { return core_->request(what.index, true, at_s); }

const std::string& Plant::name(OperableId what) const noexcept {
  return core_->operables[static_cast<std::size_t>(what.index)].name;
}
const std::vector<Refusal>& Plant::refusals() const noexcept { return core_->refusals; }

std::vector<std::string> Plant::gate_names() const {
  std::vector<std::string> names;
  for (const auto& gate : core_->gates) names.push_back(gate.name);
  return names;
}

GateId Plant::gate(std::string_view name) const {
  for (std::size_t k = 0; k < core_->gates.size(); ++k) {
    if (core_->gates[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("no gate \"" + std::string(name) + "\"" + suggestion(name, gate_names()));
}

bool Plant::fire(GateId gate, bool on, double at_s) noexcept { return core_->fire(gate.index, on, at_s); }

void Plant::fail(GateId gate, Failure how, double late_s) noexcept { core_->fail(gate.index, how, late_s); }

std::vector<std::string> Plant::knob_names() const {
  std::vector<std::string> names;
  for (const auto& knob : core_->knobs) names.push_back(knob.name);
  return names;
}

void Plant::remember_commutations(bool remember) noexcept { core_->may_remember = remember; }

KnobId Plant::knob(std::string_view name) const {
  for (std::size_t k = 0; k < core_->knobs.size(); ++k) {
    if (core_->knobs[k].name == name) return {static_cast<int>(k)};
  }
  throw Error("nothing named \"" + std::string(name) + "\" can be changed while running" +
              suggestion(name, knob_names()));
}

const std::string& Plant::unit(KnobId knob) const noexcept {
  return core_->knobs[static_cast<std::size_t>(knob.index)].unit;
}

void Plant::turn(KnobId knob, double value) noexcept { core_->turn(knob.index, value); }

std::vector<std::string> voltages_and_currents(const Plant& plant) {
  std::vector<std::string> names = plant.signal_names();
  std::erase_if(names, [&](const std::string& name) {
    const std::string& unit = plant.unit(plant.signal(name));
    return unit != "V" && unit != "A";
  });
  return names;
}

void Plant::share(Crew* crew) noexcept { core_->crew = crew; }

void Plant::watch(std::span<const SignalId> signals) { core_->watch(signals); }

const Summary& Plant::summary() const noexcept { return core_->summary; }

}  // namespace zavrek::emt
