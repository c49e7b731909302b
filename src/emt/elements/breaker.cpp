// Breaker, contactor, disconnector, earthing switch: one pole per phase, a conductance with two values;
// `NAME.closed` is the share of poles closed. Scatter gives each pole a delay of its own, drawn once; a
// resistor for pre-insertion has poles of its own in parallel, which make first and break last. Chopping and
// striking again are the step's business (core.cpp).
#include <cstdint>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

/// Uniform in (-1, 1), the same for the same name, seed and draw (splitmix64; Steele et al., OOPSLA 2014).
double scattered(const std::string& name, int seed, int draw) {
  std::uint64_t x = static_cast<std::uint64_t>(seed) * 1000003U + static_cast<std::uint64_t>(draw);
  for (const char c : name) x = x * 31 + static_cast<unsigned char>(c);
  x += 0x9E3779B97F4A7C15U;
  x = (x ^ (x >> 30)) * 0xBF58476D1CE4E5B9U;
  x = (x ^ (x >> 27)) * 0x94D049BB133111EBU;
  x ^= x >> 31;
  return 2 * static_cast<double>(x >> 11) * 0x1.0p-53 - 1;
}

struct Switch {
  std::string owner, name;
  double closed_ohm, open_ohm;
  bool closed;
};

/// Poles between near and far; fills the signals of both ends.
class Poles {
 public:
  Poles(Assembly& assembly, const Switch& what, Operable operable)
      : assembly_(assembly), what_(what), operable_(std::move(operable)) {}

  PolePart prototype(const Ends& ends, double closed_ohm) const {
    return {.owner = what_.owner,
            .ends = ends,
            .closed_S = 1 / closed_ohm,
            .open_S = 1 / what_.open_ohm,
            .closed = what_.closed};
  }
  const PolePart& add(PolePart part) {
    operable_.poles.push_back(assembly_.pole(std::move(part)));
    return assembly_.pole_parts[static_cast<std::size_t>(operable_.poles.back())];
  }
  /// Signals of the main poles.
  void finish(const std::vector<Terms>& currents, const Terms& position, const std::string& letters,
              bool far) {
    std::vector<Terms> out;
    for (Terms terms : currents) {
      for (Term& term : terms) term.coefficient = -term.coefficient;
      out.push_back(std::move(terms));
    }
    assembly_.end_currents(what_.name, currents, far ? out : std::vector<Terms>(), letters);
    assembly_.signal(what_.name + ".closed", "", position);
    assembly_.operable(std::move(operable_));
  }

 private:
  Assembly& assembly_;
  const Switch& what_;
  Operable operable_;
};

}  // namespace

template <>
void assemble(const network::Breaker& breaker, Assembly& assembly) {
  const std::string owner = "breaker." + breaker.name;
  const auto [letters, near, far] = assembly.span(owner, breaker.between);
  const Switch what{owner, breaker.name, breaker.closed_resistance_ohm, breaker.open_resistance_ohm,
                    breaker.closed};
  Poles poles(assembly, what, {breaker.name, {}, breaker.opening_time_s, breaker.closing_time_s});
  std::vector<Terms> currents;
  std::vector<Operable> single;  // each pole by itself: a phase may be lost
  Terms position;
  const bool inserts = network::is_set(breaker.insertion_resistance_ohm);
  for (std::size_t k = 0; k < near.size(); ++k) {
    PolePart main = poles.prototype({near[k], far[k]}, what.closed_ohm);
    main.chop_A = breaker.chopping_A;
    main.strength = breaker.withstand;
    main.late_open_s = breaker.scatter_s * scattered(breaker.name, breaker.seed, static_cast<int>(2 * k));
    main.late_close_s =
        breaker.scatter_s * scattered(breaker.name, breaker.seed, static_cast<int>(2 * k + 1));
    PolePart resistor = poles.prototype({near[k], far[k]}, breaker.insertion_resistance_ohm);
    resistor.late_open_s = main.late_open_s + breaker.insertion_time_s;
    resistor.late_close_s = main.late_close_s;
    if (inserts) main.late_close_s += breaker.insertion_time_s;
    single.push_back({breaker.name + "." + letters[k], {}, breaker.opening_time_s, breaker.closing_time_s});
    single.back().poles = {static_cast<int>(assembly.pole_parts.size())};
    const PolePart& made = poles.add(std::move(main));
    currents.push_back({value_of(made.current)});
    position.push_back(value_of(made.position, 1.0 / static_cast<double>(near.size())));
    if (!inserts) continue;
    single.back().poles.push_back(static_cast<int>(assembly.pole_parts.size()));
    currents.back().push_back(value_of(poles.add(std::move(resistor)).current));
  }
  poles.finish(currents, position, letters, true);
  for (Operable& pole : single) assembly.operable(std::move(pole));
}

