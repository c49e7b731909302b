// Ready controllers, written as the blocks that they are made of. In the letters used below w is an angular
// frequency, T the period of the control; every block is named NAME.PART.
#include <cctype>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "control/function.hpp"

namespace zavrek::control {
namespace {

/// Units of parts whose formulas do not tell.
std::string unit_of_part(const std::string& part) {
  static const std::map<std::string, std::string, std::less<>> units{{"peak", "A"},
                                                                     {"id_wanted", "A"},
                                                                     {"iq_wanted", "A"},
                                                                     {"d_target", "A"},
                                                                     {"q_target", "A"},
                                                                     {"q_room", "A"},
                                                                     {"d_error", "A"},
                                                                     {"q_error", "A"},
                                                                     {"wanted", "A"},
                                                                     {"most", "A"},
                                                                     {"least", "A"},
                                                                     {"p", "W"},
                                                                     {"p_now", "W"},
                                                                     {"p_was", "W"},
                                                                     {"q", "var"},
                                                                     {"q_now", "var"},
                                                                     {"link_power", "W"},
                                                                     {"energy_error", "J"},
                                                                     {"vd", "V"},
                                                                     {"vq", "V"},
                                                                     {"d_control", "V"},
                                                                     {"q_control", "V"},
                                                                     {"limit_V", "V"},
                                                                     {"vd_fed", "V"},
                                                                     {"vq_fed", "V"},
                                                                     {"height_error", "V"},
                                                                     {"height_control", "V"},
                                                                     {"v_target", "V"},
                                                                     {"v_wanted", "V"},
                                                                     {"v_was", "V"},
                                                                     {"neutral_off", ""},
                                                                     {"frequency", "Hz"},
                                                                     {"angle", "rad"},
                                                                     {"offset", "rad"},
                                                                     {"lead", "rad"},
                                                                     {"ahead_of_bus", "rad"},
                                                                     {"offset_was", "rad"},
                                                                     {"ahead", "rad"},
                                                                     {"torque", "N m"},
                                                                     {"torque_target", "N m"},
                                                                     {"speed_control", "N m"},
                                                                     {"speed_target", "rad/s"},
                                                                     {"speed_ramp", "rad/s"},
                                                                     {"speed_error", "rad/s"},
                                                                     {"slip", "rad/s"},
                                                                     {"flux", "Wb"},
                                                                     {"resistance", "ohm"},
                                                                     {"target", "Hz"}};
  const auto found = units.find(part);
  return found == units.end() ? std::string() : found->second;
}

/// Adds blocks under the name of a ready controller. Formulas write #part for NAME.part.
class Composer {
 public:
  Composer(std::string kind, std::string name, Description& into)
      : kind_(std::move(kind)), name_(std::move(name)), into_(into) {
    for (const char x : name_) {
      if (std::isalnum(static_cast<unsigned char>(x)) == 0 && x != '_')
        refuse("", "its name may hold letters, digits and _ only");
    }
  }

  [[nodiscard]] double period_s() const { return into_.period_s; }
  [[nodiscard]] std::string full(const std::string& part) const { return name_ + "." + part; }
  [[nodiscard]] std::string filled(const std::string& formula) const {
    std::string text;
    for (const char c : formula) c == '#' ? text += name_ + "." : text += c;
    return text;
  }

