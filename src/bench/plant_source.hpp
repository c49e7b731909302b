#pragma once

#include <optional>
#include <utility>

#include "zavrek/bench/exchange.hpp"

namespace zavrek::bench::internal {

class PlantSource final : public Source {
 public:
  explicit PlantSource(emt::Plant plant) : own_(std::move(plant)), plant_(&*own_) {}
  /// Of somebody else, who keeps it longer.
  explicit PlantSource(emt::Plant* plant) : plant_(plant) {}
  double time_s() const noexcept override { return plant_->time_s(); }
  double step_s() const noexcept override { return plant_->step_s(); }
  bool step() noexcept override { return plant_->step() == emt::Status::running; }
  emt::SignalId signal(const std::string& name) const override { return plant_->signal(name); }
  std::string unit(emt::SignalId signal) const override { return plant_->unit(signal); }
  void read(std::span<const emt::SignalId> signals, double* into) const noexcept override {
    plant_->read(signals, {into, signals.size()});
  }
  emt::Plant* plant() noexcept override { return plant_; }

  PlantSource(const PlantSource&) = delete;
  PlantSource& operator=(const PlantSource&) = delete;

 private:
  std::optional<emt::Plant> own_;
  emt::Plant* plant_;
};

}  // namespace zavrek::bench::internal
