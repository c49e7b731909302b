#include "zavrek/bench/plant_store.hpp"

namespace zavrek::bench {

emt::Plant& PlantStore::at_start(const network::Network& network, const std::string& name) {
  if (plant_ && start_ && name == name_) {
    plant_->restore(*start_);
    if (set_resistances(network)) return *plant_;
  }
  start_.reset();
  plant_.emplace(emt::compile(network));
  name_ = name;
  resistances_ohm_.clear();
  for (const network::Fault& fault : network.faults) resistances_ohm_.push_back(fault.resistance_ohm);
  return *plant_;
}

void PlantStore::keep_start() {
  if (!start_) start_.emplace();
  plant_->save(*start_);
}

bool PlantStore::set_resistances(const network::Network& network) {
  if (network.faults.size() != resistances_ohm_.size()) return false;
  for (std::size_t k = 0; k < network.faults.size(); ++k) {
    const network::Fault& fault = network.faults[k];
    if (fault.resistance_ohm == resistances_ohm_[k]) continue;
    if (!plant_->set_resistance(plant_->operable(fault.name), fault.resistance_ohm)) return false;
    resistances_ohm_[k] = fault.resistance_ohm;
  }
  return true;
}

}  // namespace zavrek::bench
