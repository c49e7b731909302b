// A fault arc as a conductance that follows its current with a time constant:
//   dg/dt = (G - g)/tau,   G = |i| / (u0 + r0 |i|)
// (the dynamic arc equation in the form of Kizilcay and Pniok, "Digital simulation of fault arcs in power
// systems", ETEP 1, 1991): u0 is the arc voltage, nearly independent of the current, r0 its resistive part.
#pragma once

#include <algorithm>
#include <cmath>

#include "emt/parts/model.hpp"

namespace zavrek::emt::internal {

class Arc : public Model {
 public:
  Arc(double voltage_V, double resistance_ohm, double time_constant_s)
      : voltage_(voltage_V), resistance_(std::max(resistance_ohm, 1e-4)), time_constant_(time_constant_s) {}

  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<Arc>(*this); }
  [[nodiscard]] int slots() const override { return 2; }  // current, conductance
  [[nodiscard]] bool varies() const override { return true; }
  [[nodiscard]] Eigen::MatrixXd conductance(double) const override {
    return Eigen::MatrixXd::Constant(1, 1, ignited());
  }
  [[nodiscard]] std::optional<WrittenLaw> law(double) const override {
    return WrittenLaw{
        .kind = "arc",
        .numbers = {{"voltage", voltage_}, {"resistance", resistance_}, {"time", time_constant_}},
        .varies = true};
  }
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double>, double) const override {
    return Eigen::MatrixXcd::Constant(1, 1, ignited());
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd&, double,
             double* values) override {
    values[places.first] = 0;
    values[places.first + 1] = ignited();
  }

  [[nodiscard]] States states() const override { return {true, 1, 1, false}; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override {
    double* slots = values + places.first;
    slots[0] = currents[0] = slots[1] * (values[places.p[0]] - values[places.q[0]]);
    const double current = std::abs(slots[0]);
    const double settled = current / (voltage_ + resistance_ * current);
    slopes[0] = current < least_A ? 0 : (std::max(settled, least_S) - slots[1]) / time_constant_;
  }

  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override {
    history[0] = 0;
    const double current = std::abs(old[places.first]);
    const double settled = current / (voltage_ + resistance_ * current);
    const double g = old[places.first + 1];
    // Before any current flows the arc waits, ignited.
    const double next =
        current < least_A ? g : settled + (g - settled) * std::exp(-stretch.length_s() / time_constant_);
    const double bounded = std::max(next, least_S);
    const bool changed = bounded != conductance[0];
    conductance[0] = bounded;
    return changed;
  }
  void end(const Interval&, const Places& places, const double*, double* now, const double*,
           const double* conductance) noexcept override {
    now[places.first] = conductance[0] * (now[places.p[0]] - now[places.q[0]]);
    now[places.first + 1] = conductance[0];
  }

 private:
  static constexpr double least_A = 1e-3;
  static constexpr double least_S = 1e-6;
  /// The conductance with which it starts: that of ten times the current at which the two terms are equal
  /// would be close to 1/r0; a tenth of it ignites softly.
  [[nodiscard]] double ignited() const { return 0.1 / resistance_; }

  double voltage_, resistance_, time_constant_;
};

}  // namespace zavrek::emt::internal
