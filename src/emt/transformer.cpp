// Transformer: three single-phase units, each two coupled windings v = R i + L di/dt with
//   L = [ Ll1 + Lm,  Lm/a ;  Lm/a,  Ll2 + Lm/a^2 ],  a = N1/N2,
// leakage and copper loss shared equally between the windings, Lm from the magnetising current, iron
// loss as a resistance across the high winding. The vector group (IEC 60076-1) says how the windings
// are joined; its figure is the lag of the low side in units of 30 deg.
#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

struct Side {
  bool delta = false;
  bool neutral = false;
};

struct Group {
  Side high;
  Side low;
  int clock = 0;
};

[[noreturn]] void reject(const network::Transformer& t, std::string field, std::string text) {
  throw Error(
      Flaw{.file = {}, .place = "transformer." + t.name, .field = std::move(field), .text = std::move(text)});
}

Group parse_group(const network::Transformer& t) {
  std::string_view rest = t.vector_group;
  const auto fail = [&] {
    reject(
        t, "vector_group",
        fmt::format(
            "\"{}\" is no vector group; write D, Y or YN, then d, y or yn, then 0 to 11, such as \"Dyn11\"",
            t.vector_group));
  };
  const auto take = [&](char letter) {
    if (rest.empty() || rest.front() != letter) return false;
    rest.remove_prefix(1);
    return true;
  };
  const auto take_side = [&](char delta, char star, char neutral) {
    Side side;
    if (take(delta)) {
      side.delta = true;
    } else if (take(star)) {
      side.neutral = take(neutral);
    } else {
      fail();
    }
    return side;
  };
  Group group;
  group.high = take_side('D', 'Y', 'N');
  group.low = take_side('d', 'y', 'n');
  if (rest.empty() || rest.size() > 2 ||
      !std::all_of(rest.begin(), rest.end(), [](char c) { return c >= '0' && c <= '9'; })) {
    fail();
  }
  group.clock = std::stoi(std::string(rest));
  if (group.clock > 11) fail();
  if ((group.clock % 2 == 1) != (group.high.delta != group.low.delta)) {
    reject(t, "vector_group",
           fmt::format("\"{}\" cannot be wound: {} and {} windings give an {} figure", t.vector_group,
                       group.high.delta ? "delta" : "star", group.low.delta ? "delta" : "star",
                       group.high.delta != group.low.delta ? "odd" : "even"));
  }
  return group;
}

/// Windings of one side: limb k lies between terminal k and the neutral (star) or terminal k + 1 (delta).
std::vector<Ends> limbs(const std::vector<NodeId>& terminals, const Side& side, NodeId neutral) {
  std::vector<Ends> ends;
  for (std::size_t k = 0; k < 3; ++k)
    ends.push_back({terminals[k], side.delta ? terminals[(k + 1) % 3] : neutral});
  return ends;
}

/// Rotates and turns the low windings so that phase a lags by `clock` * 30 deg. On a limb both
/// windings have the same voltage; a delta winding's voltage leads its first terminal's by 30 deg.
std::vector<Ends> low_limbs(const std::vector<NodeId>& terminals, const Group& group, NodeId neutral) {
  const int lead = (group.high.delta ? 1 : 0) - (group.low.delta ? 1 : 0);  // of terminal 0, unrotated
  const std::vector<Ends> plain = limbs(terminals, group.low, neutral);
  std::vector<Ends> turned;
  for (int rotation = 0; rotation < 3; ++rotation) {
    for (int reversed = 0; reversed < 2; ++reversed) {
      // Limb k carries the winding of terminal k - rotation, so terminal 0 sits on limb `rotation`.
      const int lag = ((-lead + 4 * rotation + 6 * reversed) % 12 + 12) % 12;
      if (lag != group.clock) continue;
      for (int k = 0; k < 3; ++k) {
        const Ends ends = plain[static_cast<std::size_t>((k - rotation + 3) % 3)];
        turned.push_back(reversed ? Ends{ends.q, ends.p} : ends);
      }
      return turned;
    }
  }
  return turned;
}

NodeId add_neutral(Assembly& assembly, const std::string& owner, const Side& side, double r, double x) {
  if (side.delta) return ground_node;
  if (side.neutral && r == 0 && x == 0) return ground_node;
  const NodeId neutral = assembly.new_node(owner + ".neutral");
  if (side.neutral) uncoupled_series(assembly, owner, {{neutral, ground_node}}, r, x / assembly.omega());
  return neutral;
}

