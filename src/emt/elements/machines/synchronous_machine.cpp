// Synchronous machine (equations of the shell in rotating_machine.hpp) with a field and three damper
// windings, in per unit, Id and Iq out of the machine (Sauer and Pai, "Power System Dynamics and Stability",
// chapter 3):
//   T'd0  dE'q/dt  = Efd - E'q - S psi''d - (Xd - X'd)[Id - gd (psi1d + (X'd - Xl) Id - E'q)]
//   T''d0 dpsi1d/dt = -psi1d + E'q - (X'd - Xl) Id
//   T'q0  dE'd/dt  = -E'd + k S psi''q + (Xq - X'q)[Iq - gq (psi2q + (X'q - Xl) Iq + E'd)]
//   T''q0 dpsi2q/dt = -psi2q - E'd - (X'q - Xl) Iq
//   psi''d = a E'q + (1 - a) psi1d,   a = (X''d - Xl)/(X'd - Xl),   gd = (X'd - X''d)/(X'd - Xl)^2
//   psi''q = -b E'd + (1 - b) psi2q,  b = (X''q - Xl)/(X'q - Xl),   gq alike,   k = (Xq - Xl)/(Xd - Xl)
// S(psi'') = B (psi'' - A)^2 / psi'' above A. Exciters: IEEE Std 421.5 types ST1A and DC1A. Governors: droop
// and servo; steam with a reheater (lead-lag), hydro with temporary droop and the water's inertia, (1 - Tw
// s)/(1 + Tw s/2).
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "emt/elements/machines/rotating_machine.hpp"

namespace zavrek::emt::internal {
namespace {

class Synchronous final : public RotatingMachine {
 public:
  [[nodiscard]] std::unique_ptr<Model> clone() const override { return std::make_unique<Synchronous>(*this); }
  Synchronous(const network::SynchronousMachine& m, Common common, const std::vector<Slot>& knobs)
      : RotatingMachine(std::move(common), rotor_count), m_(m), knobs_(knobs) {
    peak_V_ = m.voltage_V * std::numbers::sqrt2 / std::numbers::sqrt3;
    peak_A_ = m.rating_VA / 1.5 / peak_V_;
    flux_ = peak_V_ / this->common().nominal_omega;
    // S(1) and S(1.2) fix A and B: sqrt(1.2 S12 / S1) = (1.2 - A)/(1 - A).
    if (m.saturation_at_12 > 0 && m.saturation_at_1 > 0) {
      const double q = std::sqrt(1.2 * m.saturation_at_12 / m.saturation_at_1);
      knee_ = (q - 1.2) / (q - 1);
      bend_ = m.saturation_at_1 / ((1 - knee_) * (1 - knee_));
    }
  }

  [[nodiscard]] std::vector<Slot> knobs() const override { return knobs_; }

  [[nodiscard]] Eigen::MatrixXcd admittance(std::complex<double> s, double) const override {
    const double base = peak_V_ / peak_A_;
    const auto y = 1.0 / (m_.stator_resistance * base + s * mean_inductance());
    return from_sequences(y, y);
  }

  /// Total current that brings power and voltage, or voltage and angle, to their values step by step.
  Eigen::VectorXcd injection(const Eigen::VectorXcd& v, std::complex<double> s) override {
    const std::complex<double> v1 = sequences_of(v).positive;
    const double x = (m_.xd_subtransient + m_.xq_subtransient) / 2;
    const auto own = 1.0 / (m_.stator_resistance * peak_V_ / peak_A_ + s * mean_inductance());
    if (network::is_set(m_.start_angle_rad)) {
      // A voltage behind the admittance, raised until the terminals have what they should.
      const auto missing = std::polar(m_.start_voltage, m_.start_angle_rad) - v1 / peak_V_;
      sought_[0] += missing.real();
      sought_[1] += missing.imag();
      return positive_sequence(-own * peak_V_ * std::complex<double>(sought_[0], sought_[1]));
    }
    if (!asked_) {  // at voltages without the machine, its power would ask for too much current
      asked_ = true;
      return positive_sequence(-own * std::polar(m_.start_voltage * peak_V_, std::arg(v1)));
    }
    sought_[0] += 0.5 * (m_.start_voltage - std::abs(v1) / peak_V_) / x;
    const std::complex<double> power(m_.power_W / m_.rating_VA, sought_[0]);
    const auto total = -std::conj(power * peak_V_ * peak_A_ / v1);
    return positive_sequence(total - own * v1);
  }

  [[nodiscard]] std::span<double> steady_unknowns() override { return sought_; }