template <>
void assemble(const network::Contactor& contactor, Assembly& assembly) {
  const std::string owner = "contactor." + contactor.name;
  const auto [letters, near, far] = assembly.span(owner, contactor.between);
  const auto add = [&, near = near, far = far, letters = letters](const std::string& name, double ohm,
                                                                  bool closed) {
    const Switch what{owner, name, ohm, 1e9, closed};
    Poles poles(assembly, what, {name, {}, contactor.opening_time_s, contactor.closing_time_s});
    std::vector<Terms> currents;
    Terms position;
    for (std::size_t k = 0; k < near.size(); ++k) {
      PolePart part = poles.prototype({near[k], far[k]}, ohm);
      part.chop_A = 1e30;
      const PolePart& made = poles.add(std::move(part));
      currents.push_back({value_of(made.current)});
      position.push_back(value_of(made.position, 1.0 / static_cast<double>(near.size())));
    }
    poles.finish(currents, position, letters, true);
  };
  add(contactor.name, contactor.closed_resistance_ohm, contactor.closed);
  if (network::is_set(contactor.precharge_resistance_ohm))
    add(contactor.name + ".precharge", contactor.precharge_resistance_ohm, false);
}

template <>
void assemble(const network::Disconnector& disconnector, Assembly& assembly) {
  const std::string owner = "disconnector." + disconnector.name;
  const auto [letters, near, far] = assembly.span(owner, disconnector.between);
  const Switch what{owner, disconnector.name, 1e-4, 1e10, disconnector.closed};
  Operable operable{disconnector.name, {}, disconnector.travel_time_s, disconnector.travel_time_s};
  operable.only_when_open = disconnector.only_when_open;
  Poles poles(assembly, what, std::move(operable));
  std::vector<Terms> currents;
  Terms position;
  for (std::size_t k = 0; k < near.size(); ++k) {
    PolePart part = poles.prototype({near[k], far[k]}, what.closed_ohm);
    part.chop_A = disconnector.breaks_A;
    const PolePart& made = poles.add(std::move(part));
    currents.push_back({value_of(made.current)});
    position.push_back(value_of(made.position, 1.0 / static_cast<double>(near.size())));
  }
  poles.finish(currents, position, letters, true);
}

template <>
void assemble(const network::EarthingSwitch& earthing, Assembly& assembly) {
  const Switch what{"earthing_switch." + earthing.name, earthing.name, earthing.resistance_ohm, 1e10,
                    earthing.closed};
  Operable operable{earthing.name, {}, earthing.travel_time_s, earthing.travel_time_s};
  operable.only_when_open = earthing.only_when_open;
  operable.always_opens = true;
  Poles poles(assembly, what, std::move(operable));
  const std::vector<NodeId> nodes = assembly.nodes(earthing.bus);
  std::vector<Terms> currents;
  Terms position;
  for (const NodeId node : nodes) {
    const PolePart& made = poles.add(poles.prototype({node, ground_node}, what.closed_ohm));
    currents.push_back({value_of(made.current)});
    position.push_back(value_of(made.position, 1.0 / static_cast<double>(nodes.size())));
  }
  poles.finish(currents, position, assembly.bus(earthing.bus).phases, false);
}

}  // namespace zavrek::emt::internal
