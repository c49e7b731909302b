#include "emt/elements/machines/rotating_machine.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#include <fmt/format.h>

namespace zavrek::emt::internal {
namespace {

using std::numbers::pi;
using std::numbers::sqrt3;

/// 3 x 3 in phases from a symmetric 2 x 2 (aa, ab, bb) in the stator's axes; zero sequence open. Back and
/// forth transformations of amplitude-invariant components differ by the factor 2/3.
void to_phases(const std::array<double, 3>& g, double* phases) noexcept {
  constexpr double alpha[3] = {1, -0.5, -0.5};
  constexpr double beta[3] = {0, sqrt3 / 2, -sqrt3 / 2};
  for (int r = 0; r < 3; ++r) {
    for (int c = 0; c < 3; ++c) {
      phases[3 * r + c] =
          2.0 / 3 *
          (alpha[r] * (g[0] * alpha[c] + g[1] * beta[c]) + beta[r] * (g[1] * alpha[c] + g[2] * beta[c]));
    }
  }
}

std::array<double, 3> inverse(const std::array<double, 3>& m) noexcept {
  const double det = m[0] * m[2] - m[1] * m[1];
  return {m[2] / det, -m[1] / det, m[0] / det};
}

SpaceVector times(const std::array<double, 3>& m, SpaceVector x) noexcept {
  return {m[0] * x.real() + m[1] * x.imag(), m[1] * x.real() + m[2] * x.imag()};
}

SpaceVector voltage(const Places& places, const double* values) noexcept {
  return to_space_vector(values[places.p[0]] - values[places.q[0]], values[places.p[1]] - values[places.q[1]],
                         values[places.p[2]] - values[places.q[2]]);
}

SpaceVector vector_at(const double* values, int at) noexcept { return {values[at], values[at + 1]}; }

}  // namespace

SpaceVector to_space_vector(double a, double b, double c) noexcept {
  return {(2 * a - b - c) / 3, (b - c) / sqrt3};
}

double phase_of(SpaceVector x, int phase) noexcept {
  constexpr double beta[3] = {0, sqrt3 / 2, -sqrt3 / 2};
  return (phase == 0 ? 1.0 : -0.5) * x.real() + beta[phase] * x.imag();
}

RotatingMachine::RotatingMachine(Common common, int rotor_states)
    : common_(std::move(common)), states_(2 * static_cast<int>(common_.shaft.size()) + rotor_states) {
  for (auto* scratch : {&predicted_, &slope_old_, &slope_new_, &slope_before_})
    scratch->assign(static_cast<std::size_t>(states_), 0.0);
}

std::array<double, 3> RotatingMachine::inductance(double theta) const noexcept {
  const double turn = saliency() == 0 ? 0 : 2 * theta;
  const double l2 = saliency();
  return {mean_inductance() + l2 * std::cos(turn), l2 * std::sin(turn),
          mean_inductance() - l2 * std::cos(turn)};
}

Eigen::MatrixXd RotatingMachine::conductance(double step_s) const {
  std::array<double, 3> z = inductance(0);
  for (double& entry : z) entry *= 2 / step_s;
  z[0] += common_.stator_resistance_ohm;
  z[2] += common_.stator_resistance_ohm;
  Eigen::Matrix<double, 3, 3, Eigen::RowMajor> g;
  to_phases(inverse(z), g.data());
  return g;
}

double RotatingMachine::active_torque(const double* /*x*/, const Places& places,
                                      const double* values) const noexcept {
  return values[places.knobs[1]];
}

double RotatingMachine::load_torque(const Places& places, const double* values) const noexcept {
  return values[places.knobs[0]];
}

double RotatingMachine::load_share(double speed) const noexcept {
  const double share = std::abs(speed) * common_.pole_pairs / common_.nominal_omega;
  return common_.load_exponent == 0 ? 1 : std::pow(share, common_.load_exponent);
}

double RotatingMachine::steady_shaft_torque(double speed) const noexcept {
  if (speed == 0) return 0;  // held, or about to go
  return common_.active_torque_Nm - std::copysign(common_.load_torque_Nm * load_share(speed), speed);
}

double RotatingMachine::torque_from_within(const double* y, double electrical) const noexcept {
  const int last = masses() - 1;
  if (last == 0) return electrical;
  const ShaftMass& mass = common_.shaft[static_cast<std::size_t>(last)];
  return -mass.stiffness_Nm_per_rad * y[twist_state(last)] -
         mass.damping_Nms_per_rad * (y[speed_state(last)] - y[speed_state(last - 1)]);
}

double RotatingMachine::free_torque(const double* y, double inner, const Places& places,
                                    const double* values) const noexcept {
  return inner + active_torque(y + rotor_state(), places, values);
}

double RotatingMachine::load_on(double speed, double free, const Places& places,
                                const double* values) const noexcept {
  const double torque = load_torque(places, values);
  if (common_.load_exponent != 0) return -std::copysign(torque * load_share(speed), speed);
  const double sense = values[places.first + sense_slot];
  return sense == 0 ? -std::clamp(free, -torque, torque) : -sense * torque;
}

/// dy/dt for y = theta, speeds, twists, rotor states.
void RotatingMachine::derivatives(const double* y, SpaceVector current, SpaceVector flux,
                                  const Places& places, const double* values, double* dy) const noexcept {
  const int n = masses();
  const double omega = common_.pole_pairs * y[speed_state(0)];
  dy[0] = omega;
  const SpaceVector turn = std::polar(1.0, -y[0]);
  double inner = electrical_torque(flux, current);
  for (int k = 0; k + 1 < n; ++k) {
    const ShaftMass& next = common_.shaft[static_cast<std::size_t>(k + 1)];
    const double slip = y[speed_state(k + 1)] - y[speed_state(k)];
    const double outer = next.stiffness_Nm_per_rad * y[twist_state(k + 1)] + next.damping_Nms_per_rad * slip;
    dy[twist_state(k + 1)] = slip;
    dy[speed_state(k)] = (inner + outer) / common_.shaft[static_cast<std::size_t>(k)].inertia_kgm2;
    inner = -outer;
  }
  // Load or turbine sits on the outermost mass.
  const double free = free_torque(y, inner, places, values);
  dy[outermost()] =
      (free + load_on(y[outermost()], free, places, values)) / common_.shaft.back().inertia_kgm2;
  derivative(y + rotor_state(), current * turn, flux * turn, omega, places, values, dy + rotor_state());
}

SpaceVector RotatingMachine::current_of(const Places& places, const double* values) const noexcept {
  const double* y = values + places.first + state(0);
  const SpaceVector psi = rotor_flux(y + rotor_state()) * std::polar(1.0, y[0]);
  return times(inverse(inductance(y[0])), vector_at(values, places.first + flux_slot) - psi);
}

double RotatingMachine::free_torque_of(const Places& places, const double* values) const noexcept {
  const double* y = values + places.first + state(0);
  const double electrical =
      electrical_torque(vector_at(values, places.first + flux_slot), current_of(places, values));
  return free_torque(y, torque_from_within(y, electrical), places, values);
}

void RotatingMachine::slopes(const Places& places, double* values, double* currents,
                             double* slopes) noexcept {
  double* slots = values + places.first;
  const double* y = slots + state(0);
  const SpaceVector flux = vector_at(values, places.first + flux_slot);
  const SpaceVector i = current_of(places, values);
  for (int k = 0; k < 3; ++k) slots[current_slot + k] = currents[k] = phase_of(i, k);
  slots[speed_slot] = y[speed_state(0)];
  slots[torque_slot] = electrical_torque(flux, i);
  const SpaceVector rise = voltage(places, values) - common_.stator_resistance_ohm * i;
  slopes[0] = rise.real();
  slopes[1] = rise.imag();
  derivatives(y, i, flux, places, values, slopes + 2);
}

void RotatingMachine::predict(const Interval& stretch, const Places& places, const double* old,
                              SpaceVector current, SpaceVector flux) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const double* y = old + places.first + state(0);
  derivatives(y, current, flux, places, old, slope_old_.data());
  // f at an instant `behind` ago makes the prediction one of second order; after a discontinuity that may lie
  // anywhere within a step.
  const double from = stretch.until_s - stretch.length_s();
  const double behind = (from - slope_time_) / stretch.length_s();
  const double weight = whole && behind > 0.3 && behind < 1.01 ? 0.5 / behind : 0;
  for (std::size_t k = 0; k < predicted_.size(); ++k) {
    const double slope = slope_old_[k] + weight * (slope_old_[k] - slope_before_[k]);
    predicted_[k] = y[k] + stretch.length_s() * slope;
  }
  // Of the two half steps only the first one's start is worth keeping.
  if (!stretch.beyond && (whole || from > slope_time_ + 0.6 * stretch.step_s || from < slope_time_)) {
    coming_time_ = from;
  } else {
    coming_time_ = slope_time_;
  }
}

