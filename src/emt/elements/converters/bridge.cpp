// Valves and bridges (valve_group.hpp). Currents of an element flow from its a.c. bus into it. Legs, upper
// end p, lower end n, middle m, a.c. terminal x:
//   two-level                 upper p -> x, lower x -> n; a rectifier's the other way: x -> p, n -> x
//   neutral-point clamped     1: p -> y, 2: y -> x, 3: x -> z, 4: z -> n, diodes m -> y and z -> m
//   t-type                    1: p -> x, 4: x -> n, and back to back m -> w (2), x -> w (3)
//   twelve-pulse              two rectifying two-level bridges in series: p - w on one a.c. bus, w - n on the
//                             other, whose gates are NAME.delta.a_upper ...
// A d.c. converter is one two-level leg and an inductor; in a buck the lower, in a boost the upper valve is a
// diode, and the gate that it lacks drives nothing.
#include <fmt/format.h>

#include "emt/parts/assembly.hpp"

namespace zavrek::emt::internal {
namespace {

/// Between the negative poles of a d.c. converter.
constexpr double joined_S = 1e4;

ValveKind kind_of(const std::string& device) {
  if (device == "diode") return ValveKind::diode;
  if (device == "thyristor") return ValveKind::thyristor;
  return device == "switch" ? ValveKind::contact : ValveKind::transistor;
}

template <class Element>
LegPart leg_of(const Element& e, std::vector<NodeId> poles, NodeId x) {
  return {.poles = std::move(poles), .x = x, .on_resistance_ohm = e.on_resistance_ohm, .drop_V = e.drop_V};
}

/// The leg of two valves: out of p by the upper one's gate, into n by the lower one's.
LegPart two_level_leg(LegPart leg, int upper, int lower, bool upper_obeys, bool lower_obeys) {
  leg.valves = {upper, lower};
  if (upper_obeys) leg.out = {{upper, -1, 0}};
  if (lower_obeys) leg.in = {{lower, -1, 1}};
  leg.flows = {{upper, 0, 1}, {lower, 1, -1}};
  return leg;
}

template <class Element>
ValvePart part_of(const Element& e, std::string owner, const std::string& device) {
  return {.owner = std::move(owner),
          .ends = {},
          .kind = kind_of(device),
          .on_resistance_ohm = e.on_resistance_ohm,
          .drop_V = e.drop_V,
          .diode_resistance_ohm =
              network::is_set(e.diode_resistance_ohm) ? e.diode_resistance_ohm : e.on_resistance_ohm,
          .diode_drop_V = network::is_set(e.diode_drop_V) ? e.diode_drop_V : e.drop_V,
          .off_S = 1 / e.off_resistance_ohm};
}

class BridgeBuilder {
 public:
  BridgeBuilder(const network::Bridge& bridge, Assembly& assembly)
      : bridge_(bridge), assembly_(assembly), owner_("bridge." + bridge.name) {}

  void run() {
    p_ = pole('p');
    n_ = pole('n');
    const bool twelve = bridge_.topology == "twelve-pulse";
    const bool three_levels = bridge_.topology != "two-level" && !twelve;
    if (three_levels) m_ = pole('m');
    if (three_levels && bridge_.device != "transistor")
      reject("device", "a bridge of three levels is made of transistors");
    if (twelve && bridge_.device == "transistor")
      reject("device", "a twelve-pulse bridge is made of diodes or thyristors");
    if (twelve == bridge_.ac_delta.empty())
      reject("ac_delta", twelve ? "missing; the bus of the lower half is wanted"
                                : "only a twelve-pulse bridge has a second a.c. bus");
    if (twelve) {
      const NodeId n = n_;
      n_ = assembly_.new_node(owner_ + ".middle");
      legs(bridge_.ac, bridge_.name);
      from_p_signal_ = from_p_;
      p_ = n_;
      n_ = n;
      legs(bridge_.ac_delta, bridge_.name + ".delta");
      from_p_ = from_p_signal_;
    } else {
      legs(bridge_.ac, bridge_.name);
    }
    assembly_.signal(bridge_.name + ".idc", "A", from_p_);
  }

 private:
  /// Diodes and thyristors end by their current: their few commutations are located in either depth.
  [[nodiscard]] bool averaged() const {
    return bridge_.depth == "averaged" && bridge_.device == "transistor";
  }

  /// The legs between the poles and an a.c. bus, under a name.
  void legs(const std::string& bus, const std::string& name) {
    name_ = name;
    const std::string& letters = assembly_.bus(bus).phases;
    if (letters.find_first_of("pnm") != std::string::npos)
      reject("ac", fmt::format("\"{}\" is a d.c. bus; a bus with phases is wanted", bus));
    const std::vector<NodeId> nodes = assembly_.nodes(bus);
    std::vector<Terms> currents;
    for (std::size_t k = 0; k < letters.size(); ++k) {
      into_ac_.clear();
      bridge_.topology == "t-type"                  ? t_type(nodes[k], letters[k])
      : bridge_.topology == "neutral-point clamped" ? clamped(nodes[k], letters[k])
                                                    : two_level(nodes[k], letters[k]);
      currents.push_back(into_ac_);
    }
    assembly_.phase_signals(name_ + ".i", "A", currents, letters);
  }