  void start(const Places& places, const Eigen::VectorXcd& v, const Eigen::VectorXcd& i, double step_s,
             double* values) override {
    // What stands for d/dt at nominal frequency, in per unit: j but for the step.
    const double w = discrete_derivative(common().nominal_omega, step_s).imag() / common().nominal_omega;
    const std::complex<double> voltage = sequences_of(v).positive / peak_V_;
    const std::complex<double> current = -sequences_of(i).positive / peak_A_;
    std::vector<double> x(rotor_count, 0.0);
    double angle = 0;
    double saturation = 0;
    std::complex<double> v_dq, i_dq, psi;
    for (int round = 0; round < 50 && std::abs(voltage) > 0; ++round) {
      const double xq = m_.xq_subtransient + (m_.xq - m_.xq_subtransient) / (1 + saturation * cross());
      const auto behind = voltage + std::complex<double>(m_.stator_resistance, w * xq) * current;
      angle = std::arg(behind) - std::numbers::pi / 2;
      v_dq = voltage * std::polar(1.0, -angle);
      i_dq = current * std::polar(1.0, -angle);
      // V = -Ra I + j w psi, psi = psi'' - X'' I on each axis.
      const auto stator = (v_dq + m_.stator_resistance * i_dq) / std::complex<double>(0, w);
      psi = {stator.real() + m_.xd_subtransient * i_dq.real(),
             stator.imag() + m_.xq_subtransient * i_dq.imag()};
      saturation = excess(std::abs(psi));
    }
    x[eq] = psi.real() + (m_.xd_transient - m_.xd_subtransient) * i_dq.real();
    x[psi1d] = x[eq] - (m_.xd_transient - m_.leakage) * i_dq.real();
    x[ed] = -psi.imag() - (m_.xq_transient - m_.xq_subtransient) * i_dq.imag();
    x[psi2q] = -x[ed] - (m_.xq_transient - m_.leakage) * i_dq.imag();
    x[field] = x[eq] + (m_.xd - m_.xd_transient) * i_dq.real() + saturation * psi.real();
    start_exciter(std::abs(voltage), places, x, values);
    const double torque =
        (v_dq.real() * i_dq.real() + v_dq.imag() * i_dq.imag() + m_.stator_resistance * std::norm(i_dq)) / w;
    x[gate] = x[reheat] = x[transient] = std::abs(voltage) > 0 ? torque : 0;
    values[places.knobs[power_knob]] = x[gate];
    if (m_.governor == "hydro") x[transient] = x[gate];
    const double speed = common().nominal_omega / common().pole_pairs;
    start_from(places, angle, speed, x, sequences_of(i).positive + std::conj(sequences_of(i).negative),
               torque * m_.rating_VA / speed, values);
  }

 protected:
  [[nodiscard]] double mean_inductance() const override {
    return (m_.xd_subtransient + m_.xq_subtransient) / 2 * flux_ / peak_A_;
  }
  [[nodiscard]] double saliency() const override {
    return (m_.xd_subtransient - m_.xq_subtransient) / 2 * flux_ / peak_A_;
  }
  [[nodiscard]] SpaceVector rotor_flux(const double* x) const noexcept override {
    return flux_ * subtransient(x);
  }

  [[nodiscard]] std::optional<std::vector<std::pair<std::string, double>>> written_rotor() const override {
    const auto number = [](const std::string& of, std::initializer_list<const char*> known) {
      return static_cast<double>(std::find(known.begin(), known.end(), of) - known.begin());
    };
    std::vector<std::pair<std::string, double>> all{
        {"peak_V", peak_V_},
        {"peak_A", peak_A_},
        {"flux", flux_},
        {"rating", m_.rating_VA},
        {"knee", knee_},
        {"bend", bend_},
        {"xd", m_.xd},
        {"xd_transient", m_.xd_transient},
        {"xd_subtransient", m_.xd_subtransient},
        {"xq", m_.xq},
        {"xq_transient", m_.xq_transient},
        {"xq_subtransient", m_.xq_subtransient},
        {"leakage", m_.leakage},
        {"td0_transient", m_.td0_transient_s},
        {"td0_subtransient", m_.td0_subtransient_s},
        {"tq0_transient", m_.tq0_transient_s},
        {"tq0_subtransient", m_.tq0_subtransient_s},
        {"exciter", number(m_.exciter, {"none", "static", "dc"})},
        {"gain", m_.exciter_gain},
        {"time", m_.exciter_time_s},
        {"measuring", m_.measuring_time_s},
        {"lag", m_.lag_time_s},
        {"lead", m_.lead_time_s},
        {"low", m_.ceiling_low},
        {"high", m_.ceiling_high},
        {"constant", m_.exciter_constant},
        {"machine_time", m_.exciter_machine_time_s},
        {"stabilizer_gain", m_.stabilizer_gain},
        {"stabilizer_time", m_.stabilizer_time_s},
        {"governor", number(m_.governor, {"none", "steam", "hydro"})},
        {"servo", m_.servo_time_s},
        {"droop", m_.droop},
        {"temporary_droop", m_.temporary_droop},
        {"reset", m_.reset_time_s},
        {"most", m_.power_limit},
        {"water", m_.water_time_s},
        {"reheat", m_.reheat_time_s},
        {"reheat_share", m_.reheat_share}};
    for (auto& [name, value] : all) name = "synchronous." + name;
    all.emplace_back("rotor_kind", 2);
    return all;
  }