bool RotatingMachine::begin(const Interval& stretch, const Places& places, const double* old, double* history,
                            double* conductance) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const SpaceVector i0 = to_space_vector(old[places.first], old[places.first + 1], old[places.first + 2]);
  const SpaceVector flux0 = vector_at(old, places.first + flux_slot);
  predict(stretch, places, old, i0, flux0);
  const SpaceVector psi = rotor_flux(predicted_.data() + rotor_state()) * std::polar(1.0, predicted_[0]);
  const double d = stretch.step_s / 2;
  std::array<double, 3> z = inductance(predicted_[0]);
  for (double& entry : z) entry /= d;
  z[0] += common_.stator_resistance_ohm;
  z[2] += common_.stator_resistance_ohm;
  const std::array<double, 3> g = inverse(z);
  SpaceVector drive = (flux0 - psi) / d;
  if (whole) drive += voltage(places, old) - common_.stator_resistance_ohm * i0;
  const SpaceVector j = times(g, drive);
  for (int k = 0; k < 3; ++k) history[k] = phase_of(j, k);
  if (saliency() == 0) return false;
  to_phases(g, conductance);
  return true;
}

void RotatingMachine::end(const Interval& stretch, const Places& places, const double* old, double* now,
                          const double* history, const double* conductance) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  double phases[3];
  for (int k = 0; k < 3; ++k) {
    phases[k] = history[k];
    for (int m = 0; m < 3; ++m)
      phases[k] += conductance[3 * k + m] *
                   (now[places.p[static_cast<std::size_t>(m)]] - now[places.q[static_cast<std::size_t>(m)]]);
    now[places.first + current_slot + k] = phases[k];
  }
  const SpaceVector i1 = to_space_vector(phases[0], phases[1], phases[2]);
  const double d = stretch.step_s / 2;
  const double r = common_.stator_resistance_ohm;
  SpaceVector flux = vector_at(old, places.first + flux_slot) + d * (voltage(places, now) - r * i1);
  if (whole) {
    const SpaceVector i0 = to_space_vector(old[places.first], old[places.first + 1], old[places.first + 2]);
    flux += d * (voltage(places, old) - r * i0);
  }
  correct(stretch, places, old, now, i1, flux);
}

