// What a drive moves on a road. An execution of length T takes wheels by backward Euler, at the vehicle's
// speed before it, and the vehicle by what the tyres then give: where they hold, F = m a with all masses that
// turn, for any T.
#include <algorithm>
#include <array>
#include <cmath>

#include "control/function.hpp"

namespace zavrek::control {

namespace {
constexpr double gravity = 9.80665;  // m/s2, standard
constexpr double air = 1.2;          // kg/m3
/// Slip is taken over the speed, or over this where that is less: tyres that creep when they stand on a
/// slope.
constexpr double least_speed = 0.5;

class VehicleFunction final : public BlockFunction {
 public:
  VehicleFunction(const Vehicle& b, double period) : b_(b), period_(period) {}
  [[nodiscard]] bool feeds_through() const override { return false; }
  void give(double* out) noexcept override {
    out[0] = speed_;
    out[1] = distance_;
    out[2] = acceleration_;
    out[3] = turning_[0] * b_.ratio;
    out[4] = turning_[1] * b_.ratio;
    out[5] = grip_;
  }
  void step(const Instant&, const double* in, double*) noexcept override {
    const double slope = in[3], up = slope / std::hypot(1, slope), level = 1 / std::hypot(1, slope);
    const double weight = b_.mass_kg * gravity;
    const double moved =
        (b_.mass_kg * acceleration_ + weight * up) * b_.height_m / b_.wheelbase_m;  // from front to rear
    const double at_front = std::clamp(b_.front_share * weight * level - moved, 0.0, weight * level);
    const std::array loads{at_front, weight * level - at_front};
    const std::array shares{b_.front_share, 1 - b_.front_share};
    const double brake = std::clamp(in[2], 0.0, 1.0) * b_.brake_force_N;
    double force = -(b_.mass_kg + b_.drawn_kg) * gravity * up;
    grip_ = 0;
    for (std::size_t k = 0; k < 2; ++k) {
      const double drive = in[k] * b_.ratio * (in[k] * turning_[k] >= 0 ? b_.efficiency : 1 / b_.efficiency);
      const double friction = b_.radius_m * (shares[k] * brake + b_.rolling * loads[k]);
      force += turn(k, drive, friction, loads[k]);
    }
    force = resist(force, b_.rolling * b_.drawn_kg * gravity * level);
    acceleration_ = force / (b_.mass_kg + b_.drawn_kg);
    const double before = speed_;
    speed_ += period_ * acceleration_;
    distance_ += period_ * (before + speed_) / 2;
  }
  void visit_state(StateArchive& archive) override {
    archive(speed_, distance_, acceleration_, turning_, grip_);
  }

 private:
  /// An axle's wheels, under a torque, against friction that holds them or opposes their turning. What their
  /// tyres give to the vehicle, N.
  double turn(std::size_t axle, double drive, double friction, double load) noexcept {
    double& w = turning_[axle];
    const double r = b_.radius_m, inertia = b_.axle_inertia_kgm2;
    const double slope = load * b_.stiffness / std::max({std::abs(speed_), std::abs(r * w), least_speed});
    const double most = load * b_.adhesion;
    const double pushed = inertia * w + period_ * drive;
    double next =
        braked(pushed + period_ * r * slope * speed_, friction) / (inertia + period_ * r * r * slope);
    double force = slope * (r * next - speed_);
    if (std::abs(force) > most) {
      force = std::copysign(most, force);
      next = braked(pushed - period_ * r * force, friction) / inertia;
    }
    w = next;
    if (most > 0) grip_ = std::max(grip_, std::abs(force) / most);
    return force;
  }
  [[nodiscard]] double braked(double impulse, double friction) const noexcept {
    return std::copysign(std::max(std::abs(impulse) - period_ * friction, 0.0), impulse);
  }
  /// What is drawn resists by its rolling, which holds it at rest, and all by the air.
  [[nodiscard]] double resist(double force, double rolling) const noexcept {
    force -= 0.5 * air * b_.drag_area_m2 * speed_ * std::abs(speed_);
    const double mass = b_.mass_kg + b_.drawn_kg, impulse = mass * speed_ + period_ * force;
    return (braked(impulse, rolling) - mass * speed_) / period_;
  }

  const Vehicle& b_;
  double period_;
  double speed_ = 0, distance_ = 0, acceleration_ = 0, grip_ = 0;
  std::array<double, 2> turning_{};  // rad/s, of the wheels
};
}  // namespace
template <>
Made make(const Vehicle& b, double period) {
  return {std::make_unique<VehicleFunction>(b, period),
          {b.front, b.rear, b.brake, b.slope},
          {"", "distance", "acceleration", "front_speed", "rear_speed", "grip"},
          {}};
}

}  // namespace zavrek::control