  [[noreturn]] void reject(const std::string& field, std::string text) const {
    throw Error(Flaw{.file = {}, .place = owner_, .field = field, .text = std::move(text)});
  }

  NodeId pole(char letter) const {
    const std::size_t at = assembly_.bus(bridge_.dc).phases.find(letter);
    if (at == std::string::npos)
      reject("dc", fmt::format("\"{}\" has no pole {}; give it phases = \"{}\"", bridge_.dc, letter,
                               letter == 'm' ? "pnm" : "pn"));
    return assembly_.nodes(bridge_.dc)[at];
  }

  struct Put {
    int index;
    Slot current;
  };
  /// A valve from one node to another, with a gate unless it is a diode.
  Put valve(NodeId from, NodeId to, const std::string& gate, bool diode = false) {
    ValvePart part = part_of(bridge_, owner_, bridge_.device);
    part.ends = {from, to};
    if (diode) part.kind = ValveKind::diode;
    const bool has_gate = part.kind != ValveKind::diode;
    const int index = assembly_.valve(std::move(part));
    const std::string name = name_ + "." + gate;
    if (has_gate) assembly_.gate(name, {index});
    const ValvePart& made = assembly_.valve_parts.back();
    assembly_.signal(name + ".i", "A", {value_of(made.current)});
    assembly_.signal(name + ".on", "", {value_of(made.conducts)});
    return {index, made.current};
  }

  void two_level(NodeId x, char letter) {
    const std::string leg(1, letter);
    const bool rectifies = bridge_.device != "transistor";
    const Put upper = rectifies ? valve(x, p_, leg + "_upper") : valve(p_, x, leg + "_upper");
    const Put lower = rectifies ? valve(n_, x, leg + "_lower") : valve(x, n_, leg + "_lower");
    const double sign = rectifies ? 1 : -1;
    into_ac_ = {value_of(upper.current, sign), value_of(lower.current, -sign)};
    from_p_.push_back(value_of(upper.current, -sign));
    assembly_.share_current({upper.index, lower.index});
    if (averaged())
      assembly_.averaged_leg(
          two_level_leg(leg_of(bridge_, {p_, n_}, x), upper.index, lower.index, true, true));
  }

  void clamped(NodeId x, char letter) {
    const std::string leg(1, letter);
    const NodeId y = assembly_.new_node(owner_ + "." + leg + "12");
    const NodeId z = assembly_.new_node(owner_ + "." + leg + "34");
    const Put first = valve(p_, y, leg + "_1");
    const Put second = valve(y, x, leg + "_2");
    const Put third = valve(x, z, leg + "_3");
    const Put fourth = valve(z, n_, leg + "_4");
    const Put upper = valve(m_, y, leg + "_to_upper", true);
    const Put lower = valve(z, m_, leg + "_to_lower", true);
    into_ac_ = {value_of(third.current), value_of(second.current, -1)};
    from_p_.push_back(value_of(first.current));
    // A clamping diode conducts beside two transistors for what these leak that are off.
    assembly_.share_current({first.index, second.index, third.index, fourth.index, upper.index, lower.index});
    if (!averaged()) return;
    LegPart part = leg_of(bridge_, {p_, m_, n_}, x);  // two valves conduct in series
    part.on_resistance_ohm *= 2;
    part.drop_V *= 2;
    part.valves = {first.index, second.index, third.index, fourth.index, upper.index, lower.index};
    part.out = {{first.index, second.index, 0}, {second.index, -1, 1}};
    part.in = {{third.index, fourth.index, 2}, {third.index, -1, 1}};
    part.flows = {{first.index, 0, 1}, {second.index, -1, 1}, {third.index, -1, -1}, {fourth.index, 2, -1}};
    assembly_.averaged_leg(std::move(part));
  }

  void t_type(NodeId x, char letter) {
    const std::string leg(1, letter);
    const NodeId w = assembly_.new_node(owner_ + "." + leg + "23");
    const Put first = valve(p_, x, leg + "_1");
    const Put second = valve(m_, w, leg + "_2");
    const Put third = valve(x, w, leg + "_3");
    const Put fourth = valve(x, n_, leg + "_4");
    into_ac_ = {value_of(fourth.current), value_of(first.current, -1), value_of(third.current)};
    from_p_.push_back(value_of(first.current));
    if (!averaged()) return;
    LegPart part = leg_of(bridge_, {p_, m_, n_}, x);
    part.valves = {first.index, second.index, third.index, fourth.index};
    part.out = {{first.index, -1, 0}, {second.index, -1, 1}};
    part.in = {{fourth.index, -1, 2}, {third.index, -1, 1}};
    part.flows = {{first.index, 0, 1}, {second.index, 1, 1}, {third.index, 1, -1}, {fourth.index, 2, -1}};
    assembly_.averaged_leg(std::move(part));
  }