void RotatingMachine::correct(const Interval& stretch, const Places& places, const double* old, double* now,
                              SpaceVector current, SpaceVector flux) noexcept {
  const bool whole = stretch.rule == Rule::trapezoidal;
  const double d = stretch.step_s / 2;
  now[places.first + flux_slot] = flux.real();
  now[places.first + flux_slot + 1] = flux.imag();
  now[places.first + sense_slot] = old[places.first + sense_slot];
  derivatives(predicted_.data(), current, flux, places, now, slope_new_.data());
  double* y = now + places.first + state(0);
  const double* y0 = old + places.first + state(0);
  for (std::size_t k = 0; k < slope_new_.size(); ++k) {
    y[k] = y0[k] + (whole ? d * (slope_old_[k] + slope_new_[k]) : d * slope_new_[k]);
  }
  if (coming_time_ != slope_time_) {
    slope_before_ = slope_old_;
    slope_time_ = coming_time_;
  }
  now[places.first + torque_slot] = electrical_torque(flux, current);
  brake(now[places.first + torque_slot], places, now);
  now[places.first + speed_slot] = y[speed_state(0)];
}

void RotatingMachine::brake(double electrical, const Places& places, double* now) const noexcept {
  if (common_.load_exponent != 0) return;
  double* y = now + places.first + state(0);
  double& sense = now[places.first + sense_slot];
  double& speed = y[outermost()];
  if (sense != 0 && sense * speed <= 0) {
    const double torque = load_torque(places, now);
    const double free = free_torque(y, torque_from_within(y, electrical), places, now);
    if (std::abs(free) <= torque) {
      speed = 0;
    } else {
      // Behind its zero the load brakes the other way.
      speed *= (free + sense * torque) / (free - sense * torque);
    }
  }
  sense = speed == 0 ? 0 : std::copysign(1.0, speed);
}