struct UnitValues {
  Eigen::Matrix2d resistance;
  Eigen::Matrix2d inductance;
  double iron_S;
};

UnitValues unit_values(const network::Transformer& t, const Group& group, double omega) {
  const double v1 = t.high_voltage_V / (group.high.delta ? 1 : std::numbers::sqrt3);
  const double v2 = t.low_voltage_V / (group.low.delta ? 1 : std::numbers::sqrt3);
  const double base = v1 * v1 / (t.rating_VA / 3);
  const double a = v1 / v2;
  const double z = t.short_circuit_voltage * base;
  const double r = t.copper_loss_W / t.rating_VA * base;
  if (r >= z) reject(t, "copper_loss", "is more than the short-circuit voltage allows; check both");
  const double iron = t.iron_loss_W / t.rating_VA;
  if (iron >= t.magnetizing_current)
    reject(t, "iron_loss", "takes more than the magnetizing current; check both");
  const double leakage = std::sqrt(z * z - r * r) / omega;
  const double main = base / std::sqrt(t.magnetizing_current * t.magnetizing_current - iron * iron) / omega;
  UnitValues values;
  values.resistance << r / 2, 0, 0, r / 2 / (a * a);
  values.inductance << leakage / 2 + main, main / a, main / a, (leakage / 2 + main) / (a * a);
  values.iron_S = iron / base;
  return values;
}

/// Current from each terminal into the windings.
std::vector<Terms> terminal_currents(const std::vector<NodeId>& terminals, const std::vector<Ends>& windings,
                                     const std::vector<Slot>& currents, double iron_S) {
  std::vector<Terms> sums(terminals.size());
  for (std::size_t k = 0; k < terminals.size(); ++k) {
    for (std::size_t w = 0; w < windings.size(); ++w) {
      const double sign = windings[w].p == terminals[k] ? 1 : windings[w].q == terminals[k] ? -1 : 0;
      if (sign == 0) continue;
      sums[k].push_back(value_of(currents[w], sign));
      if (iron_S == 0) continue;
      sums[k].push_back(voltage_of(windings[w].p, sign * iron_S));
      sums[k].push_back(voltage_of(windings[w].q, -sign * iron_S));
    }
  }
  return sums;
}

}  // namespace

template <>
void assemble(const network::Transformer& t, Assembly& assembly) {
  const std::string owner = "transformer." + t.name;
  const Group group = parse_group(t);
  const std::vector<NodeId> high = assembly.nodes(t.high_bus);
  const std::vector<NodeId> low = assembly.nodes(t.low_bus);
  if (high.size() != 3 || low.size() != 3)
    reject(t, high.size() != 3 ? "high" : "low", "a three-phase bus is wanted");
  const UnitValues values = unit_values(t, group, assembly.omega());
  const NodeId high_neutral = add_neutral(assembly, t.name + ".high", group.high,
                                          t.high_neutral_resistance_ohm, t.high_neutral_reactance_ohm);
  const NodeId low_neutral = add_neutral(assembly, t.name + ".low", group.low, t.low_neutral_resistance_ohm,
                                         t.low_neutral_reactance_ohm);
  const std::vector<Ends> high_windings = limbs(high, group.high, high_neutral);
  const std::vector<Ends> low_windings = low_limbs(low, group, low_neutral);
  std::vector<Slot> high_currents;
  std::vector<Slot> low_currents;
  for (std::size_t k = 0; k < 3; ++k) {
    const Slot first = assembly.series({.owner = owner,
                                        .ends = {high_windings[k], low_windings[k]},
                                        .resistance = values.resistance,
                                        .inductance = values.inductance,
                                        .elastance = {},
                                        .first_current = {},
                                        .first_charge_voltage = {}});
    high_currents.push_back(first);
    low_currents.push_back({first.index + 1});
    if (values.iron_S > 0) assembly.conductance(high_windings[k], values.iron_S);
  }
  assembly.end_currents(t.name, terminal_currents(high, high_windings, high_currents, values.iron_S),
                        terminal_currents(low, low_windings, low_currents, 0));
}

}  // namespace zavrek::emt::internal
