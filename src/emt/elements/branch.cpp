// Branch: v = R i + L di/dt + (1/C) int i dt per phase, coupled when zero-sequence values differ.
// `NAME.i*` flows from the first bus into the branch.
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Branch& branch, Assembly& assembly) {
  const Span span = assembly.span("branch." + branch.name, branch.between);
  const auto& [letters, near, far] = span;
  const std::size_t phases = letters.size();
  const auto or_positive = [](double zero, double positive) {
    return network::is_set(zero) ? zero : positive;
  };
  const double elastance = network::is_set(branch.capacitance_F) ? 1 / branch.capacitance_F : 0;
  SeriesPart part{.owner = "branch." + branch.name,
                  .ends = {},
                  .resistance = from_sequence(phases, branch.resistance_ohm,
                                              or_positive(branch.zero_resistance_ohm, branch.resistance_ohm)),
                  .inductance = from_sequence(phases, branch.inductance_H,
                                              or_positive(branch.zero_inductance_H, branch.inductance_H)),
                  .elastance = Eigen::VectorXd::Constant(static_cast<Eigen::Index>(phases), elastance),
                  .first_current = {},
                  .first_charge_voltage = {}};
  for (std::size_t k = 0; k < phases; ++k) part.ends.push_back({near[k], far[k]});
  const Slot first = assembly.series(std::move(part));
  std::vector<Terms> into_near;
  std::vector<Terms> into_far;
  for (std::size_t k = 0; k < phases; ++k) {
    const Slot current{first.index + static_cast<int>(k)};
    into_near.push_back({value_of(current)});
    into_far.push_back({value_of(current, -1)});
  }
  assembly.end_currents(branch.name, into_near, into_far, letters);
  if (elastance > 0) {
    std::vector<Terms> charges;
    const Slot charge = assembly.series_parts.back().first_charge_voltage;
    for (std::size_t k = 0; k < phases; ++k)
      charges.push_back({value_of({charge.index + static_cast<int>(k)})});
    assembly.phase_signals(branch.name + ".vc", "V", charges, letters);
  }
}

}  // namespace zavrek::emt::internal