  const network::Bridge& bridge_;
  Assembly& assembly_;
  std::string owner_, name_;
  NodeId p_ = 0, n_ = 0, m_ = 0;
  Terms into_ac_, from_p_, from_p_signal_;
};

NodeId pole_of(const Assembly& assembly, const std::string& owner, const char* field, const std::string& bus,
               char letter) {
  const std::size_t at = assembly.bus(bus).phases.find(letter);
  if (at == std::string::npos)
    throw Error(Flaw{.file = {},
                     .place = owner,
                     .field = field,
                     .text = fmt::format("\"{}\" has no pole {}; give it phases = \"pn\"", bus, letter)});
  return assembly.nodes(bus)[at];
}

}  // namespace

template <>
void assemble(const network::DcConverter& converter, Assembly& assembly) {
  const std::string owner = "dc_converter." + converter.name;
  const NodeId p = pole_of(assembly, owner, "high", converter.high, 'p');
  const NodeId n = pole_of(assembly, owner, "high", converter.high, 'n');
  const NodeId low = pole_of(assembly, owner, "low", converter.low, 'p');
  const NodeId low_n = pole_of(assembly, owner, "low", converter.low, 'n');
  const NodeId x = assembly.new_node(owner + ".leg");
  const auto put = [&](const std::string& gate, NodeId from, NodeId to, bool transistor) {
    ValvePart part = part_of(converter, owner, "transistor");
    part.ends = {from, to};
    if (!transistor) {  // a diode stands where the other valve's partner would
      part.ends = {to, from};
      part.kind = ValveKind::diode;
      part.on_resistance_ohm = part.diode_resistance_ohm;
      part.drop_V = part.diode_drop_V;
    }
    const int index = assembly.valve(std::move(part));
    assembly.gate(converter.name + "." + gate, transistor ? std::vector<int>{index} : std::vector<int>{});
    const ValvePart& made = assembly.valve_parts.back();
    assembly.signal(converter.name + "." + gate + ".i", "A", {value_of(made.current, transistor ? 1 : -1)});
    assembly.signal(converter.name + "." + gate + ".on", "", {value_of(made.conducts)});
    return index;
  };
  const bool upper_obeys = converter.topology != "boost", lower_obeys = converter.topology != "buck";
  const int upper = put("a_upper", p, x, upper_obeys);
  const int lower = put("a_lower", x, n, lower_obeys);
  assembly.share_current({upper, lower});
  if (converter.depth == "averaged") {
    LegPart leg = two_level_leg(leg_of(converter, {p, n}, x), upper, lower, upper_obeys, lower_obeys);
    if (!upper_obeys) leg.flows[0].sign = -1;
    if (!lower_obeys) leg.flows[1].sign = 1;
    assembly.averaged_leg(std::move(leg));
  }
  const Slot current =
      uncoupled_series(assembly, owner, {{x, low}}, converter.resistance_ohm, converter.inductance_H)[0];
  if (low_n != n) assembly.conductance({low_n, n}, joined_S);
  assembly.signal(converter.name + ".i", "A", {value_of(current)});
}

template <>
void assemble(const network::Chopper& chopper, Assembly& assembly) {
  const std::string owner = "chopper." + chopper.name;
  const NodeId p = pole_of(assembly, owner, "bus", chopper.bus, 'p');
  const NodeId n = pole_of(assembly, owner, "bus", chopper.bus, 'n');
  const NodeId x = assembly.new_node(owner + ".resistor");
  ValvePart transistor = part_of(chopper, owner, "transistor");
  transistor.ends = {x, n};
  const int index = assembly.valve(std::move(transistor));
  const Slot through = assembly.valve_parts.back().current;
  assembly.gate(chopper.name + ".valve", {index});
  ValvePart diode = part_of(chopper, owner, "diode");
  diode.ends = {x, p};
  diode.on_resistance_ohm = diode.diode_resistance_ohm;
  diode.drop_V = diode.diode_drop_V;
  assembly.share_current({index, assembly.valve(std::move(diode))});
  const Slot current =
      uncoupled_series(assembly, owner, {{p, x}}, chopper.resistance_ohm, chopper.inductance_H)[0];
  assembly.signal(chopper.name + ".i", "A", {value_of(current)});
  assembly.signal(chopper.name + ".valve.i", "A", {value_of(through)});
}

template <>
void assemble(const network::Bridge& bridge, Assembly& assembly) {
  BridgeBuilder(bridge, assembly).run();
}

template <>
void assemble(const network::Valve& valve, Assembly& assembly) {
  const std::string owner = "valve." + valve.name;
  ValvePart part = part_of(valve, owner, valve.device);
  part.ends = {assembly.terminal(owner, "from", valve.from), assembly.terminal(owner, "to", valve.to)};
  const bool has_gate = part.kind != ValveKind::diode;
  const int index = assembly.valve(std::move(part));
  if (has_gate) assembly.gate(valve.name, {index});
  const ValvePart& made = assembly.valve_parts.back();
  assembly.signal(valve.name + ".i", "A", {value_of(made.current)});
  assembly.signal(valve.name + ".on", "", {value_of(made.conducts)});
}

}  // namespace zavrek::emt::internal