  void derivative(const double* x, SpaceVector current, SpaceVector, double omega, const Places& places,
                  const double* values, double* dx) const noexcept override {
    const double id = -current.real() / peak_A_, iq = -current.imag() / peak_A_;
    const SpaceVector psi = subtransient(x);
    const double s = excess(std::abs(psi));
    const double yd = m_.xd_transient - m_.leakage, yq = m_.xq_transient - m_.leakage;
    const double gd = (m_.xd_transient - m_.xd_subtransient) / (yd * yd);
    const double gq = (m_.xq_transient - m_.xq_subtransient) / (yq * yq);
    const double efd = m_.exciter == "none" ? values[places.knobs[field_knob]] : x[field];
    dx[eq] = (efd - x[eq] - s * psi.real() -
              (m_.xd - m_.xd_transient) * (id - gd * (x[psi1d] + yd * id - x[eq]))) /
             m_.td0_transient_s;
    dx[psi1d] = (-x[psi1d] + x[eq] - yd * id) / m_.td0_subtransient_s;
    dx[ed] = (-x[ed] + cross() * s * psi.imag() +
              (m_.xq - m_.xq_transient) * (iq - gq * (x[psi2q] + yq * iq + x[ed]))) /
             m_.tq0_transient_s;
    dx[psi2q] = (-x[psi2q] - x[ed] - yq * iq) / m_.tq0_subtransient_s;
    const double v =
        std::abs(to_space_vector(values[places.p[0]], values[places.p[1]], values[places.p[2]])) / peak_V_;
    excite(x, v, values[places.knobs[voltage_knob]], dx);
    govern(x, omega / common().nominal_omega - 1, values[places.knobs[power_knob]], dx);
  }

  [[nodiscard]] double active_torque(const double* x, const Places&, const double*) const noexcept override {
    return mechanical(x) * m_.rating_VA * common().pole_pairs / common().nominal_omega;
  }
  [[nodiscard]] double load_torque(const Places&, const double*) const noexcept override { return 0; }

 private:
  enum Rotor {
    eq,
    psi1d,
    ed,
    psi2q,
    field,
    measured,
    lead,
    regulator,
    stabilizer,
    gate,
    reheat,
    transient,
    rotor_count
  };
  enum Knobs { voltage_knob, power_knob, field_knob };

  [[nodiscard]] SpaceVector subtransient(const double* x) const noexcept {
    const double a = (m_.xd_subtransient - m_.leakage) / (m_.xd_transient - m_.leakage);
    const double b = (m_.xq_subtransient - m_.leakage) / (m_.xq_transient - m_.leakage);
    return {a * x[eq] + (1 - a) * x[psi1d], -b * x[ed] + (1 - b) * x[psi2q]};
  }
  [[nodiscard]] double cross() const noexcept { return (m_.xq - m_.leakage) / (m_.xd - m_.leakage); }
  [[nodiscard]] double excess(double flux) const noexcept {
    return flux <= knee_ || bend_ == 0 ? 0 : bend_ * (flux - knee_) * (flux - knee_) / flux;
  }

  void start_exciter(double voltage, const Places& places, std::vector<double>& x, double* values) const {
    const bool dc = m_.exciter == "dc";
    x[measured] = voltage;
    x[regulator] = dc ? m_.exciter_constant * x[field] : x[field];
    x[stabilizer] = x[field];
    x[lead] = x[regulator] / m_.exciter_gain;
    values[places.knobs[voltage_knob]] = voltage + x[lead];
    values[places.knobs[field_knob]] = x[field];
  }

  void excite(const double* x, double voltage, double reference, double* dx) const noexcept {
    for (int k = field; k <= stabilizer; ++k) dx[k] = 0;
    if (m_.exciter == "none") return;
    const bool dc = m_.exciter == "dc";
    dx[measured] = (voltage - x[measured]) / m_.measuring_time_s;
    double error = reference - x[measured];
    if (dc) error -= m_.stabilizer_gain / m_.stabilizer_time_s * (x[field] - x[stabilizer]);
    double amplified = error;
    if (m_.lag_time_s > 0) {
      dx[lead] = (error - x[lead]) / m_.lag_time_s;
      amplified = x[lead] + m_.lead_time_s / m_.lag_time_s * (error - x[lead]);
    }
    dx[regulator] = limited((m_.exciter_gain * amplified - x[regulator]) / m_.exciter_time_s, x[regulator],
                            m_.ceiling_low, m_.ceiling_high);
    if (dc) {
      dx[field] = (x[regulator] - m_.exciter_constant * x[field]) / m_.exciter_machine_time_s;
      dx[stabilizer] = (x[field] - x[stabilizer]) / m_.stabilizer_time_s;
    } else {
      dx[field] = dx[regulator];
    }
  }

