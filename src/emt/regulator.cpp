// Regulator: per phase two windings to ground, the load's with 1 + step * position times the turns of the
// source's (tapped_windings.hpp). The control sees (v_load/ratio) - (R + jX) i/rating, in volts on its
// secondary.
#include <fmt/format.h>

#include "emt/assembly.hpp"
#include "emt/tapped_windings.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Regulator& r, Assembly& assembly) {
  const std::string owner = "regulator." + r.name;
  const Span span = assembly.span(owner, r.between);
  TapControl control;
  if (network::is_set(r.target_V)) {
    const double primary = r.potential_ratio / r.current_rating_A;
    control = {r.target_V * r.potential_ratio,
               r.band_V * r.potential_ratio,
               r.delay_s,
               r.tap_time_s,
               r.compensation_r_V * primary,
               r.compensation_x_V * primary / assembly.omega(),
               true};
  }
  Eigen::Matrix2d inductance;
  const double leak = r.leakage_ohm / 2, main = r.magnetizing_ohm;
  inductance << leak + main, main, main, leak + main;
  std::vector<Terms> near, far;
  for (std::size_t k = 0; k < span.letters.size(); ++k) {
    const char letter = span.letters[k];
    const int tap = letter == 'a' ? r.tap_a : letter == 'b' ? r.tap_b : r.tap_c;
    const std::string field = std::string("tap_") + letter;
    if (std::abs(tap) > r.taps) {
      throw Error(Flaw{.file = {},
                       .place = owner,
                       .field = field,
                       .text = fmt::format("is none of the positions from {} to {}", -r.taps, r.taps)});
    }
    const Slot knob = assembly.knob(r.name + "." + field, "", tap, -r.taps, r.taps);
    auto windings = std::make_unique<TappedWindings>(
        Eigen::Matrix2d(Eigen::Vector2d::Constant(1e-2 * r.leakage_ohm).asDiagonal()),
        inductance / assembly.omega(), std::vector<int>{1}, std::vector<int>{1}, r.step, -r.taps, r.taps, tap,
        control, knob);
    const int position = windings->position_slot();
    const Slot first = assembly.model({.owner = owner,
                                       .ends = {{span.near[k], ground_node}, {span.far[k], ground_node}},
                                       .model = std::move(windings)});
    near.push_back({value_of(first)});
    far.push_back({value_of({first.index + 1})});
    assembly.signal(r.name + ".position_" + letter, "", {value_of({first.index + position})});
  }
  assembly.end_currents(r.name, near, far, span.letters);
}

}  // namespace zavrek::emt::internal
