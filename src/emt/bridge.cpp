// Valves and bridges (valve_group.hpp). Currents of an element flow from its a.c. bus into it. Legs, upper
// end p, lower end n, middle m, a.c. terminal x:
//   two-level                 upper p -> x, lower x -> n; a rectifier's the other way: x -> p, n -> x
//   neutral-point clamped     1: p -> y, 2: y -> x, 3: x -> z, 4: z -> n, diodes m -> y and z -> m
//   t-type                    1: p -> x, 4: x -> n, and back to back m -> w (2), x -> w (3)
#include <fmt/format.h>

#include "emt/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

ValveKind kind_of(const std::string& device) {
  if (device == "diode") return ValveKind::diode;
  if (device == "thyristor") return ValveKind::thyristor;
  return device == "switch" ? ValveKind::contact : ValveKind::transistor;
}

template <class Element>
ValvePart part_of(const Element& e, std::string owner) {
  return {.owner = std::move(owner),
          .ends = {},
          .kind = kind_of(e.device),
          .on_ohm = e.on_ohm,
          .drop_V = e.drop_V,
          .reverse_ohm = network::is_set(e.reverse_ohm) ? e.reverse_ohm : e.on_ohm,
          .reverse_drop_V = network::is_set(e.reverse_drop_V) ? e.reverse_drop_V : e.drop_V,
          .off_S = 1 / e.off_ohm};
}

class BridgeBuilder {
 public:
  BridgeBuilder(const network::Bridge& bridge, Assembly& assembly)
      : bridge_(bridge), assembly_(assembly), owner_("bridge." + bridge.name) {}

  void run() {
    p_ = pole('p');
    n_ = pole('n');
    const bool three_levels = bridge_.topology != "two-level";
    if (three_levels) m_ = pole('m');
    if (three_levels && bridge_.device != "transistor")
      reject("device", "a bridge of three levels is made of transistors");
    const std::string& letters = assembly_.bus(bridge_.ac).phases;
    if (letters.find_first_of("pnm") != std::string::npos)
      reject("ac", fmt::format("\"{}\" is a d.c. bus; a bus with phases is wanted", bridge_.ac));
    const std::vector<NodeId> nodes = assembly_.nodes(bridge_.ac);
    std::vector<Terms> currents;
    for (std::size_t k = 0; k < letters.size(); ++k) {
      into_ac_.clear();
      bridge_.topology == "two-level" ? two_level(nodes[k], letters[k])
      : bridge_.topology == "t-type"  ? t_type(nodes[k], letters[k])
                                      : clamped(nodes[k], letters[k]);
      currents.push_back(into_ac_);
    }
    assembly_.phase_signals(bridge_.name + ".i", "A", currents, letters);
    assembly_.signal(bridge_.name + ".idc", "A", from_p_);
  }

 private:
  [[noreturn]] void reject(const std::string& field, std::string text) const {
    throw Error(Flaw{.file = {}, .place = owner_, .field = field, .text = std::move(text)});
  }

  NodeId pole(char letter) const {
    const std::size_t at = assembly_.bus(bridge_.dc).phases.find(letter);
    if (at == std::string::npos)
      reject("dc", fmt::format("\"{}\" has no pole {}; give it phases = \"{}\"", bridge_.dc, letter,
                               bridge_.topology == "two-level" ? "pn" : "pnm"));
    return assembly_.nodes(bridge_.dc)[at];
  }

  /// A valve from one node to another, with a gate unless it is a diode; returns what flows through it.
  Slot valve(NodeId from, NodeId to, const std::string& gate, bool diode = false) {
    ValvePart part = part_of(bridge_, owner_);
    part.ends = {from, to};
    if (diode) part.kind = ValveKind::diode;
    const bool has_gate = part.kind != ValveKind::diode;
    const int index = assembly_.valve(std::move(part));
    const std::string name = bridge_.name + "." + gate;
    if (has_gate) assembly_.gate(name, {index});
    const ValvePart& made = assembly_.valve_parts.back();
    assembly_.signal(name + ".i", "A", {value_of(made.current)});
    assembly_.signal(name + ".on", "", {value_of(made.conducts)});
    return made.current;
  }

  void two_level(NodeId x, char letter) {
    const std::string leg(1, letter);
    const bool rectifies = bridge_.device != "transistor";
    const Slot upper = rectifies ? valve(x, p_, leg + "_upper") : valve(p_, x, leg + "_upper");
    const Slot lower = rectifies ? valve(n_, x, leg + "_lower") : valve(x, n_, leg + "_lower");
    const double sign = rectifies ? 1 : -1;
    into_ac_ = {value_of(upper, sign), value_of(lower, -sign)};
    from_p_.push_back(value_of(upper, -sign));
  }

  void clamped(NodeId x, char letter) {
    const std::string leg(1, letter);
    const NodeId y = assembly_.new_node(owner_ + "." + leg + "12");
    const NodeId z = assembly_.new_node(owner_ + "." + leg + "34");
    const Slot first = valve(p_, y, leg + "_1");
    const Slot second = valve(y, x, leg + "_2");
    const Slot third = valve(x, z, leg + "_3");
    (void)valve(z, n_, leg + "_4");
    (void)valve(m_, y, leg + "_to_upper", true);
    (void)valve(z, m_, leg + "_to_lower", true);
    into_ac_ = {value_of(third), value_of(second, -1)};
    from_p_.push_back(value_of(first));
  }

  void t_type(NodeId x, char letter) {
    const std::string leg(1, letter);
    const NodeId w = assembly_.new_node(owner_ + "." + leg + "23");
    const Slot first = valve(p_, x, leg + "_1");
    (void)valve(m_, w, leg + "_2");
    const Slot third = valve(x, w, leg + "_3");
    const Slot fourth = valve(x, n_, leg + "_4");
    into_ac_ = {value_of(fourth), value_of(first, -1), value_of(third)};
    from_p_.push_back(value_of(first));
  }

  const network::Bridge& bridge_;
  Assembly& assembly_;
  std::string owner_;
  NodeId p_ = 0, n_ = 0, m_ = 0;
  Terms into_ac_, from_p_;
};

}  // namespace

template <>
void assemble(const network::Bridge& bridge, Assembly& assembly) {
  BridgeBuilder(bridge, assembly).run();
}

template <>
void assemble(const network::Valve& valve, Assembly& assembly) {
  const std::string owner = "valve." + valve.name;
  ValvePart part = part_of(valve, owner);
  part.ends = {assembly.terminal(owner, "from", valve.from), assembly.terminal(owner, "to", valve.to)};
  const bool has_gate = part.kind != ValveKind::diode;
  const int index = assembly.valve(std::move(part));
  if (has_gate) assembly.gate(valve.name, {index});
  const ValvePart& made = assembly.valve_parts.back();
  assembly.signal(valve.name + ".i", "A", {value_of(made.current)});
  assembly.signal(valve.name + ".on", "", {value_of(made.conducts)});
}

}  // namespace zavrek::emt::internal
