// What all machines share. In the stator's two axes (alpha, beta; amplitude-invariant Clarke components),
// current into the machine,
//   v = Ra i + d(flux)/dt,   flux = L(theta) i + psi,   L(theta) = l0 + l2 [cos 2theta, sin 2theta; sin
//   2theta, -cos 2theta]
// psi is what the rotor circuits contribute; their states x stand in the frame of the rotor, where they move
// slowly:  dx/dt = f(x, i_dq, omega).  The shaft: J dw/dt = T + T_shaft, and so on from mass to mass. On the
// outermost mass, beside what drives it whichever way it turns, acts what brakes it: a load torque against
// the sense in which it turns, which holds it at rest up to its own size (Coulomb's friction) where it does
// not fall with the speed. A step of length d (d = h/2 trapezoidal, and half steps of h/2 by backward Euler
// alike):
//   x and theta are predicted (Adams-Bashforth of second order, Euler after a discontinuity);
//   flux1 = flux0 + d (v1 - Ra i1) [+ d (v0 - Ra i0)] gives i1 = G v1 + J with G = (Ra + L(theta1)/d)^-1;
//   once v1 is known, x is corrected by the trapezoidal rule (backward Euler).
// The zero sequence is open: the star point is isolated, or the winding a delta.
#pragma once

#include <array>
#include <complex>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "emt/parts/assembly.hpp"
#include "emt/parts/discrete.hpp"

namespace zavrek::emt::internal {

/// Real part on alpha or d, imaginary part on beta or q.
using SpaceVector = std::complex<double>;

[[nodiscard]] SpaceVector to_space_vector(double a, double b, double c) noexcept;
/// Component of phase 0, 1 or 2.
[[nodiscard]] double phase_of(SpaceVector x, int phase) noexcept;

/// A mass on the shaft and the coupling to its neighbour nearer to the machine.
struct ShaftMass {
  double inertia_kgm2 = 0;
  double stiffness_Nm_per_rad = 0;
  double damping_Nms_per_rad = 0;
};

class RotatingMachine : public Model {
 public:
  struct Common {
    double stator_resistance_ohm = 0;
    double pole_pairs = 1;
    double nominal_omega = 0;      // electrical, rad/s
    std::vector<ShaftMass> shaft;  // the machine's own mass first
    double load_torque_Nm = 0;     // braking; at nominal speed
    double load_exponent = 0;      // of that torque over speed
    double active_torque_Nm = 0;   // driving forwards, whichever way it turns
  };

  RotatingMachine(Common common, int rotor_states);

  void visit_state(StateArchive& archive) override {
    archive(slope_before_);
    archive(slope_time_);
    archive(coming_time_);
    for (auto* scratch : {&predicted_, &slope_old_, &slope_new_}) archive(*scratch);
  }
  [[nodiscard]] int slots() const override { return state(states_); }
  [[nodiscard]] bool varies() const override { return saliency() != 0; }
  [[nodiscard]] Eigen::MatrixXd conductance(double step_s) const override;
  [[nodiscard]] States states() const override { return {true, flux_slot, 2 + states_, true}; }
  void slopes(const Places& places, double* values, double* currents, double* slopes) noexcept override;
  bool begin(const Interval& stretch, const Places& places, const double* old, double* history,
             double* conductance) noexcept override;
  void end(const Interval& stretch, const Places& places, const double* old, double* now,
           const double* history, const double* conductance) noexcept override;
  bool act(const Places& places, double time_s, double* values) noexcept override;
  [[nodiscard]] bool has_margin() const override { return common_.load_exponent == 0; }
  [[nodiscard]] double margin(const Places& places, const double* values) const noexcept override;
  [[nodiscard]] std::optional<WrittenLaw> law(double step_s) const override;

  // Slots, counted from the first.
  static constexpr int current_slot = 0;  // three
  static constexpr int torque_slot = 3;   // N m, on the rotor
  static constexpr int speed_slot = 4;    // mechanical rad/s of the machine's mass
  static constexpr int sense_slot = 5;    // in which the load brakes: 1 forwards, -1, 0 held at rest
  static constexpr int flux_slot = 6;     // two
  static constexpr int state_slot = 8;    // the state vector

 protected:
  // What a kind of machine says. `x` is its rotor state, currents and fluxes in the frame of the rotor.
  [[nodiscard]] virtual double mean_inductance() const = 0;  // l0
  [[nodiscard]] virtual double saliency() const = 0;         // l2
  [[nodiscard]] virtual SpaceVector rotor_flux(const double* x) const noexcept = 0;
  virtual void derivative(const double* x, SpaceVector current, SpaceVector flux, double omega,
                          const Places& places, const double* values, double* dx) const noexcept = 0;
  /// Its own numbers of `struct machine` in written/pieces/law_machine.c, where that knows its rotor.
  [[nodiscard]] virtual std::optional<std::vector<std::pair<std::string, double>>> written_rotor() const {
    return std::nullopt;
  }
  /// Torque that drives the outermost mass forwards, whichever way it turns; without a turbine, knob 1.
  [[nodiscard]] virtual double active_torque(const double* x, const Places& places,
                                             const double* values) const noexcept;
  /// Torque at nominal speed that brakes the outermost mass; without a turbine, knob 0.
  [[nodiscard]] virtual double load_torque(const Places& places, const double* values) const noexcept;
  /// On the outermost mass in the steady state at a mechanical speed, positive drives forwards.
  [[nodiscard]] double steady_shaft_torque(double speed) const noexcept;

