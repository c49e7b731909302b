// Line: travelling waves in decoupled modes with constant parameters, series resistance lumped at the
// ends and the middle (Dommel, IEEE Trans. PAS-88, 1969). Per mode, with Z = Zc + R/4,
// c = (Zc - R/4)/(Zc + R/4), w = v/Z + c i:
//   i_near(t) = v_near(t)/Z - (1+c)/2 w_far(t - tau) - (1-c)/2 w_near(t - tau),   far alike.
// A transposed line has a zero-sequence mode and two equal aerial modes (Clarke). A stretch between
// taps that waves cross in less than a step is a pi section instead.
#include <cmath>

#include <fmt/format.h>

#include "emt/pi_section.hpp"

namespace zavrek::emt::internal {
namespace {

Eigen::MatrixXd clarke(std::size_t phases) {
  if (phases == 1) return Eigen::MatrixXd::Identity(1, 1);
  Eigen::MatrixXd matrix(3, 3);
  const double a = 1 / std::sqrt(3.0), b = std::sqrt(2.0 / 3), c = 1 / std::sqrt(6.0), d = 1 / std::sqrt(2.0);
  matrix << a, b, 0,  //
      a, -c, d,       //
      a, -c, -d;
  return matrix;
}

PiValues values_of(const network::Line& line, double length, double omega, bool three_phase) {
  PiValues v{
      line.r1_ohm_per_m * length, line.x1_ohm_per_m / omega * length, line.c1_F_per_m * length, 0, 0, 0};
  if (three_phase) {
    v.r0_ohm = line.r0_ohm_per_m * length;
    v.l0_H = line.x0_ohm_per_m / omega * length;
    v.c0_F = line.c0_F_per_m * length;
  }
  return v;
}

double shortest_travel(const PiValues& v, bool three_phase) {
  const double aerial = std::sqrt(v.l1_H * v.c1_F);
  return three_phase ? std::min(aerial, std::sqrt(v.l0_H * v.c0_F)) : aerial;
}

EndCurrents add_wave(Assembly& assembly, const std::string& owner, const std::vector<NodeId>& near,
                     const std::vector<NodeId>& far, const PiValues& v) {
  const std::size_t n = near.size();
  const auto modes = static_cast<Eigen::Index>(n);
  WavePart part{.owner = owner,
                .near = near,
                .far = far,
                .transform = clarke(n),
                .surge_ohm = Eigen::VectorXd::Constant(modes, std::sqrt(v.l1_H / v.c1_F)),
                .resistance_ohm = Eigen::VectorXd::Constant(modes, v.r1_ohm),
                .travel_s = Eigen::VectorXd::Constant(modes, std::sqrt(v.l1_H * v.c1_F)),
                .first_near_current = {},
                .first_far_current = {}};
  if (n == 3) {
    part.surge_ohm[0] = std::sqrt(v.l0_H / v.c0_F);
    part.resistance_ohm[0] = v.r0_ohm;
    part.travel_s[0] = std::sqrt(v.l0_H * v.c0_F);
  }
  const auto& made = assembly.wave_parts[static_cast<std::size_t>(assembly.wave(std::move(part)))];
  EndCurrents currents;
  for (int k = 0; k < static_cast<int>(n); ++k) {
    currents.near.push_back({value_of({made.first_near_current.index + k})});
    currents.far.push_back({value_of({made.first_far_current.index + k})});
  }
  return currents;
}

}  // namespace

template <>
void assemble(const network::Line& line, Assembly& assembly) {
  const std::string owner = "line." + line.name;
  const std::vector<Tap> stations = assembly.stations(line.name, line.between);
  const std::string letters = assembly.span(owner, line.between).letters;
  const bool three_phase = letters.size() == 3;
  if (three_phase && !(network::is_set(line.x0_ohm_per_m) && network::is_set(line.c0_F_per_m))) {
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = network::is_set(line.x0_ohm_per_m) ? "c0" : "x0",
                     .text = "missing; a line between three-phase buses needs its zero-sequence values"});
  }
  const PiValues all = values_of(line, line.length_m, assembly.omega(), three_phase);
  const double travel = shortest_travel(all, three_phase);
  if (travel < assembly.step_s()) {
    throw Error(
        Flaw{.file = {},
             .place = owner,
             .field = "length",
             .text = fmt::format("waves cross it in {}, less than the step of {}; take a step of at most {} "
                                 "or describe it as a cable (pi section)",
                                 print_rounded(travel, "s"), print_rounded(assembly.step_s(), "s"),
                                 print_rounded(travel, "s"))});
  }
  EndCurrents whole;
  for (std::size_t s = 0; s + 1 < stations.size(); ++s) {
    const double share = stations[s + 1].fraction - stations[s].fraction;
    const PiValues part = values_of(line, share * line.length_m, assembly.omega(), three_phase);
    const bool waves = shortest_travel(part, three_phase) >= assembly.step_s();
    if (!waves) {
      assembly.note(
          fmt::format("{}: its stretch from {:.4g} % to {:.4g} % is a pi section, being shorter than a "
                      "step's travel",
                      owner, 100 * stations[s].fraction, 100 * stations[s + 1].fraction));
    }
    const auto add = waves ? add_wave : add_pi_section;
    EndCurrents currents = add(assembly, owner, stations[s].nodes, stations[s + 1].nodes, part);
    if (whole.near.empty()) whole.near = std::move(currents.near);
    whole.far = std::move(currents.far);
  }
  assembly.end_currents(line.name, whole.near, whole.far, letters);
}

}  // namespace zavrek::emt::internal
