#include "zavrek/model.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

#include <fmt/format.h>

namespace zavrek::model {
namespace {

bool stands_in(const std::vector<std::string>& names, const std::string& name) {
  return std::find(names.begin(), names.end(), name) != names.end();
}

std::optional<control::Controller> controller_of(const control::Description& control,
                                                 const emt::Plant& plant) {
  if (control.blocks.empty() && control.ready.empty()) return std::nullopt;
  return control::Controller(control, plant.signal_names());
}

/// Fowler-Noll-Vo, 64 bits.
std::uint64_t hash(std::span<const std::byte> bytes, std::uint64_t from = 0xCBF29CE484222325) {
  for (const std::byte one : bytes) from = (from ^ static_cast<std::uint64_t>(one)) * 0x100000001B3;
  return from;
}

/// Ahead of a saved state: whose it is, and that it came whole.
struct Seal {
  std::uint64_t identity, size, hash;
};

}  // namespace

Model::Model(const network::Network& network, const control::Description& control,
             const std::vector<std::string>& outputs)
    : plant_(emt::compile(network)), controller_(controller_of(control, plant_)) {
  if (controller_) at_plant_.emplace(*controller_, plant_);
  find_inputs(control);
  find_outputs(control, outputs);
  if (at_plant_) at_plant_->watch(plant_);
  for (const Shown& shown : shown_) {
    if (shown.signal) plant_.watch(*shown.signal);
  }
  failure_.reserve(200);
  double step = step_s();
  identity_ = hash(std::as_bytes(std::span(&step, 1)));
  for (const auto* list : {&inputs_, &parameters_, &outputs_}) {
    for (const Variable& one : *list) identity_ = hash(std::as_bytes(std::span(one.name)), identity_);
  }
  save(at_start_);
}

/// Set points are the control's parameters that are blocks of their own.
void Model::find_inputs(const control::Description& control) {
  const std::vector<std::string> signals = plant_.signal_names();
  const auto keep = [](std::vector<Variable>& list, std::vector<Place>& places, std::vector<double>& values,
                       Variable what, Place place) {
    values.push_back(what.start);
    list.push_back(std::move(what));
    places.push_back(place);
  };
  for (const std::string& name : plant_.operable_names()) {
    std::string position = name + ".closed";
    if (!stands_in(signals, position)) position = name.substr(0, name.rfind('.')) + ".closed";  // a pole's
    const double closed = stands_in(signals, position) ? plant_.value(plant_.signal(position)) : 0;
    keep(inputs_, input_places_, input_values_, {name, "", closed > 0.5 ? 1.0 : 0.0, 0, 1, true},
         {.operable = plant_.operable(name)});
  }
  for (const std::string& name : plant_.knob_names()) {
    const emt::KnobId knob = plant_.knob(name);
    const auto [least, most] = plant_.bounds(knob);
    const double start = stands_in(signals, name) ? plant_.value(plant_.signal(name)) : least;
    keep(parameters_, parameter_places_, parameter_values_, {name, plant_.unit(knob), start, least, most},
         {.knob = knob});
  }
  if (!controller_) return;
  std::vector<std::string> setpoints;
  for (const control::Block& block : control::expand(control).blocks) {
    if (std::holds_alternative<control::Setpoint>(block)) setpoints.push_back(control::name_of(block));
  }
  for (std::size_t k = 0; k < controller_->parameters().size(); ++k) {
    const std::string& name = controller_->parameters()[k];
    const auto [least, most] = controller_->bounds(k);
    const Variable what{name, controller_->unit(k), controller_->value(k), least, most};
    stands_in(setpoints, name)
        ? keep(inputs_, input_places_, input_values_, what, {.of_control = k})
        : keep(parameters_, parameter_places_, parameter_values_, what, {.of_control = k});
  }
}

void Model::find_outputs(const control::Description& control, const std::vector<std::string>& names) {
  const std::vector<std::string> signals = plant_.signal_names();
  std::vector<std::string> units;
  if (controller_)
    units = control::output_units(control, controller_->outputs(), [&](const std::string& signal) {
      return plant_.unit(plant_.signal(signal));
    });
  for (const std::string& name : names) {
    Shown shown;
    std::string unit;
    if (stands_in(signals, name)) {
      shown.signal = plant_.signal(name);
      unit = plant_.unit(*shown.signal);
    } else {
      const std::vector<std::string> none, &own = controller_ ? controller_->outputs() : none;
      const auto at = std::find(own.begin(), own.end(), name);
      if (at == own.end()) {
        std::vector<std::string> known = signals;
        known.insert(known.end(), own.begin(), own.end());
        throw Error(fmt::format("no signal or output of a block \"{}\"{}", name, suggestion(name, known)));
      }
      shown.of_control = static_cast<std::size_t>(at - own.begin());
      unit = units[shown.of_control];
    }
    shown_.push_back(shown);
    outputs_.push_back({name, unit, output(shown_.size() - 1)});
  }
}

double Model::output(std::size_t k) const noexcept {
  const Shown& shown = shown_[k];
  return shown.signal ? plant_.value(*shown.signal) : controller_->output(shown.of_control);
}

bool Model::set(const Variable& what, double value, double& kept) noexcept {
  if (!std::isfinite(value)) return false;
  kept = what.is_switch ? (value > 0.5 ? 1.0 : 0.0) : std::clamp(value, what.least, what.most);
  return true;
}

bool Model::set_input(std::size_t k, double value) noexcept {
  const double was = input_values_[k];
  if (!set(inputs_[k], value, input_values_[k])) return false;
  const double now = input_values_[k];
  if (const auto what = input_places_[k].operable; what && now != was)
    now > 0.5 ? plant_.close(*what, plant_.time_s()) : plant_.open(*what, plant_.time_s());
  if (!input_places_[k].operable) controller_->set(input_places_[k].of_control, now);
  return true;
}

bool Model::set_parameter(std::size_t k, double value) noexcept {
  const double was = parameter_values_[k];
  if (!set(parameters_[k], value, parameter_values_[k])) return false;
  const double now = parameter_values_[k];
  if (now == was) return true;
  const auto knob = parameter_places_[k].knob;
  knob ? plant_.turn(*knob, now) : controller_->set(parameter_places_[k].of_control, now);
  return true;
}

bool Model::step() noexcept {
  if (!failure_.empty()) return false;
  if (at_plant_) {
    at_plant_->run_due(plant_, [this](long long tick, std::span<const double> values) {
      controller_->run(tick, values);
      at_plant_->act(plant_, *controller_);
    });
    if (!controller_->failure().empty()) failure_ = controller_->failure();
  }
  if (failure_.empty() && plant_.step() != emt::Status::running)
    failure_ = "the network diverged at " + plant_.culprit();
  return failure_.empty();
}

void Model::visit_state(StateArchive& archive) {
  archive(input_values_, parameter_values_);
  plant_state_.visit_state(archive);
  if (controller_) {
    controller_->visit_state(archive);
    at_plant_->visit_state(archive);
  }
}

void Model::save(std::vector<std::byte>& into) {
  plant_.save(plant_state_);
  StateArchive archive(scratch_);
  visit_state(archive);
  const Seal seal{identity_, scratch_.size(), hash(scratch_)};
  into.resize(sizeof seal + scratch_.size());
  std::memcpy(into.data(), &seal, sizeof seal);
  std::memcpy(into.data() + sizeof seal, scratch_.data(), scratch_.size());
}

void Model::restore(std::span<const std::byte> from) {
  Seal seal{};
  if (from.size() >= sizeof seal) std::memcpy(&seal, from.data(), sizeof seal);
  const std::span<const std::byte> state = from.size() < sizeof seal ? from : from.subspan(sizeof seal);
  if (seal.identity != identity_ || seal.size != state.size() || seal.hash != hash(state))
    throw Error("this is no state of this model");
  StateArchive archive(state);
  visit_state(archive);
  plant_.restore(plant_state_);
  failure_.clear();
}

}  // namespace zavrek::model
