// Induction machine (equations of the shell in rotating_machine.hpp). Rotor states x: flux linkages psi_r in
// the frame of the rotor. With Lr = Llr + Lm:
//   dpsi_r/dt = -(Rr/Lr) psi_r + (Rr Lm/Lr) i,    psi = (Lm/Lr) psi_r,    L = Ls - Lm^2/Lr
// (Krause, Wasynczuk, Sudhoff, "Analysis of Electric Machinery", chapter 4). External resistance adds to Rr.
#include <cmath>
#include <numbers>

#include "emt/elements/machines/nameplate.hpp"
#include "emt/elements/machines/rotating_machine.hpp"

namespace zavrek::emt::internal {
namespace {

class Induction final : public RotatingMachine {
 public:
  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<Induction>(*this); }
  Induction(const network::InductionMachine& m, Common common, std::vector<Slot> knobs)
      : RotatingMachine(common, 2),
        knobs_(std::move(knobs)),
        standstill_(m.start == "standstill"),
        rotor_resistance_(m.rotor_resistance_ohm),
        external_(m.external_resistance_ohm) {
    const double omega = common.nominal_omega;
    main_ = m.magnetizing_ohm / omega;
    stator_ = main_ + m.stator_leakage_ohm / omega;
    rotor_ = main_ + m.rotor_leakage_ohm / omega;
    if (standstill_) slip_ = 1;
  }

  [[nodiscard]] std::vector<Slot> knobs() const override { return knobs_; }

  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double omega) const override {
    const double speed = standstill_ ? 0 : (1 - guess) * common().nominal_omega;
    return from_sequences(admittance_at(s, omega - speed), admittance_at(s, omega + speed));
  }

  /// The slip at which torque and load balance, and what the machine then draws beyond its first guess.
  Eigen::VectorXcd injection(const Eigen::VectorXcd& v, std::complex<double> s) override {
    if (standstill_) return Eigen::VectorXcd::Zero(3);
    const Sequences parts = sequences_of(v);
    slip_ = balance(std::abs(parts.positive), s);
    const double omega = common().nominal_omega;
    const auto positive =
        (admittance_at(s, slip_ * omega) - admittance_at(s, guess * omega)) * parts.positive;
    return positive_sequence(positive);
  }

  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double,
             double* values) override {
    const double omega = common().nominal_omega;
    const bool driven = v.norm() > 0;
    const double speed = driven || standstill_ ? (1 - slip_) * omega : 0;
    const Sequences current = sequences_of(i);
    // Each sequence's rotor flux, at t = 0 with the rotor's d axis on phase a.
    const SpaceVector flux = main_ * (current.positive * share_at(omega - speed) +
                                      std::conj(current.negative * share_at(omega + speed)));
    const double mechanical = speed / common().pole_pairs;
    start_from(places, 0, mechanical, {flux.real(), flux.imag()},
               current.positive + std::conj(current.negative), steady_shaft_torque(mechanical), values);
  }

 protected:
  [[nodiscard]] double mean_inductance() const override { return stator_ - main_ * main_ / rotor_; }
  [[nodiscard]] double saliency() const override { return 0; }
  [[nodiscard]] SpaceVector rotor_flux(const double* x) const noexcept override {
    return main_ / rotor_ * SpaceVector(x[0], x[1]);
  }
  [[nodiscard]] std::optional<std::vector<std::pair<std::string, double>>> written_rotor() const override {
    return {{{"rotor_kind", 1}, {"main", main_}, {"rotor", rotor_}, {"rotor_resistance", rotor_resistance_}}};
  }
  void derivative(const double* x, SpaceVector current, SpaceVector, double, const Places& places,
                  const double* values, double* dx) const noexcept override {
    const double decay = (rotor_resistance_ + values[places.knobs[2]]) / rotor_;
    const SpaceVector slope = decay * (main_ * current - SpaceVector(x[0], x[1]));
    dx[0] = slope.real();
    dx[1] = slope.imag();
  }

 private:
  static constexpr double guess = 0.02;  // slip of the admittance that the iteration starts from
  [[nodiscard]] double resistance() const { return rotor_resistance_ + external_; }

  /// Rotor flux over that of the same stator current at no slip, at a frequency in the rotor.
  [[nodiscard]] std::complex<double> share_at(double slip_omega) const {
    const double decay = resistance() / rotor_;
    return decay / std::complex<double>(decay, slip_omega);
  }
  /// The rotor's own frequency is low, and its frame turns without error: there d/dt is what it is.
  [[nodiscard]] std::complex<double> admittance_at(std::complex<double> s, double slip_omega) const {
    return 1.0 / (common().stator_resistance_ohm +
                  s * (mean_inductance() + main_ * main_ / rotor_ * share_at(slip_omega)));
  }
  /// Torque at a peak voltage and slip.
  [[nodiscard]] double torque(double peak_V, double slip, std::complex<double> s) const {
    const std::complex<double> y = admittance_at(s, slip * common().nominal_omega);
    const double air_gap = 1.5 * peak_V * peak_V * (y.real() - std::norm(y) * common().stator_resistance_ohm);
    return air_gap * common().pole_pairs / s.imag();
  }
  /// Slip at which the torque carries the load, between synchronism and the pull-out torque.
  [[nodiscard]] double balance(double peak_V, std::complex<double> s) const {
    const auto excess = [&](double slip) {
      const double speed = (1 - slip) * common().nominal_omega / common().pole_pairs;
      return torque(peak_V, slip, s) + steady_shaft_torque(speed);
    };
    const double way = common().active_torque_Nm > common().load_torque_Nm ? -1 : 1;
    double low = 0, high = 0;
    for (double slip = 1e-4; slip < 1; slip *= 1.2) {  // up to where it first suffices
      high = way * slip;
      if (way * excess(high) > 0) break;
      low = high;
    }
    for (int k = 0; k < 100; ++k) {
      const double middle = (low + high) / 2;
      (way * excess(middle) > 0 ? high : low) = middle;
    }
    return (low + high) / 2;
  }

  std::vector<Slot> knobs_;
  bool standstill_;
  double rotor_resistance_, external_;
  double main_ = 0, stator_ = 0, rotor_ = 0;  // H: Lm, Ls, Lr
  double slip_ = guess;
};

}  // namespace

template <>
void assemble(const network::InductionMachine& described, Assembly& assembly) {
  const std::string owner = "induction_machine." + described.name;
  const network::InductionMachine machine =
      with_circuit(described, owner, assembly.network().frequency_Hz, assembly.bus(described.bus).voltage_V);
  std::vector<Slot> knobs = shaft_knobs(assembly, machine);
  knobs.push_back(
      assembly.knob(machine.name + ".external_resistance", "ohm", machine.external_resistance_ohm, 0, 1e12));
  const RotatingMachine::Common common = common_of(owner, machine, assembly);
  const Slot first =
      assembly.model({.owner = owner,
                      .ends = machine_ends(assembly, owner, machine.bus),
                      .model = std::make_unique<Induction>(machine, common, std::move(knobs))});
  machine_signals(assembly, machine.name, first);
}

}  // namespace zavrek::emt::internal
