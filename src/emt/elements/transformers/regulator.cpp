// Regulator: two windings per unit, the load's with 1 + step * position times the turns of the source's
// (tapped_windings.hpp). The control sees (v_load/ratio) - (R + jX) i/rating, in volts on its secondary.
//   star         a unit per phase, from the phase to ground
//   open delta   a unit from a to b and one from c to b; phase b passes straight through
#include <fmt/format.h>

#include "emt/elements/transformers/tapped_windings.hpp"
#include "emt/parts/assembly.hpp"

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
  std::vector<Terms> near(span.letters.size()), far(span.letters.size());
  const auto unit = [&](std::size_t k, Ends source, Ends load) {
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
    const Slot first = assembly.model({.owner = owner, .ends = {source, load}, .model = std::move(windings)});
    near[k] = {value_of(first)};
    far[k] = {value_of({first.index + 1})};
    assembly.signal(r.name + ".position_" + letter, "", {value_of({first.index + position})});
  };
  if (r.connection == "star") {
    for (std::size_t k = 0; k < span.letters.size(); ++k)
      unit(k, {span.near[k], ground_node}, {span.far[k], ground_node});
  } else {
    if (span.letters != "abc")
      throw Error(Flaw{
          .file = {}, .place = owner, .field = "connection", .text = "open delta needs phases a, b and c"});
    for (const std::size_t k : {std::size_t{0}, std::size_t{2}})
      unit(k, {span.near[k], span.near[1]}, {span.far[k], span.far[1]});
    const Slot through = uncoupled_series(assembly, owner, {{span.near[1], span.far[1]}},
                                          1e-2 * r.leakage_ohm, r.leakage_ohm / assembly.omega())[0];
    // What flows into phase b: straight on, and back out of the units.
    near[1] = {value_of(through)};
    far[1] = {value_of(through)};
    far[1][0].coefficient = -1;
    for (const std::size_t k : {std::size_t{0}, std::size_t{2}}) {
      for (auto* side : {&near, &far}) {
        Term back = (*side)[k][0];
        back.coefficient = -back.coefficient;
        (*side)[1].push_back(back);
      }
    }
  }
  assembly.end_currents(r.name, near, far, span.letters);
}

}  // namespace zavrek::emt::internal