  /// A state at its limit moves only inwards.
  [[nodiscard]] static double limited(double slope, double x, double low, double high) noexcept {
    if (x >= high && slope > 0) return 0;
    if (x <= low && slope < 0) return 0;
    return slope;
  }

  [[nodiscard]] double mechanical(const double* x) const noexcept {
    if (m_.governor == "steam") return m_.reheat_share * x[gate] + (1 - m_.reheat_share) * x[reheat];
    // (1 - Tw s)/(1 + Tw s/2) = 3 lag - 2
    if (m_.governor == "hydro") return 3 * x[reheat] - 2 * x[gate];
    return x[gate];
  }

  void govern(const double* x, double over_speed, double reference, double* dx) const noexcept {
    dx[gate] = dx[reheat] = dx[transient] = 0;
    if (m_.governor == "none") {
      dx[gate] = (reference - x[gate]) / m_.servo_time_s;
      return;
    }
    const bool hydro = m_.governor == "hydro";
    double wanted = reference - over_speed / m_.droop;
    if (hydro) {
      // Temporary droop: the gate follows the speed at 1/r at first and at 1/R in the end.
      dx[transient] = (x[gate] - x[transient]) / m_.reset_time_s;
      const double both = m_.droop + m_.temporary_droop;
      wanted = (reference * m_.droop - over_speed + m_.temporary_droop * x[transient]) / both;
    }
    dx[gate] = limited((wanted - x[gate]) / m_.servo_time_s, x[gate], 0, m_.power_limit);
    dx[reheat] = (x[gate] - x[reheat]) / (hydro ? m_.water_time_s / 2 : m_.reheat_time_s);
  }

  network::SynchronousMachine m_;
  std::vector<Slot> knobs_;
  double peak_V_ = 1, peak_A_ = 1, flux_ = 1;
  double knee_ = 0, bend_ = 0;
  // Of the start, per unit: reactive power out of the machine; where it holds the angle, the real and the
  // imaginary part of the voltage behind its admittance.
  std::array<double, 2> sought_{};
  bool asked_ = false;  // what it injects
};

void check(const network::SynchronousMachine& m, const std::string& owner) {
  const auto reject = [&](const char* field, const char* text) {
    throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = text});
  };
  if (!(m.xd >= m.xd_transient && m.xd_transient >= m.xd_subtransient && m.xd_subtransient > m.leakage))
    reject("xd", "the d axis needs xd >= xd_transient >= xd_subtransient > leakage");
  if (!(m.xq >= m.xq_transient && m.xq_transient >= m.xq_subtransient && m.xq_subtransient > m.leakage))
    reject("xq", "the q axis needs xq >= xq_transient >= xq_subtransient > leakage");
  if (m.saturation_at_12 > 0 && 1.2 * m.saturation_at_12 <= m.saturation_at_1)
    reject("saturation_at_12", "must exceed saturation_at_1");
}

}  // namespace

template <>
void assemble(const network::SynchronousMachine& machine, Assembly& assembly) {
  const std::string owner = "synchronous_machine." + machine.name;
  check(machine, owner);
  const double pairs = machine.pole_pairs;
  const double speed = assembly.omega() / pairs;
  const std::vector<Slot> knobs{assembly.knob(machine.name + ".voltage_reference", "", 1, 0, 10),
                                assembly.knob(machine.name + ".power_reference", "", 0, -10, 10),
                                assembly.knob(machine.name + ".field_voltage", "", 1, -20, 20)};
  const double inertia = 2 * machine.inertia_constant_s * machine.rating_VA / (speed * speed);
  RotatingMachine::Common common{
      machine.stator_resistance * machine.voltage_V * machine.voltage_V / machine.rating_VA,
      pairs,
      assembly.omega(),
      parse_shaft(owner, inertia, machine.shaft),
      0,
      1};  // a turbine drives it, no load holds it at rest
  const Slot first = assembly.model({.owner = owner,
                                     .ends = machine_ends(assembly, owner, machine.bus),
                                     .model = std::make_unique<Synchronous>(machine, common, knobs)});
  machine_signals(assembly, machine.name, first);
}

}  // namespace zavrek::emt::internal
