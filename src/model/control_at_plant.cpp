#include <cmath>
#include <limits>

#include "zavrek/model.hpp"

namespace zavrek::model {

ControlAtPlant::ControlAtPlant(const control::Controller& controller, const emt::Plant& plant)
    : period_s_(controller.period_s()) {
  for (const std::string& name : controller.reads()) reads_.push_back(plant.signal(name));
  for (const std::string& name : controller.knobs()) knobs_.push_back(plant.knob(name));
  for (const std::string& name : controller.gates()) gates_.push_back(plant.gate(name));
  for (const std::string& name : controller.operables()) operables_.push_back(plant.operable(name));
  signals_.resize(reads_.size());
  knobs_sent_.assign(knobs_.size(), std::numeric_limits<double>::quiet_NaN());
  closes_sent_.assign(operables_.size(), 0);
}

std::span<const double> ControlAtPlant::read(const emt::ControlledPlant& plant) noexcept {
  for (std::size_t k = 0; k < reads_.size(); ++k) signals_[k] = plant.value(reads_[k]);
  return signals_;
}

void ControlAtPlant::act(emt::ControlledPlant& plant, const control::Controller& controller) noexcept {
  fire(plant, controller.edges(), 0);
  for (std::size_t k = 0; k < knobs_.size(); ++k) drive(plant, k, controller.knob(k));
  for (std::size_t k = 0; k < operables_.size(); ++k) operate(plant, k, controller.closes(k));
}

void ControlAtPlant::fire(emt::ControlledPlant& plant, std::span<const control::Edge> edges,
                          double shift_s) noexcept {
  for (const control::Edge& edge : edges) {
    const auto gate = static_cast<std::size_t>(edge.gate);
    if (gate < gates_.size() && !plant.fire(gates_[gate], edge.on, edge.at_s + shift_s)) ++lost_edges_;
  }
}

void ControlAtPlant::drive(emt::ControlledPlant& plant, std::size_t knob, double wanted) noexcept {
  if (wanted == knobs_sent_[knob] || !std::isfinite(wanted)) return;
  plant.turn(knobs_[knob], wanted);
  knobs_sent_[knob] = wanted;
}

void ControlAtPlant::operate(emt::ControlledPlant& plant, std::size_t operable, bool closes) noexcept {
  if (closes == (closes_sent_[operable] != 0)) return;
  const emt::OperableId what = operables_[operable];
  closes ? plant.close(what, plant.time_s()) : plant.open(what, plant.time_s());
  closes_sent_[operable] = closes ? 1 : 0;
}

}  // namespace zavrek::model