bool RotatingMachine::act(const Places& places, double /*time_s*/, double* values) noexcept {
  const double torque = load_torque(places, values);
  if (common_.load_exponent != 0 || torque == 0) return false;
  const double* y = values + places.first + state(0);
  double& sense = values[places.first + sense_slot];
  if (sense * y[outermost()] > 0) return false;
  const double free = free_torque_of(places, values);
  const double next = std::abs(free) <= torque ? 0 : std::copysign(1.0, free);
  return std::exchange(sense, next) != next;
}

double RotatingMachine::margin(const Places& places, const double* values) const noexcept {
  const double torque = load_torque(places, values);
  if (torque == 0) return 1;
  const double sense = values[places.first + sense_slot];
  return sense != 0 ? sense * values[places.first + state(outermost())]
                    : torque - std::abs(free_torque_of(places, values));
}

std::optional<WrittenLaw> RotatingMachine::law(double) const {
  constexpr int most_masses = 8, most_states = 2 * most_masses + 12;
  const auto rotor = written_rotor();
  if (!rotor || masses() > most_masses) return std::nullopt;
  WrittenLaw law{.kind = "machine",
                 .numbers = *rotor,
                 .memory = std::vector<double>(2 + 4 * most_states + 3, 0.0),
                 .varies = true,
                 .shares = "machines"};
  law.memory[0] = -1e300;  // no slope yet
  law.numbers.insert(law.numbers.end(), {{"resistance", common_.stator_resistance_ohm},
                                         {"inductance", mean_inductance()},
                                         {"saliency", saliency()},
                                         {"pole_pairs", common_.pole_pairs},
                                         {"nominal_omega", common_.nominal_omega},
                                         {"load_exponent", common_.load_exponent},
                                         {"masses", static_cast<double>(masses())}});
  Eigen::VectorXd inertia(masses()), stiffness(masses()), damping(masses());
  for (int k = 0; k < masses(); ++k) {
    const ShaftMass& mass = common_.shaft[static_cast<std::size_t>(k)];
    inertia[k] = mass.inertia_kgm2;
    stiffness[k] = mass.stiffness_Nm_per_rad;
    damping[k] = mass.damping_Nms_per_rad;
  }
  law.arrays = {{"inertia", inertia}, {"stiffness", stiffness}, {"damping", damping}};
  return law;
}

void RotatingMachine::start_from(const Places& places, double theta, double speed,
                                 const std::vector<double>& x, SpaceVector current, double twist_torque,
                                 double* values) const {
  double* slots = values + places.first;
  for (int k = 0; k < 3; ++k) slots[current_slot + k] = phase_of(current, k);
  const SpaceVector flux = times(inductance(theta), current) + rotor_flux(x.data()) * std::polar(1.0, theta);
  slots[flux_slot] = flux.real();
  slots[flux_slot + 1] = flux.imag();
  slots[torque_slot] = electrical_torque(flux, current);
  slots[speed_slot] = speed;
  slots[sense_slot] = speed == 0 ? 0 : std::copysign(1.0, speed);
  double* y = slots + state(0);
  y[0] = theta;
  for (int k = 0; k < masses(); ++k) {
    y[speed_state(k)] = speed;
    if (k > 0)
      y[twist_state(k)] = twist_torque / common_.shaft[static_cast<std::size_t>(k)].stiffness_Nm_per_rad;
  }
  std::copy(x.begin(), x.end(), y + rotor_state());
}

