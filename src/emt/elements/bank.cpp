// Shunt banks. Capacitor: C = Q/(w U^2). Reactor: L = U^2/(w Q), R = w L / quality, bent beyond its knee.
// Filter: w C (1 - 1/n^2)^-1 = Q/U^2 gives C, L = 1/(n^2 w^2 C). Arrester: straight pieces through its
// points.
#include <fmt/format.h>

#include "emt/elements/terminals.hpp"
#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {

template <>
void assemble(const network::Capacitor& bank, Assembly& assembly) {
  const std::string owner = "capacitor." + bank.name;
  const Terminals at = connect(assembly, owner, bank.bus, bank.phases, bank.connection);
  const double share = bank.reactive_var / static_cast<double>(at.ends.size());
  const double farad = share / (assembly.omega() * at.nominal_V * at.nominal_V);
  std::vector<Slot> currents;
  const auto add = [&](const std::vector<Ends>& ends) {
    const auto n = static_cast<Eigen::Index>(ends.size());
    const Slot first = assembly.capacitance({.owner = owner,
                                             .ends = ends,
                                             .capacitance = farad * Eigen::MatrixXd::Identity(n, n),
                                             .first_current = {}});
    for (int k = 0; k < static_cast<int>(n); ++k) currents.push_back({first.index + k});
  };
  if (assembly.between_groups(at.ends)) {
    add(at.ends);
  } else {
    for (const Ends& ends : at.ends) add({ends});
  }
  terminal_signals(assembly, bank.name, at, currents);
}

template <>
void assemble(const network::Reactor& bank, Assembly& assembly) {
  const std::string owner = "reactor." + bank.name;
  const Terminals at = connect(assembly, owner, bank.bus, bank.phases, bank.connection);
  const double share = bank.reactive_var / static_cast<double>(at.ends.size());
  const double reactance = at.nominal_V * at.nominal_V / share;
  const double henry = reactance / assembly.omega();
  const std::vector<Slot> currents =
      uncoupled_series(assembly, owner, at.ends, reactance / bank.quality, henry);
  terminal_signals(assembly, bank.name, at, currents);
  if (!network::is_set(bank.knee)) return;
  const double knee = bank.knee * std::numbers::sqrt2 * at.nominal_V / assembly.omega();
  const double beyond = (1 / bank.air_core - 1) / henry;
  for (const Ends& ends : at.ends) {
    assembly.segments({.owner = owner, .ends = ends, .inductive = true, .corners = bent_at(knee, beyond)});
  }
}

template <>
void assemble(const network::HarmonicFilter& filter, Assembly& assembly) {
  const std::string owner = "filter." + filter.name;
  const Terminals at = connect(assembly, owner, filter.bus, "", filter.connection);
  const double omega = assembly.omega(), square = filter.order * filter.order;
  const double share = filter.reactive_var / static_cast<double>(at.ends.size());
  const double farad = share / (omega * at.nominal_V * at.nominal_V) * (1 - 1 / square);
  const double henry = 1 / (square * omega * omega * farad);
  const double ohm = filter.order * omega * henry / filter.quality;
  std::vector<Slot> currents;
  if (!network::is_set(filter.damping_ohm)) {
    currents = uncoupled_series(assembly, owner, at.ends, ohm, henry, 1 / farad);
  } else {
    for (std::size_t k = 0; k < at.ends.size(); ++k) {
      const NodeId middle = assembly.new_node(filter.name + ".middle");
      currents.push_back(assembly.capacitance({.owner = owner,
                                               .ends = {{at.ends[k].p, middle}},
                                               .capacitance = Eigen::MatrixXd::Constant(1, 1, farad),
                                               .first_current = {}}));
      (void)uncoupled_series(assembly, owner, {{middle, at.ends[k].q}}, ohm, henry);
      assembly.conductance({middle, at.ends[k].q}, 1 / filter.damping_ohm);
    }
  }
  terminal_signals(assembly, filter.name, at, currents);
}

template <>
void assemble(const network::Arrester& arrester, Assembly& assembly) {
  const std::string owner = "arrester." + arrester.name;
  const auto reject = [&](const char* text) {
    throw Error(Flaw{.file = {}, .place = owner, .field = "curve", .text = text});
  };
  if (arrester.curve.size() < 2)
    reject("at least two points are wanted, such as \"20 kV: 1 mA\", \"28 kV: 1 kA\"");
  double before = 0;
  for (const network::Point& point : arrester.curve) {
    if (!(point.x > 0 && point.y > before))
      reject("voltages and currents must be positive and rise together");
    before = point.y;
  }
  const Terminals at = connect(assembly, owner, arrester.bus, "", "grounded star");
  std::vector<Slot> currents;
  for (const Ends& ends : at.ends) {
    currents.push_back(
        assembly.segments({.owner = owner, .ends = ends, .inductive = false, .corners = arrester.curve})
            .current);
  }
  terminal_signals(assembly, arrester.name, at, currents);
}

}  // namespace zavrek::emt::internal