  // The state vector: theta (electrical), shaft speeds, shaft angles relative to the machine's, then the
  // rotor's x.
  [[nodiscard]] int masses() const { return static_cast<int>(common_.shaft.size()); }
  [[nodiscard]] int speed_state(int mass) const { return 1 + mass; }
  [[nodiscard]] int twist_state(int mass) const { return masses() + mass; }  // from mass 1 on
  [[nodiscard]] int rotor_state() const { return 2 * masses(); }
  [[nodiscard]] int state(int k) const { return state_slot + k; }
  /// Fills all slots from the rotor state `x`, the flux and the speed (mechanical).
  void start_from(const Places& places, double theta, double speed, const std::vector<double>& x,
                  SpaceVector current, double twist_torque, double* values) const;
  [[nodiscard]] const Common& common() const { return common_; }

 protected:
  /// Ahead of a solution: theta, the shaft and the rotor's x at its end, predicted.
  void predict(const Interval& stretch, const Places& places, const double* old, SpaceVector current,
               SpaceVector flux) noexcept;
  [[nodiscard]] const std::vector<double>& predicted() const { return predicted_; }
  /// Behind it: the same corrected, and the slots that follow, from the stator's current and flux.
  void correct(const Interval& stretch, const Places& places, const double* old, double* now,
               SpaceVector current, SpaceVector flux) noexcept;

 private:
  void derivatives(const double* y, SpaceVector current, SpaceVector flux, const Places& places,
                   const double* values, double* dy) const noexcept;
  /// Of the load's torque at nominal speed, at a mechanical speed.
  [[nodiscard]] double load_share(double speed) const noexcept;
  /// Sum of all torques but the load's on the outermost mass.
  [[nodiscard]] double free_torque(const double* y, double inner, const Places& places,
                                   const double* values) const noexcept;
  /// What the load adds to it at a speed of the outermost mass.
  [[nodiscard]] double load_on(double speed, double free, const Places& places,
                               const double* values) const noexcept;
  /// From the machine's own mass outwards: the torque that its neighbour within exerts on the outermost.
  [[nodiscard]] double torque_from_within(const double* y, double electrical) const noexcept;
  [[nodiscard]] double electrical_torque(SpaceVector flux, SpaceVector current) const noexcept {
    return 1.5 * common_.pole_pairs * (std::conj(flux) * current).imag();
  }
  /// What follows from the states in `values`: the current, and all torques but the load's on the last mass.
  [[nodiscard]] SpaceVector current_of(const Places& places, const double* values) const noexcept;
  [[nodiscard]] double free_torque_of(const Places& places, const double* values) const noexcept;
  [[nodiscard]] int outermost() const { return speed_state(masses() - 1); }
  /// Behind a step: whether the outermost mass came to rest, or turned back.
  void brake(double electrical, const Places& places, double* now) const noexcept;
  [[nodiscard]] std::array<double, 3> inductance(double theta) const noexcept;  // aa, ab, bb

  Common common_;
  int states_;
  std::vector<double> predicted_, slope_old_, slope_new_;  // scratch: states_
  std::vector<double> slope_before_;                       // f at slope_time_
  double slope_time_ = -1e300, coming_time_ = -1e300;
};

/// Positive- and negative-sequence parts of three phasors.
struct Sequences {
  std::complex<double> positive, negative;
};
[[nodiscard]] Sequences sequences_of(const Eigen::VectorXcd& phases);
/// 3 x 3 admittance with the given sequence values and nothing in the zero sequence.
[[nodiscard]] Eigen::MatrixXcd from_sequences(std::complex<double> positive, std::complex<double> negative);
/// Three phasors of a positive-sequence one.
[[nodiscard]] Eigen::VectorXcd positive_sequence(std::complex<double> phasor);

/// Three ends from the phases of `bus` to ground; throws Error when it has fewer.
[[nodiscard]] std::vector<Ends> machine_ends(const Assembly& assembly, const std::string& owner,
                                             const std::string& bus);
/// "120 kg m^2, 3 MN m/rad, 2 kN m s/rad" from the machine outwards, behind the machine's own inertia.
[[nodiscard]] std::vector<ShaftMass> parse_shaft(const std::string& owner, double inertia_kgm2,
                                                 const std::vector<std::string>& masses);
/// What the description of a motor says of it, whatever its rotor.
template <class Motor>
[[nodiscard]] RotatingMachine::Common common_of(const std::string& owner, const Motor& motor,
                                                const Assembly& assembly) {
  return {motor.stator_resistance_ohm,
          static_cast<double>(motor.pole_pairs),
          assembly.omega(),
          parse_shaft(owner, motor.inertia_kgm2, motor.shaft),
          motor.load_torque_Nm,
          motor.load_exponent,
          motor.active_torque_Nm};
}
/// Knobs NAME.load_torque and NAME.active_torque, the first two of a machine without a turbine.
template <class Motor>
[[nodiscard]] std::vector<Slot> shaft_knobs(Assembly& assembly, const Motor& motor) {
  return {assembly.knob(motor.name + ".load_torque", "N m", motor.load_torque_Nm, 0, 1e12),
          assembly.knob(motor.name + ".active_torque", "N m", motor.active_torque_Nm, -1e12, 1e12)};
}
/// Signals NAME.ia ..., NAME.torque, NAME.speed.
void machine_signals(Assembly& assembly, const std::string& name, Slot first);

}  // namespace zavrek::emt::internal
