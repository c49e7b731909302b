// Breaker: one pole per phase, a conductance with two values; `NAME.closed` is the share of poles closed.
#include "emt/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Breaker& breaker, Assembly& assembly) {
  const auto [letters, near, far] = assembly.span("breaker." + breaker.name, breaker.between);
  Operable operable{breaker.name, {}, breaker.opening_time_s, breaker.closing_time_s};
  std::vector<Terms> into_near;
  std::vector<Terms> into_far;
  Terms position;
  for (std::size_t k = 0; k < near.size(); ++k) {
    const int index = assembly.pole({.owner = "breaker." + breaker.name,
                                     .ends = {near[k], far[k]},
                                     .closed_S = 1 / breaker.closed_resistance_ohm,
                                     .open_S = 1 / breaker.open_resistance_ohm,
                                     .closed = breaker.closed,
                                     .current = {},
                                     .position = {}});
    const PolePart& pole = assembly.pole_parts[static_cast<std::size_t>(index)];
    operable.poles.push_back(index);
    into_near.push_back({value_of(pole.current)});
    into_far.push_back({value_of(pole.current, -1)});
    position.push_back(value_of(pole.position, 1.0 / static_cast<double>(near.size())));
  }
  assembly.end_currents(breaker.name, into_near, into_far, letters);
  assembly.signal(breaker.name + ".closed", "", position);
  assembly.operable(std::move(operable));
}

}  // namespace zavrek::emt::internal
