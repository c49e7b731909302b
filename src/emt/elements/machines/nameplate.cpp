// One cage, so that of slip s, per phase of the star,
//   Z(s) = R1 + jX + jXm (R2/s + jX) / (R2/s + j(X + Xm)),
// with equal leakages. Rated slip, power, current and power factor give the losses; half of those that the
// rotor does not take are the stator's copper, the rest (iron, friction, stray) the circuit does not have:
//   R1 = ((3 V I cos phi - P) - P s/(1-s)) / 2 / (3 I^2)
// X, Xm and R2 follow by Newton's method from three demands: the air gap's power P/(1-s) and the reactive
// power 3 V I sin phi at rated slip, and the current at s = 1.
#include "emt/elements/machines/nameplate.hpp"

#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <vector>

#include <fmt/format.h>
#include <Eigen/Dense>

namespace zavrek::emt::internal {
namespace {

using network::InductionMachine;

[[noreturn]] void refuse(const std::string& owner, const char* field, std::string text) {
  throw Error(Flaw{.file = {}, .place = owner, .field = field, .text = std::move(text)});
}

struct Named {
  const char* field;
  double InductionMachine::*value;
};
constexpr std::array<Named, 5> of_circuit{{{"stator_resistance", &InductionMachine::stator_resistance_ohm},
                                           {"stator_leakage", &InductionMachine::stator_leakage_ohm},
                                           {"magnetizing", &InductionMachine::magnetizing_ohm},
                                           {"rotor_leakage", &InductionMachine::rotor_leakage_ohm},
                                           {"rotor_resistance", &InductionMachine::rotor_resistance_ohm}}};
constexpr std::array<Named, 4> of_nameplate{{{"rated_power", &InductionMachine::rated_power_W},
                                             {"rated_speed", &InductionMachine::rated_speed_rad_per_s},
                                             {"rated_current", &InductionMachine::rated_current_A},
                                             {"power_factor", &InductionMachine::power_factor}}};

/// What the nameplate demands, per phase and as a share of itself.
struct Rated {
  double volts, slip, gap_W, reactive_var, starting_A, stator_ohm;

  /// How far a circuit with the logarithms of X, Xm, R2 is from it.
  [[nodiscard]] Eigen::Vector3d miss(const Eigen::Vector3d& logs) const {
    const double x = std::exp(logs[0]), main = std::exp(logs[1]), rotor = std::exp(logs[2]);
    const auto current = [&](double s) {
      const std::complex<double> in_rotor(rotor / s, x), across(0, main);
      return volts / (std::complex<double>(stator_ohm, x) + across * in_rotor / (across + in_rotor));
    };
    const std::complex<double> i = current(slip), s = 3 * volts * std::conj(i);
    const double gap = s.real() - 3 * stator_ohm * std::norm(i);
    return {gap / gap_W - 1, s.imag() / reactive_var - 1, std::abs(current(1)) / starting_A - 1};
  }
};

}  // namespace

InductionMachine with_circuit(InductionMachine m, const std::string& owner, double frequency_Hz,
                              double nominal_V) {
  const bool has_circuit = network::is_set(m.stator_resistance_ohm) || network::is_set(m.magnetizing_ohm);
  const bool has_nameplate = network::is_set(m.rated_power_W);
  if (has_circuit == has_nameplate)
    refuse(owner, has_circuit ? "rated_power" : "stator_resistance",
           has_circuit
               ? "its circuit is given as well; leave one of the two out"
               : "missing; the values of its circuit are wanted, or its nameplate (rated_power and so on)");
  const auto need = [&](const auto& all) {
    for (const Named& one : all) {
      if (!network::is_set(m.*one.value))
        refuse(owner, one.field, fmt::format("missing beside {}", all.front().field));
    }
  };
  if (has_circuit) {
    need(of_circuit);
    return m;
  }
  need(of_nameplate);
  const double volts =
      (network::is_set(m.rated_voltage_V) ? m.rated_voltage_V : nominal_V) / std::numbers::sqrt3;
  const double synchronous = 2 * std::numbers::pi * frequency_Hz / m.pole_pairs;
  const double slip = 1 - m.rated_speed_rad_per_s / synchronous;
  if (!(slip > 0 && slip < 0.3))
    refuse(owner, "rated_speed",
           fmt::format("{:.0f} rpm is not a little below the {:.0f} rpm of {} pole pair{}",
                       m.rated_speed_rad_per_s * 30 / std::numbers::pi, synchronous * 30 / std::numbers::pi,
                       m.pole_pairs, m.pole_pairs == 1 ? "" : "s"));
  const double apparent = 3 * volts * m.rated_current_A;
  const double in_rotor = m.rated_power_W * slip / (1 - slip);
  const double others = apparent * m.power_factor - m.rated_power_W - in_rotor;
  if (!(others > 0))
    refuse(
        owner, "rated_current",
        fmt::format("with it {} go in, where {} come out and the rotor takes {}; is it, or power_factor, too "
                    "small?",
                    print_rounded(apparent * m.power_factor, "W"), print_rounded(m.rated_power_W, "W"),
                    print_rounded(in_rotor, "W")));
  const Rated rated{volts,
                    slip,
                    m.rated_power_W / (1 - slip),
                    apparent * std::sqrt(1 - m.power_factor * m.power_factor),
                    m.starting_current * m.rated_current_A,
                    others / 2 / (3 * m.rated_current_A * m.rated_current_A)};
  Eigen::Vector3d logs(std::log(volts / rated.starting_A / 2),
                       std::log(3 * volts * volts / rated.reactive_var * 1.6),
                       std::log(3 * volts * volts * slip / rated.gap_W));
  constexpr int most = 60;
  constexpr double nudge = 1e-6, longest = 0.5;
  Eigen::Vector3d miss = rated.miss(logs);
  for (int k = 0; k < most && miss.norm() > 1e-12; ++k) {
    Eigen::Matrix3d slope;
    for (int column = 0; column < 3; ++column) {
      Eigen::Vector3d moved = logs;
      moved[column] += nudge;
      slope.col(column) = (rated.miss(moved) - miss) / nudge;
    }
    const Eigen::Vector3d way = slope.fullPivLu().solve(miss);
    logs -= way * std::min(1.0, longest / std::max(way.cwiseAbs().maxCoeff(), 1e-300));
    miss = rated.miss(logs);
    if (!miss.allFinite()) break;
  }
  if (!(miss.norm() < 1e-9))
    refuse(owner, "starting_current",
           "no circuit of one cage has these values together; look at power_factor, starting_current and "
           "rated_speed");
  m.stator_resistance_ohm = rated.stator_ohm;
  m.stator_leakage_ohm = m.rotor_leakage_ohm = std::exp(logs[0]);
  m.magnetizing_ohm = std::exp(logs[1]);
  m.rotor_resistance_ohm = std::exp(logs[2]);
  return m;
}

}  // namespace zavrek::emt::internal