  template <class Kind>
  Kind& add(const std::string& part) {
    Kind& block = into_.blocks.emplace_back().emplace<Kind>();
    block.name = full(part);
    block.unit = unit_of_part(part);
    return block;
  }
  void setpoint(const std::string& part, double value, const std::string& unit) {
    Setpoint& block = add<Setpoint>(part);
    block.value = value;
    block.unit = unit;
  }
  /// A value that can be changed while running, or what gives it instead.
  void wanted(const std::string& part, double value, const std::string& unit, const std::string& reference) {
    if (reference.empty())
      setpoint(part, value, unit);
    else
      input(part, reference);
  }
  void formula(const std::string& part, const std::string& text) {
    add<Expression>(part).formula = filled(text);
  }
  template <class... Values>
  void formula(const std::string& part, const char* text, Values... values) {
    formula(part, fmt::format(fmt::runtime(text), values...));
  }
  /// A value from outside under a name of its own: formulas know plain names only.
  void input(const std::string& part, const std::string& wire) { add<Sum>(part).inputs = {wire}; }
  void wires(const std::string& part, const std::string& name, const char* quantity) {
    for (const char phase : {'a', 'b', 'c'}) input(part + phase, name + "." + quantity + phase);
  }
  void pi(const std::string& part, const std::string& error, double proportional, double integral,
          double limit, const std::string& reset) {
    Pi& block = add<Pi>(part);
    block.input = full(error);
    block.proportional = proportional;
    block.integral_per_s = integral;
    block.low = -limit;
    block.high = limit;
    block.reset = full(reset);
  }
  void ramp(const std::string& part, const std::string& wanted, double per_s) {
    Limiter& block = add<Limiter>(part);
    block.input = full(wanted);
    block.rise_per_s = block.fall_per_s = per_s;
  }
  void low_pass(const std::string& part, const std::string& wire, double time_s, double start = 0) {
    LowPass& block = add<LowPass>(part);
    block.input = full(wire);
    block.time_s = time_s;
    block.start = start;
  }
  void to_dq(const std::string& part, const std::string& wires_of, const std::string& angle) {
    ToDq& block = add<ToDq>(part);
    block.a = full(wires_of + "a");
    block.b = full(wires_of + "b");
    block.c = full(wires_of + "c");
    block.angle = full(angle);
  }
  void delay(const std::string& part, const std::string& wire, double start = 0) {
    Delay& block = add<Delay>(part);
    block.input = full(wire);
    block.start = start;
  }
  void rotor(const std::string& part, const std::string& frequency) {
    add<Rotor>(part).frequency = full(frequency);
  }
  void lock(const std::string& bus, double frequency_Hz, double bandwidth_Hz) {
    PhaseLock& block = add<PhaseLock>("lock");
    block.a = bus + ".va";
    block.b = bus + ".vb";
    block.c = bus + ".vc";
    block.frequency_Hz = frequency_Hz;
    block.bandwidth_Hz = bandwidth_Hz;
  }
  void sequence(std::vector<std::string> states, std::vector<std::string> steps) {
    for (std::string& step : steps) step = filled(step);
    Sequence& block = add<Sequence>("state");
    block.states = std::move(states);
    block.steps = std::move(steps);
  }
  [[noreturn]] void refuse(const std::string& field, const std::string& text) const {
    reject(kind_, name_, field, text);
  }

