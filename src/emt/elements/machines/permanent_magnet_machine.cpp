// Permanent-magnet machine (equations of the shell in rotating_machine.hpp): no rotor circuits,
//   psi = magnet flux on the d axis,  l0 = (Ld + Lq)/2,  l2 = (Ld - Lq)/2.
#include <cmath>

#include "emt/elements/machines/rotating_machine.hpp"

namespace zavrek::emt::internal {
namespace {

class PermanentMagnet final : public RotatingMachine {
 public:
  [[nodiscard]] std::unique_ptr<Model> clone() const override {
    return std::make_unique<PermanentMagnet>(*this);
  }
  PermanentMagnet(const network::PermanentMagnetMachine& m, Common common, std::vector<Slot> knobs)
      : RotatingMachine(std::move(common), 0), m_(m), knobs_(std::move(knobs)) {}

  [[nodiscard]] std::vector<Slot> knobs() const override { return knobs_; }
  /// Its speed is given, not found, so the phasors see its impedance alone unless it turns with the network.
  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    const auto y = 1.0 / (m_.stator_resistance_ohm + s * mean_inductance());
    return from_sequences(y, y);
  }
  Eigen::VectorXcd injection(const Eigen::VectorXcd& v, std::complex<double> s) override {
    const double omega = m_.start_speed_rad_per_s * m_.pole_pairs;
    if (std::abs(omega - common().nominal_omega) > 1e-6 * omega) return Eigen::VectorXcd::Zero(3);
    // In step with the network: d-q currents from V = (R + s Ld, Lq) I + s psi at the given angle, s = j w.
    const std::complex<double> v_dq = sequences_of(v).positive * std::polar(1.0, -m_.start_angle_rad);
    const double w = s.imag();
    const double r = m_.stator_resistance_ohm, xd = w * m_.ld_H, xq = w * m_.lq_H;
    const double vd = v_dq.real(), vq = v_dq.imag() - w * m_.magnet_flux_Vs;
    const double det = r * r + xd * xq;
    const std::complex<double> i_dq((r * vd + xq * vq) / det, (r * vq - xd * vd) / det);
    const auto total = i_dq * std::polar(1.0, m_.start_angle_rad);
    const auto y = 1.0 / (r + s * mean_inductance());
    return positive_sequence(total - y * sequences_of(v).positive);
  }
  void start(const Places& places, const Eigen::VectorXcd&, const Eigen::VectorXcd& i, double,
             double* values) override {
    const Sequences parts = sequences_of(i);
    start_from(places, m_.start_angle_rad, m_.start_speed_rad_per_s, {},
               parts.positive + std::conj(parts.negative), steady_shaft_torque(m_.start_speed_rad_per_s),
               values);
  }

 protected:
  [[nodiscard]] double mean_inductance() const override { return (m_.ld_H + m_.lq_H) / 2; }
  [[nodiscard]] double saliency() const override { return (m_.ld_H - m_.lq_H) / 2; }
  [[nodiscard]] SpaceVector rotor_flux(const double*) const noexcept override { return m_.magnet_flux_Vs; }
  [[nodiscard]] std::optional<std::vector<std::pair<std::string, double>>> written_rotor() const override {
    return {{{"rotor_kind", 0}, {"rotor", 1}, {"magnet", m_.magnet_flux_Vs}}};
  }
  void derivative(const double*, SpaceVector, SpaceVector, double, const Places&, const double*,
                  double*) const noexcept override {}

 private:
  network::PermanentMagnetMachine m_;
  std::vector<Slot> knobs_;
};

}  // namespace

template <>
void assemble(const network::PermanentMagnetMachine& machine, Assembly& assembly) {
  const std::string owner = "permanent_magnet_machine." + machine.name;
  std::vector<Slot> knobs = shaft_knobs(assembly, machine);
  const RotatingMachine::Common common = common_of(owner, machine, assembly);
  const Slot first =
      assembly.model({.owner = owner,
                      .ends = machine_ends(assembly, owner, machine.bus),
                      .model = std::make_unique<PermanentMagnet>(machine, common, std::move(knobs))});
  machine_signals(assembly, machine.name, first);
}

}  // namespace zavrek::emt::internal