Sequences sequences_of(const Eigen::VectorXcd& v) {
  const std::complex<double> a = std::polar(1.0, 2 * pi / 3);
  return {(v[0] + a * v[1] + a * a * v[2]) / 3.0, (v[0] + a * a * v[1] + a * v[2]) / 3.0};
}

Eigen::MatrixXcd from_sequences(std::complex<double> positive, std::complex<double> negative) {
  const std::complex<double> a = std::polar(1.0, 2 * pi / 3);
  Eigen::MatrixXcd y(3, 3);
  for (int r = 0; r < 3; ++r) {
    for (int c = 0; c < 3; ++c) {
      const auto turn = std::pow(a, c - r);
      y(r, c) = (positive * turn + negative * std::conj(turn)) / 3.0;
    }
  }
  return y;
}

Eigen::VectorXcd positive_sequence(std::complex<double> phasor) {
  const std::complex<double> a = std::polar(1.0, 2 * pi / 3);
  Eigen::VectorXcd v(3);
  v << phasor, phasor * a * a, phasor * a;
  return v;
}

std::vector<Ends> machine_ends(const Assembly& assembly, const std::string& owner, const std::string& bus) {
  const std::vector<NodeId> nodes = assembly.nodes(bus);
  if (nodes.size() != 3)
    throw Error(Flaw{.file = {}, .place = owner, .field = "bus", .text = "a three-phase bus is wanted"});
  return {{nodes[0], ground_node}, {nodes[1], ground_node}, {nodes[2], ground_node}};
}

std::vector<ShaftMass> parse_shaft(const std::string& owner, double inertia_kgm2,
                                   const std::vector<std::string>& masses) {
  std::vector<ShaftMass> shaft{{inertia_kgm2, 0, 0}};
  for (const std::string& text : masses) {
    const auto fail = [&](const std::string& why) {
      throw Error(
          Flaw{.file = {},
               .place = owner,
               .field = "shaft",
               .text = fmt::format("\"{}\": {}; write inertia, stiffness, damping, such as \"40 kg m^2, "
                                   "800 kN m/rad, 50 N m s/rad\"",
                                   text, why)});
    };
    std::vector<std::string> parts;
    for (std::size_t from = 0; from <= text.size();) {
      const std::size_t comma = std::min(text.find(',', from), text.size());
      std::string part = text.substr(from, comma - from);
      part.erase(0, part.find_first_not_of(' '));
      parts.push_back(std::move(part));
      from = comma + 1;
    }
    if (parts.size() != 3) fail("three quantities are wanted");
    try {
      shaft.push_back({parse_quantity_as(parts[0], "kg m^2"), parse_quantity_as(parts[1], "N m/rad"),
                       parse_quantity_as(parts[2], "N m s/rad")});
    } catch (const Error& error) {
      fail(error.flaws().front().text);
    }
    if (!(shaft.back().inertia_kgm2 > 0 && shaft.back().stiffness_Nm_per_rad > 0 &&
          shaft.back().damping_Nms_per_rad >= 0))
      fail("inertia and stiffness must be positive");
  }
  return shaft;
}

void machine_signals(Assembly& assembly, const std::string& name, Slot first) {
  std::vector<Terms> currents;
  for (int k = 0; k < 3; ++k) currents.push_back({value_of({first.index + k})});
  assembly.phase_signals(name + ".i", "A", currents);
  assembly.signal(name + ".torque", "N m", {value_of({first.index + RotatingMachine::torque_slot})});
  assembly.signal(name + ".speed", "rad/s", {value_of({first.index + RotatingMachine::speed_slot})});
  assembly.signal(name + ".angle", "rad", {value_of({first.index + RotatingMachine::state_slot})});
}

}  // namespace zavrek::emt::internal