 private:
  std::string kind_, name_;
  Description& into_;
};

/// Measured currents and d.c. voltage, what trips, and the names `enable`, `reset`, `fault`.
void watch(Composer& c, const BridgeControl& b) {
  c.input("enable", b.enable);
  c.input("reset", b.reset.empty() ? "0" : b.reset);
  c.wires("i", b.current, "i");
  c.input("udc", b.dc);
  c.formula("peak", "max(max(abs(#ia), abs(#ib)), abs(#ic))");
  c.formula("overcurrent", "#peak > {}", b.trip_current_A);
  c.formula("dc_high", "#udc > {}", b.dc_high_V);
  c.formula("dc_low", "#udc < {}", b.dc_low_V);
}

/// The neutral point: legs draw -sum |m| i from it, an offset z of all references changes that by -z sum
/// sgn(m) i. With d the upper capacitor's voltage less the lower one's, C dd/dt is the current drawn.
std::string balance_neutral(Composer& c, const BridgeControl& b) {
  if (b.dc_upper.empty()) return {};
  if (b.levels != "three") c.refuse("dc_upper", "only a bridge of three levels has a neutral point");
  constexpr double most = 0.15;
  c.input("upper", b.dc_upper);
  c.formula("neutral_off", "(2 * #upper - #udc) / max(#udc, 10)");
  c.formula("neutral_moved", "if(#m.a > 0, #ia, -#ia) + if(#m.b > 0, #ib, -#ib) + if(#m.c > 0, #ic, -#ic)");
  c.formula("neutral_offset", "clamp({} * #neutral_off * if(#neutral_moved > 0, 1, -1), -{}, {})", b.balance,
            most, most);
  return c.full("neutral_offset");
}

/// From wanted voltages #vd, #vq at #angle, which turns with #frequency, to gates; the edges of a period act
/// half of it later on the mean.
void modulate(Composer& c, const BridgeControl& b) {
  c.formula("m_d", "2 * #vd / max(#udc, 10)");
  c.formula("m_q", "2 * #vq / max(#udc, 10)");
  c.formula("ahead", "#angle + pi * #frequency * {}", c.period_s());
  auto& phases = c.add<FromDq>("m");
  phases.d = c.full("m_d");
  phases.q = c.full("m_q");
  phases.angle = c.full("ahead");
  const std::string offset = balance_neutral(c, b);
  Modulator& m = c.add<Modulator>("pulses");
  m.bridge = b.bridge;
  m.references = {c.full("m.a"), c.full("m.b"), c.full("m.c")};
  m.enable = c.full("state.running");
  m.carrier_Hz = b.carrier_Hz;
  m.dead_time_s = b.dead_time_s;
  m.levels = b.levels;
  m.offset = offset;
  m.third_harmonic = true;
}

/// d and q currents: L di/dt = v - PI, feedforward of #vd_fed, #vq_fed and of the coupling w L i; `reach`:
/// what of the link's voltage they may ask for.
void control_currents(Composer& c, double inductance_H, double bandwidth_Hz, double reach) {
  const double w = 2 * pi * bandwidth_Hz;
  c.formula("d_error", "#id_wanted - #i.d");
  c.formula("q_error", "#iq_wanted - #i.q");
  c.formula("limit_V", "{} * #udc", reach);
  c.pi("d_control", "d_error", w * inductance_H, w * w * inductance_H / 8, 1e5, "blocked");
  c.pi("q_control", "q_error", w * inductance_H, w * w * inductance_H / 8, 1e5, "blocked");
  c.formula("vd", "clamp(#vd_fed + #d_control - 2 * pi * #frequency * {} * #i.q, -#limit_V, #limit_V)",
            inductance_H);
  c.formula("vq", "clamp(#vq_fed + #q_control + 2 * pi * #frequency * {} * #i.d, -#limit_V, #limit_V)",
            inductance_H);
}

void command_breaker(Composer& c, const std::string& breaker) {
  if (breaker.empty()) return;
  CommandBlock& command = c.add<CommandBlock>("breaker");
  command.operates = breaker;
  command.input = c.full("connected");
}

/// Energy W = C u^2/2 of the link: dW/dt = P_in - P; P = -PI(W* - W), made of squares so that it is linear.
void control_link(Composer& c, double nominal_voltage_V, const std::string& reference, double capacitance_F,
                  double bandwidth_Hz, double power_W) {
  const double w = 2 * pi * bandwidth_Hz;
  c.wanted("dc_voltage", nominal_voltage_V, "V", reference);
  c.formula("energy_error", "{} * (#dc_voltage ^ 2 - #udc ^ 2)", capacitance_F / 2);
  c.pi("link_power", "energy_error", 1.4 * w, w * w, power_W, "blocked");
}

// --- the controllers ---------------------------------------------------------------------------

void expand_one(const GridFollowing& b, Description& into) {
  Composer c("grid_following", b.name, into);
  const bool holds_link = b.regulates == "dc voltage";
  if (holds_link && (std::isnan(b.dc_voltage_V) || std::isnan(b.dc_capacitance_F)))
    c.refuse("dc_voltage", "missing; with regulates = \"dc voltage\" it is wanted, and dc_capacitance");
  watch(c, b);
  c.lock(b.voltage, b.frequency_Hz, b.lock_bandwidth_Hz);
  c.input("angle", c.full("lock.angle"));
  c.input("frequency", c.full("lock.frequency"));
  c.to_dq("i", "i", "angle");
  c.formula("p", "1.5 * (#lock.d * #i.d + #lock.q * #i.q)");
  c.formula("q", "1.5 * (#lock.q * #i.d - #lock.d * #i.q)");

  c.formula("fault", "#overcurrent or #dc_high or (#dc_low and #state.running)");
  c.formula("locked", "abs(#frequency - {}) < 2 and #lock.d > {}", b.frequency_Hz, b.least_voltage_V);
  c.input("closed", b.breaker.empty() ? "1" : b.breaker + ".closed");
  c.sequence({"off", "locking", "closing", "running", "tripped"},
             {"* > tripped: #fault", "tripped > off: #reset and not #enable", "off > locking: #enable",
              "locking > off: not #enable", "locking > closing: #locked and not #dc_low after 60 ms",
              "closing > off: not #enable", "closing > running: #closed > 0.99 after 20 ms",
              "running > off: not #enable"});
  c.formula("connected", "#state.closing or #state.running");
  command_breaker(c, b.breaker);

  c.wanted("active", b.active_W, "W", b.active_reference);
  c.wanted("reactive", b.reactive_var, "var", b.reactive_reference);
  c.formula("blocked", "not #state.running");
  const double peak = b.current_limit_A, largest_W = 1.5 * b.least_voltage_V * 2 * peak;
  if (holds_link)
    control_link(c, b.dc_voltage_V, b.dc_reference, b.dc_capacitance_F, b.dc_bandwidth_Hz, largest_W);
  c.formula("d_target", "#state.running * clamp(2 / 3 * {} / max(#lock.d, {}), -{}, {})",
            holds_link ? "(#active - #link_power)" : "#active", b.least_voltage_V, peak, peak);
  c.formula("q_room", "sqrt({} - #d_target ^ 2)", peak * peak);
  c.formula("q_target", "#state.running * clamp(-2 / 3 * #reactive / max(#lock.d, {}), -#q_room, #q_room)",
            b.least_voltage_V);
  c.ramp("id_wanted", "d_target", holds_link ? 1e9 : peak / b.ramp_s);
  c.ramp("iq_wanted", "q_target", peak / b.ramp_s);
  c.input("vd_fed", c.full("lock.d"));
  c.input("vq_fed", c.full("lock.q"));
  control_currents(c, b.inductance_H, b.current_bandwidth_Hz, 0.6);
  modulate(c, b);
}

/// Following, the voltage leads that of its bus by an angle that its power moves, P = V^2/(w L) sin(angle),
/// at 3 Hz; forming, that angle is kept as it comes about, so that neither change is a jump.
void follow_grid(Composer& c, const GridForming& b) {
  if (b.follows.empty()) {
    c.formula("offset", "if(#state.running, #offset_was, if(#live, #lock.angle - #rotor, 0))");
    return;
  }
  const double w = 2 * pi * b.frequency_Hz, reached_in = 2 * pi * 3 * c.period_s();
  c.delay("lead_was", "lead");
  c.formula("ahead_of_bus", "#rotor + #offset_was - #lock.angle");
  c.formula("lead",
            "if(#following, clamp(#lead_was + {} * (#active - #p), -1, 1), atan2(sin(#ahead_of_bus), "
            "cos(#ahead_of_bus)))",
            reached_in * w * b.inductance_H / (b.nominal_voltage_V * b.nominal_voltage_V));
  c.formula("offset",
            "if(#following, #lock.angle - #rotor + #lead, if(#state.running, #offset_was, if(#live, "
            "#lock.angle - #rotor, 0)))");
}

/// Frequency: 2 H dw/dt = (P* - P)/Pn - (w - 1)/droop, that is, droop behind a time of 2 H droop. Voltage
/// behind droop of the reactive power; a slow integral makes up for the filter, a resistance limits currents.
void expand_one(const GridForming& b, Description& into) {
  Composer c("grid_forming", b.name, into);
  watch(c, b);
  const double peak = b.nominal_voltage_V * std::sqrt(2.0 / 3);
  c.lock(b.voltage, b.frequency_Hz, 20);
  c.wires("v", b.voltage, "v");

  c.formula("fault", "#overcurrent or #dc_high or (#dc_low and #state.running)");
  c.input("closed", b.breaker.empty() ? "1" : b.breaker + ".closed");
  c.formula("live", "#lock.d > {} and abs(#lock.frequency - {}) < 2", 0.5 * peak, b.frequency_Hz);
  c.formula("dead", "#lock.d < {}", 0.1 * peak);
  c.sequence({"off", "closing", "running", "tripped"},
             {"* > tripped: #fault", "tripped > off: #reset and not #enable",
              "off > closing: #enable and not #dc_low and (#live or #dead) after 60 ms",
              "closing > off: not #enable", "closing > running: #closed > 0.99 after 20 ms",
              "running > off: not #enable"});
  c.formula("connected", "#state.closing or #state.running");
  command_breaker(c, b.breaker);

  c.wanted("active", b.active_W, "W", b.active_reference);
  c.setpoint("reactive", b.reactive_var, "var");
  c.input("follows", b.follows.empty() ? "0" : b.follows);
  c.formula("following", "#state.running and #follows");
  c.formula("deviation_wanted", "#state.running * (not #follows) * {} * (#active - #p)",
            b.frequency_droop / b.power_W);
  c.low_pass("deviation", "deviation_wanted", std::max(2 * b.inertia_s * b.frequency_droop, c.period_s()));
  c.formula("frequency", "{} * (1 + #deviation)", b.frequency_Hz);
  c.rotor("rotor", "frequency");
  // Until it runs, the angle is that of the bus, so that it starts in step with what is there.
  c.delay("offset_was", "offset");
  follow_grid(c, b);
  // The angle leads the droop by this time, which damps it.
  constexpr double lead_s = 15e-3;
  c.formula("angle", "#rotor + #offset + #state.running * {} * (#active - #p)",
            lead_s * 2 * pi * b.frequency_Hz * b.frequency_droop / b.power_W);
  c.to_dq("i", "i", "angle");
  c.to_dq("v", "v", "angle");
  c.formula("p_now", "1.5 * (#v.d * #i.d + #v.q * #i.q)");
  c.formula("q_now", "1.5 * (#v.q * #i.d - #v.d * #i.q)");
  c.delay("p_was", "p_now");
  c.low_pass("p", "p_was", 10e-3);
  c.low_pass("q", "q_now", 10e-3);

  c.setpoint("voltage", b.nominal_voltage_V, "V");
  // So does the height: what is there, or nothing.
  c.formula("v_target", "#voltage * {} * (1 + {} * (#reactive - #q))", std::sqrt(2.0 / 3),
            b.voltage_droop / b.power_W);
  c.delay("v_was", "v_wanted");
  c.formula("v_wanted",
            "if(#state.running, clamp(#v_target, #v_was - {0}, #v_was + {0}), if(#live, #lock.d, 0))",
            peak / b.ramp_s * c.period_s());
  c.formula("blocked", "not #state.running");
  // The height alone is made good: the filter's reactance stays between the two angles, for the droop to work
  // on.
  c.formula("height_error", "#v_wanted - hypot(#v.d, #v.q)");
  c.pi("height_control", "height_error", 0, 2 * pi * b.voltage_bandwidth_Hz, 0.3 * peak, "blocked");
  // Beyond its limit the current meets a resistance, as large as the delay of a period lets it be.
  c.formula("excess", "max(0, 1 - {} / max(hypot(#i.d, #i.q), 1))", b.current_limit_A);
  c.formula("resistance", "{} * #excess", 0.5 * b.inductance_H / c.period_s());
  c.low_pass("id_slow", "i.d", 5e-3);
  c.low_pass("iq_slow", "i.q", 5e-3);
  c.formula("vd", "#v_wanted + #height_control - #resistance * #i.d - {} * (#i.d - #id_slow)",
            b.virtual_resistance_ohm);
  c.formula("vq", "-#resistance * #i.q - {} * (#i.q - #iq_slow)", b.virtual_resistance_ohm);
  modulate(c, b);
}

/// i flows out of the battery through L into the leg: L di/dt = v - d u.
void expand_one(const BatteryControl& b, Description& into) {
  Composer c("battery_control", b.name, into);
  const bool holds_link = b.regulates == "dc voltage";
  if (holds_link && (std::isnan(b.dc_voltage_V) || std::isnan(b.dc_capacitance_F)))
    c.refuse("dc_voltage", "missing; with regulates = \"dc voltage\" it is wanted, and dc_capacitance");
  c.input("enable", b.enable);
  c.input("reset", b.reset.empty() ? "0" : b.reset);
  c.input("i", b.current);
  c.input("v", b.voltage);
  c.input("udc", b.dc);
  c.input("charge", b.charge);
  c.formula("fault", "abs(#i) > {}", b.trip_current_A);
  c.sequence({"off", "running", "tripped"},
             {"* > tripped: #fault", "tripped > off: #reset and not #enable",
              "off > running: #enable and #udc > #v after 20 ms", "running > off: not #enable"});
  c.formula("blocked", "not #state.running");
  c.setpoint("power", b.power_W, "W");
  const double limit = b.current_limit_A;
  if (holds_link)
    control_link(c, b.dc_voltage_V, "", b.dc_capacitance_F, b.dc_bandwidth_Hz, limit * b.dc_voltage_V);
  // The last percent of charge takes the current back evenly; so does the last percent of voltage.
  c.formula("most", "{} * clamp((#charge - {}) / 0.01, 0, 1)", limit, b.least_charge);
  c.formula("least", "-{0} * min(clamp(({1} - #charge) / 0.01, 0, 1), clamp(({2} - #v) / {3}, 0, 1))", limit,
            b.greatest_charge, b.full_V, 0.01 * b.full_V);
  c.formula("wanted", "#state.running * clamp({} / max(#v, 1), #least, #most)",
            holds_link ? "(#power + #link_power)" : "#power");
  c.formula("error", "#wanted - #i");
  const double w = 2 * pi * b.current_bandwidth_Hz;
  c.pi("control", "error", w * b.inductance_H, w * w * b.inductance_H / 8, 1e5, "blocked");
  c.formula("m", "clamp(2 * (#v - #control) / max(#udc, 10) - 1, -1, 1)");
  Modulator& m = c.add<Modulator>("pulses");
  m.bridge = b.converter;
  m.references = {c.full("m")};
  m.enable = c.full("state.running");
  m.carrier_Hz = b.carrier_Hz;
  m.dead_time_s = b.dead_time_s;
}

/// The torque that is wanted, from nothing when it starts.
void follow_torque(Composer& c, const FieldOriented& b) {
  c.wanted("torque_wanted", b.torque_Nm, "N m", b.torque_reference);
  c.formula("torque_target", "#state.running * clamp(#torque_wanted, -#torque_limit, #torque_limit)");
  c.ramp("torque", "torque_target", b.torque_rate_Nm_per_s);
}

/// The torque that takes the speed along a ramp to the one that is wanted.
void hold_speed(Composer& c, const FieldOriented& b) {
  if (std::isnan(b.inertia_kgm2)) c.refuse("inertia", "missing; it is wanted to regulate the speed");
  c.wanted("speed_wanted", b.speed_rad_per_s, "rad/s", b.speed_reference);
  c.formula("speed_target", "if(#state.running, #speed_wanted, #speed)");
  c.ramp("speed_ramp", "speed_target", b.acceleration_rad_per_s2);
  c.formula("speed_error", "#state.running * (#speed_ramp - #speed)");
  const double ws = 2 * pi * b.speed_bandwidth_Hz;
  c.pi("speed_control", "speed_error", ws * b.inertia_kgm2, ws * ws * b.inertia_kgm2 / 4, b.torque_limit_Nm,
       "idle");
  c.formula("torque", "clamp(#speed_control, -#torque_limit, #torque_limit)");
}

/// Torque 3/2 p psi iq. Of an induction machine psi is the rotor's flux, (Lm/Lr) psi counts, and the angle
/// follows from the slip Lm iq/(Tr psi).
void expand_one(const FieldOriented& b, Description& into) {
  Composer c("field_oriented", b.name, into);
  const bool induction = b.kind == "induction";
  if (induction && (std::isnan(b.rotor_time_s) || std::isnan(b.magnetizing_H) || std::isnan(b.flux_Vs) ||
                    std::isnan(b.rotor_inductance_H)))
    c.refuse("rotor_time",
             "missing; an induction machine's rotor_time, magnetizing, rotor_inductance and flux are wanted");
  if (!induction && !(b.magnet_flux_Vs > 0)) c.refuse("magnet_flux", "missing; it is wanted of magnets");
  const double p = b.pole_pairs;
  watch(c, b);
  c.input("speed", b.machine + ".speed");
  c.formula("fault", "#overcurrent or #dc_high or (#dc_low and not #state.off)");
  c.sequence({"off", "fluxing", "running", "tripped"},
             {"* > tripped: #fault", "tripped > off: #reset and not #enable",
              "off > fluxing: #enable and not #dc_low after 20 ms", "fluxing > off: not #enable",
              fmt::format("fluxing > running: 1 after {} s", b.fluxing_s), "running > off: not #enable"});
  c.formula("pulsing", "#state.running or #state.fluxing");
  c.formula("blocked", "not #pulsing");

  c.setpoint("torque_limit", b.torque_limit_Nm, "N m");
  c.formula("idle", "not #state.running");
  b.regulates == "torque" ? follow_torque(c, b) : hold_speed(c, b);

  const double limit = b.current_limit_A;
  if (induction) {
    const double factor = 1.5 * p * b.magnetizing_H / b.rotor_inductance_H;
    c.formula("id_wanted", "#pulsing * {}", b.flux_Vs / b.magnetizing_H);
    c.formula("id_filtered_in", "#id_was * {}", b.magnetizing_H);
    c.delay("id_was", "i.d");
    c.low_pass("flux", "id_filtered_in", b.rotor_time_s);
    const double most = std::sqrt(std::max(0.0, limit * limit - std::pow(b.flux_Vs / b.magnetizing_H, 2)));
    c.formula("iq_wanted", "clamp(#torque / ({} * max(#flux, {})), -{}, {})", factor, 0.1 * b.flux_Vs, most,
              most);
    c.formula("slip", "{} * #iq_wanted / max(#flux, {})", b.magnetizing_H / b.rotor_time_s, 0.1 * b.flux_Vs);
    c.formula("frequency", "({} * #speed + #slip) / (2 * pi)", p);
    c.rotor("angle", "frequency");
    c.formula("vd_fed", "0");
    c.formula("vq_fed", "2 * pi * #frequency * {} * #flux", b.magnetizing_H / b.rotor_inductance_H);
  } else {
    c.formula("id_wanted", "0");
    c.formula("iq_wanted", "clamp(#torque / {}, -{}, {})", 1.5 * p * b.magnet_flux_Vs, limit, limit);
    c.formula("frequency", "{} * #speed / (2 * pi)", p);
    c.input("angle", b.machine + ".angle");
    c.formula("vd_fed", "0");
    c.formula("vq_fed", "2 * pi * #frequency * {}", b.magnet_flux_Vs);
  }
  c.to_dq("i", "i", "angle");
  control_currents(c, b.inductance_H, b.current_bandwidth_Hz, 0.577);
  modulate(c, b);
  std::get<Modulator>(into.blocks.back()).enable = c.full("pulsing");
}

void expand_one(const VoltsPerHertz& b, Description& into) {
  Composer c("volts_per_hertz", b.name, into);
  watch(c, b);
  c.formula("fault", "#overcurrent or #dc_high or (#dc_low and not #state.off)");
  c.sequence({"off", "running", "tripped"},
             {"* > tripped: #fault", "tripped > off: #reset and not #enable",
              "off > running: #enable and not #dc_low after 20 ms", "running > off: not #enable"});
  c.setpoint("speed", b.speed_Hz, "Hz");
  c.formula("target", "#state.running * #speed");
  c.ramp("frequency", "target", b.ramp_Hz_per_s);
  c.rotor("angle", "frequency");
  const double peak = b.nominal_voltage_V * std::sqrt(2.0 / 3), boost = b.boost_V * std::sqrt(2.0 / 3);
  c.formula("vd", "min({}, {} + {} * abs(#frequency))", peak, boost, (peak - boost) / b.frequency_Hz);
  c.formula("vq", "0");
  modulate(c, b);
}

}  // namespace

Description expand(const Description& description) {
  Description all = description;
  all.ready.clear();
  for (const Ready& ready : description.ready)
    std::visit([&](const auto& one) { expand_one(one, all); }, ready);
  return all;
}

}  // namespace zavrek::control
