#include "zavrek/control/blocks.hpp"

namespace zavrek::control {
namespace {

using network::above;
using network::any;
using network::at_least;
using network::Need;
using network::TableOf;
using network::within;

/// A table that starts with what every block has.
template <class T>
TableOf<T> block(std::string kind, std::string doc) {
  TableOf<T> table(std::move(kind), std::move(doc));
  table.quantity("period", static_cast<double T::*>(&T::period_s), "us", above(0),
                 "between its executions; the period of the control when left out", Need::optional);
  table.text(
      "unit", static_cast<std::string T::*>(&T::unit),
      "of what it gives, in which trials write it, such as \"kW\"; deduced when left out and its inputs tell",
      Need::optional);
  return table;
}
constexpr const char* input_doc = "a number, a block's output, or a signal of the plant; - in front negates";

}  // namespace

Description::Description() = default;
Description::Description(const Description&) = default;
Description::Description(Description&&) noexcept = default;
Description& Description::operator=(const Description&) = default;
Description& Description::operator=(Description&&) noexcept = default;
Description::~Description() = default;

const Table& table(const Description*) {
  static const Table built =
      TableOf<Description>("control", "control.toml: blocks executed beside the plant")
          .quantity("period", &Description::period_s, "us", above(0), "of blocks that do not say their own")
          .build();
  return built;
}
const Table& table(const Sum*) {
  static const Table built = block<Sum>("sum", "adds its inputs, times gain")
                                 .texts("inputs", &Sum::inputs, input_doc, Need::required)
                                 .quantity("gain", &Sum::gain, "", any(), "on the sum")
                                 .changeable()
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Product*) {
  static const Table built = block<Product>("product", "multiplies its inputs")
                                 .texts("inputs", &Product::inputs, input_doc, Need::required)
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Pi*) {
  static const Table built =
      block<Pi>("pi", "proportional, integral and derivative control; the integral stops at the limits")
          .text("input", &Pi::input, input_doc)
          .quantity("proportional", &Pi::proportional, "", any(), "gain")
          .changeable()
          .quantity("integral", &Pi::integral_per_s, "", any(), "gain per second")
          .changeable()
          .quantity("derivative", &Pi::derivative_s, "", any(), "gain times second, on the change per period")
          .quantity("low", &Pi::low, "", any(), "least output")
          .changeable()
          .quantity("high", &Pi::high, "", any(), "greatest output")
          .changeable()
          .text("reset", &Pi::reset, "holds the output at start while above 0.5", Need::optional)
          .quantity("start", &Pi::start, "", any(), "integral at the start and after a reset")
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const LowPass*) {
  static const Table built = block<LowPass>("low_pass", "first-order filter, exact for steps")
                                 .text("input", &LowPass::input, input_doc)
                                 .quantity("time", &LowPass::time_s, "ms", above(0), "time constant")
                                 .quantity("start", &LowPass::start, "", any(), "output at the start")
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Transfer*) {
  static const Table built =
      block<Transfer>("transfer", "transfer function in s, made discrete by the trapezoidal rule")
          .text("input", &Transfer::input, input_doc)
          .texts("numerator", &Transfer::numerator, "coefficients, highest power of s first", Need::required)
          .texts("denominator", &Transfer::denominator, "coefficients, highest power of s first",
                 Need::required)
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const Limiter*) {
  static const Table built =
      block<Limiter>("limiter", "limits a value and how fast it changes")
          .text("input", &Limiter::input, input_doc)
          .quantity("low", &Limiter::low, "", any(), "least output")
          .changeable()
          .quantity("high", &Limiter::high, "", any(), "greatest output")
          .changeable()
          .quantity("rise", &Limiter::rise_per_s, "", above(0), "fastest rise per second")
          .quantity("fall", &Limiter::fall_per_s, "", above(0), "fastest fall per second")
          .quantity("start", &Limiter::start, "", any(), "output at the start")
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const CurveBlock*) {
  static const Table built =
      block<CurveBlock>("curve", "output over input, straight between the points, held beyond them")
          .text("input", &CurveBlock::input, input_doc)
          .texts("points", &CurveBlock::points, "such as [\"0: 0\", \"10: 1\"]", Need::required)
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const Delay*) {
  static const Table built = block<Delay>("delay", "what came in some periods ago")
                                 .text("input", &Delay::input, input_doc)
                                 .count("periods", &Delay::periods, within(1, 10000), "how many")
                                 .quantity("start", &Delay::start, "", any(), "output until then")
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Comparator*) {
  static const Table built =
      block<Comparator>("comparator", "1 above a level, 0 below another")
          .text("input", &Comparator::input, input_doc)
          .quantity("on_above", &Comparator::on_above, "", any(), "level that turns it on")
          .changeable()
          .quantity("off_below", &Comparator::off_below, "", any(), "level that turns it off")
          .changeable()
          .gives("", "", "1 or 0")
          .build();
  return built;
}
const Table& table(const Timer*) {
  static const Table built =
      block<Timer>("timer", "follows a state after it has lasted")
          .text("input", &Timer::input, input_doc)
          .quantity("on_delay", &Timer::on_delay_s, "ms", at_least(0), "1 this long before it shows")
          .quantity("off_delay", &Timer::off_delay_s, "ms", at_least(0), "0 this long before it shows")
          .gives("", "", "1 or 0")
          .build();
  return built;
}
const Table& table(const LatchBlock*) {
  static const Table built = block<LatchBlock>("latch", "1 from set until reset, which wins")
                                 .text("set", &LatchBlock::set, input_doc)
                                 .text("reset", &LatchBlock::reset, input_doc, Need::optional)
                                 .gives("", "", "1 or 0")
                                 .build();
  return built;
}
const Table& table(const LogicBlock*) {
  static const Table built =
      block<LogicBlock>("logic", "of states, 1 being above 0.5")
          .choice("operation", &LogicBlock::operation, {"and", "or", "not", "exclusive or"},
                  "of all inputs; not: none of them")
          .texts("inputs", &LogicBlock::inputs, input_doc, Need::required)
          .gives("", "", "1 or 0")
          .build();
  return built;
}
const Table& table(const Select*) {
  static const Table built = block<Select>("select", "one of two inputs")
                                 .text("when", &Select::when, "chooses `then` while above 0.5")
                                 .text("then", &Select::then, input_doc)
                                 .text("otherwise", &Select::otherwise, input_doc)
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Clock*) {
  static const Table built =
      block<Clock>("program", "value over time, straight between the points, held beyond them")
          .points("values", &Clock::values, "s", "", "such as [\"0 s: 0\", \"0.1 s: 1\"]", Need::required)
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const ToDq*) {
  static const Table built =
      block<ToDq>("to_dq", "rotating components d, q, zero of three phases (Park, amplitudes kept)")
          .text("a", &ToDq::a, input_doc)
          .text("b", &ToDq::b, input_doc)
          .text("c", &ToDq::c, input_doc)
          .text("angle", &ToDq::angle, "of the d axis against phase a, rad")
          .gives("d", "", "in the unit of what is read")
          .gives("q", "", "likewise, a quarter ahead of d")
          .gives("zero", "", "mean of the three")
          .build();
  return built;
}
const Table& table(const FromDq*) {
  static const Table built = block<FromDq>("from_dq", "three phases a, b, c of rotating components")
                                 .text("d", &FromDq::d, input_doc)
                                 .text("q", &FromDq::q, input_doc)
                                 .text("angle", &FromDq::angle, "of the d axis against phase a, rad")
                                 .gives("a", "", "phase a, in the unit of what is read")
                                 .gives("b", "", "phase b")
                                 .gives("c", "", "phase c")
                                 .build();
  return built;
}
const Table& table(const PhaseLock*) {
  static const Table built =
      block<PhaseLock>("phase_lock", "phase-locked loop in rotating components: angle, frequency (Hz), d, q")
          .text("a", &PhaseLock::a, input_doc)
          .text("b", &PhaseLock::b, input_doc)
          .text("c", &PhaseLock::c, input_doc)
          .quantity("frequency", &PhaseLock::frequency_Hz, "Hz", above(0), "at the start")
          .quantity("bandwidth", &PhaseLock::bandwidth_Hz, "Hz", above(0), "natural frequency of the loop")
          .quantity("damping", &PhaseLock::damping, "", above(0), "of the loop")
          .quantity("low", &PhaseLock::low_Hz, "Hz", above(0), "least frequency")
          .quantity("high", &PhaseLock::high_Hz, "Hz", above(0), "greatest frequency")
          .gives("angle", "rad", "of the positive sequence, 0 where phase a has its peak")
          .gives("frequency", "Hz", "as it is locked")
          .gives("d", "", "in line with it, in the unit of what is read")
          .gives("q", "", "a quarter ahead of it")
          .build();
  return built;
}
const Table& table(const Rotor*) {
  static const Table built = block<Rotor>("rotor", "angle that turns with a frequency in Hz, 0 to 2 pi")
                                 .text("frequency", &Rotor::frequency, "Hz")
                                 .gives("", "rad", "its angle, 0 to 2 pi")
                                 .build();
  return built;
}
const Table& table(const Power*) {
  static const Table built =
      block<Power>("power", "instantaneous active and reactive power p, q of three phases")
          .text("va", &Power::va, input_doc)
          .text("vb", &Power::vb, input_doc)
          .text("vc", &Power::vc, input_doc)
          .text("ia", &Power::ia, input_doc)
          .text("ib", &Power::ib, input_doc)
          .text("ic", &Power::ic, input_doc)
          .gives("p", "W", "positive in the direction of the currents that are read")
          .gives("q", "var", "positive when the currents lag")
          .build();
  return built;
}
const Table& table(const Rms*) {
  static const Table built = block<Rms>("rms", "root mean square over a sliding window")
                                 .text("input", &Rms::input, input_doc)
                                 .quantity("window", &Rms::window_s, "ms", above(0), "its length")
                                 .gives("", "", "its value")
                                 .build();
  return built;
}
const Table& table(const Modulator*) {
  static const Table built =
      block<Modulator>("modulator", "gates of a bridge from references between -1 and 1, against a triangle")
          .text("bridge", &Modulator::bridge, "whose gates it drives")
          .texts("references", &Modulator::references, "one per leg, of half the d.c. voltage",
                 Need::required)
          .text("enable", &Modulator::enable, "all gates are off while this is below 0.5")
          .text("offset", &Modulator::offset,
                "added to all references, which moves the neutral point of three levels", Need::optional)
          .quantity("carrier", &Modulator::carrier_Hz, "kHz", above(0),
                    "its frequency; the block's period is half or all of the carrier's")
          .quantity("dead_time", &Modulator::dead_time_s, "us", at_least(0),
                    "between one valve of a leg going off and the other going on")
          .choice("levels", &Modulator::levels, {"two", "three"}, "of the bridge")
          .flag("third_harmonic", &Modulator::third_harmonic,
                "adds to all references what centres them (space-vector modulation of two levels)")
          .gives("a", "", "reference of that leg as it is compared, -1 to 1")
          .gives("b", "", "the same of leg b")
          .gives("c", "", "the same of leg c")
          .build();
  return built;
}
const Table& table(const Firing*) {
  static const Table built =
      block<Firing>("firing", "pulses of a thyristor bridge, so far behind natural commutation")
          .text("bridge", &Firing::bridge,
                "whose gates it drives; NAME.delta for a twelve-pulse bridge's lower half")
          .text("angle", &Firing::angle, "of phase a's voltage, rad, 0 at its peak")
          .text("frequency", &Firing::frequency, "Hz, with which that angle turns")
          .text("delay", &Firing::delay, "rad, of the pulses; 0 makes it a diode bridge")
          .text("enable", &Firing::enable, "no pulses while this is below 0.5")
          .quantity("width", &Firing::width_rad, "deg", above(0), "of a pulse")
          .gives("", "rad", "its delay, as it is used")
          .build();
  return built;
}
const Table& table(const GateDrive*) {
  static const Table built = block<GateDrive>("gate", "a gate that follows a state")
                                 .text("gate", &GateDrive::gate, "such as \"B2.valve\"")
                                 .text("input", &GateDrive::input, "on while above 0.5")
                                 .gives("", "", "1 while it is on")
                                 .build();
  return built;
}
const Table& table(const Actuator*) {
  static const Table built = block<Actuator>("actuator", "turns a knob of the plant")
                                 .text("knob", &Actuator::knob, "such as \"gen.power_reference\"")
                                 .text("input", &Actuator::input, input_doc)
                                 .gives("", "", "what the knob is turned to")
                                 .build();
  return built;
}
const Table& table(const CommandBlock*) {
  static const Table built =
      block<CommandBlock>("command", "closes a breaker when its input rises, opens it when it falls")
          .text("operates", &CommandBlock::operates, "breaker, disconnector or earthing switch")
          .text("input", &CommandBlock::input, "closed while above 0.5")
          .gives("", "", "1 while it wants it closed")
          .build();
  return built;
}

const Table& table(const Setpoint*) {
  static const Table built = block<Setpoint>("setpoint", "a value that can be changed while running, as NAME")
                                 .quantity("value", &Setpoint::value, "", any(), "at the start, in `unit`")
                                 .changeable()
                                 .gives("", "", "as it stands, in the SI unit of `unit`")
                                 .build();
  return built;
}
const Table& table(const Sensor*) {
  static const Table built =
      block<Sensor>("sensor", "what measures a signal, with its errors and failures")
          .text("input", &Sensor::input, input_doc)
          .quantity("gain", &Sensor::gain, "", any(), "on the signal")
          .changeable()
          .quantity("offset", &Sensor::offset, "", any(), "added to it")
          .changeable()
          .quantity("noise", &Sensor::noise, "", at_least(0), "standard deviation")
          .changeable()
          .quantity("frozen", &Sensor::frozen, "", within(0, 1), "1: it shows what it showed last")
          .changeable()
          .quantity("dead", &Sensor::dead, "", within(0, 1), "1: it shows the offset alone")
          .changeable()
          .quantity("low", &Sensor::low, "", any(), "end of its range")
          .quantity("high", &Sensor::high, "", any(), "end of its range")
          .quantity("resolution", &Sensor::resolution, "", at_least(0),
                    "least step of its output; 0 for none")
          .count("seed", &Sensor::seed, at_least(0), "of the noise")
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const Expression*) {
  static const Table built =
      block<Expression>("expression", "a formula over blocks and signals of the plant")
          .text("formula", &Expression::formula,
                "such as \"2/3 * p / max(lock.d, 10)\"; + - * / ^, comparisons, and, or, not, sin, cos, tan, "
                "asin, acos, atan, atan2, exp, log, sqrt, hypot, abs, sign, floor, mod, min, max, clamp(x, "
                "low, "
                "high), if(state, then, otherwise), pi, t")
          .gives("", "", "its value")
          .build();
  return built;
}
const Table& table(const Counter*) {
  static const Table built =
      block<Counter>("counter", "how often its input has risen")
          .text("input", &Counter::input, input_doc)
          .text("reset", &Counter::reset, "back to 0 while above 0.5", Need::optional)
          .count("wraps_at", &Counter::wraps_at, at_least(0), "number that is shown as 0 again; 0 for none")
          .gives("", "", "how often")
          .build();
  return built;
}
const Table& table(const Sequence*) {
  static const Table built =
      block<Sequence>("sequence", "state machine: shows the number of its state, and NAME.STATE for each")
          .texts("states", &Sequence::states, "names; it starts in the first", Need::required)
          .texts("steps", &Sequence::steps,
                 "such as [\"off > run: start and v > 300 after 20 ms\", \"* > off: trip\"]; the first that "
                 "holds is taken, one per period; the new state shows at the next",
                 Need::required)
          .gives("", "", "number of its state, the first being 0")
          .gives("*", "", "1 while it is in that state")
          .build();
  return built;
}
const Table& table(const Plan*) {
  static const Table built =
      block<Plan>(
          "plan",
          "keeps what somebody further away has ordered, while he lives; NAME.fresh says whether he does")
          .text("input", &Plan::input, "what he orders, such as a set point that a port sets")
          .text("beat", &Plan::beat, "what moves as long as he lives: a counter that he sends")
          .text("otherwise", &Plan::otherwise, "what holds without him", Need::optional)
          .quantity("lasts", &Plan::lasts_s, "s", above(0), "for which the beat may stand still")
          .changeable()
          .gives("", "", "what holds now")
          .gives("fresh", "", "1 while the beat moves")
          .build();
  return built;
}
const Table& table(const LoadShedding*) {
  static const Table built =
      block<LoadShedding>(
          "load_shedding",
          "sheds loads by priority when the grid is lost: NAME.LOAD is on while one stays, NAME counts those "
          "that are shed, NAME.kept is what the others need (W)")
          .text("lost", &LoadShedding::lost, "on while the grid is lost")
          .text("available", &LoadShedding::available, "W that can be given without it")
          .texts("loads", &LoadShedding::loads,
                 "with what each needs, the first kept to the last: [\"stores: 170 kW\", \"offices: "
                 "offices_power\"]",
                 Need::required)
          .quantity("restore_after", &LoadShedding::restore_after_s, "s", at_least(0),
                    "for which there must be enough until the next comes back")
          .changeable()
          .quantity("margin", &LoadShedding::margin, "%", within(0, 1),
                    "of what is available, that must be left for one to come back")
          .changeable()
          .gives("", "", "number of loads that are shed")
          .gives("kept", "W", "what the others need")
          .gives("*", "", "1 while that load stays")
          .build();
  return built;
}
const Table& table(const Synchroniser*) {
  static const Table built =
      block<Synchroniser>("synchroniser",
                          "whether two live voltages may be connected; NAME.angle (rad, of the first ahead) "
                          "and NAME.slip (Hz)")
          .text("amplitude_1", &Synchroniser::amplitude_1, "V, such as a phase lock's NAME.d")
          .text("frequency_1", &Synchroniser::frequency_1, "Hz")
          .text("angle_1", &Synchroniser::angle_1, "rad")
          .text("amplitude_2", &Synchroniser::amplitude_2, "V, of the other side")
          .text("frequency_2", &Synchroniser::frequency_2, "Hz")
          .text("angle_2", &Synchroniser::angle_2, "rad")
          .quantity("least_voltage", &Synchroniser::least_voltage_V, "V", at_least(0),
                    "amplitude below which a side is dead")
          .changeable()
          .quantity("voltage", &Synchroniser::voltage, "%", within(0, 1), "difference at most, of the larger")
          .changeable()
          .quantity("frequency", &Synchroniser::frequency_Hz, "Hz", at_least(0), "difference at most")
          .changeable()
          .quantity("angle", &Synchroniser::angle_rad, "deg", at_least(0),
                    "difference at most, when the contacts meet")
          .changeable()
          .quantity("closing_time", &Synchroniser::closing_time_s, "ms", at_least(0),
                    "of the breaker, ahead of which it is released")
          .changeable()
          .quantity("lasts", &Synchroniser::lasts_s, "ms", at_least(0), "for which all of that must hold")
          .changeable()
          .gives("", "", "1 while they may be connected")
          .gives("angle", "rad", "of the first side ahead of the second")
          .gives("slip", "Hz", "frequency of the first side over the second")
          .build();
  return built;
}
const Table& table(const Vehicle*) {
  static const Table built =
      block<Vehicle>(
          "vehicle",
          "what drives move on a road, on two axles: its speed (m/s), distance (m), acceleration "
          "(m/s2), front_speed and rear_speed of the machines (rad/s), grip (of the adhesion, used)")
          .text("front", &Vehicle::front, "torque of the machine of the front axle, N m", Need::optional)
          .text("rear", &Vehicle::rear, "and of the rear axle", Need::optional)
          .text("brake", &Vehicle::brake, "0 to 1 of brake_force", Need::optional)
          .text("slope", &Vehicle::slope, "of the road where it is, rise over length, uphill positive",
                Need::optional)
          .quantity("mass", &Vehicle::mass_kg, "t", above(0), "on its own axles")
          .quantity("drawn", &Vehicle::drawn_kg, "t", at_least(0), "mass that it draws, on wheels of its own")
          .changeable()
          .quantity("wheelbase", &Vehicle::wheelbase_m, "m", above(0), "between its axles")
          .quantity("height", &Vehicle::height_m, "m", at_least(0), "of its centre of gravity")
          .quantity("front_share", &Vehicle::front_share, "%", within(0, 1),
                    "of its weight, on the front axle at rest on level ground")
          .quantity("radius", &Vehicle::radius_m, "m", above(0), "of its wheels")
          .quantity("ratio", &Vehicle::ratio, "", above(0), "turns of a machine in one of its wheels")
          .quantity("efficiency", &Vehicle::efficiency, "%", within(0.1, 1),
                    "of the gears, driving and braking")
          .quantity("axle_inertia", &Vehicle::axle_inertia_kgm2, "kg m^2", above(0),
                    "of each axle with its machine, about the wheels (the machine's own times ratio squared)")
          .quantity("rolling", &Vehicle::rolling, "%", at_least(0), "rolling resistance over weight")
          .changeable()
          .quantity("drag_area", &Vehicle::drag_area_m2, "m^2", at_least(0),
                    "drag coefficient times front area")
          .quantity("brake_force", &Vehicle::brake_force_N, "kN", at_least(0),
                    "of its own brakes, divided as the weight at rest")
          .quantity("adhesion", &Vehicle::adhesion, "", above(0), "largest force of a tyre over its weight")
          .changeable()
          .quantity("stiffness", &Vehicle::stiffness, "", above(0),
                    "force over weight and slip, for small slip")
          .gives("", "m/s", "speed")
          .gives("distance", "m", "since the start")
          .gives("acceleration", "m/s2", "forward")
          .gives("front_speed", "rad/s", "of the front axle's machine")
          .gives("rear_speed", "rad/s", "of the rear axle's machine")
          .gives("grip", "", "share of the adhesion that is used")
          .build();
  return built;
}
const Table& table(const ToAlphaBeta*) {
  static const Table built =
      block<ToAlphaBeta>("to_alpha_beta", "fixed components alpha, beta, zero (Clarke, amplitudes kept)")
          .text("a", &ToAlphaBeta::a, input_doc)
          .text("b", &ToAlphaBeta::b, input_doc)
          .text("c", &ToAlphaBeta::c, input_doc)
          .gives("alpha", "", "in line with phase a, in the unit of what is read")
          .gives("beta", "", "a quarter ahead of alpha")
          .gives("zero", "", "mean of the three")
          .build();
  return built;
}
const Table& table(const FromAlphaBeta*) {
  static const Table built =
      block<FromAlphaBeta>("from_alpha_beta", "three phases a, b, c of fixed components")
          .text("alpha", &FromAlphaBeta::alpha, input_doc)
          .text("beta", &FromAlphaBeta::beta, input_doc)
          .gives("a", "", "phase a, in the unit of what is read")
          .gives("b", "", "phase b")
          .gives("c", "", "phase c")
          .build();
  return built;
}
const Table& table(const IntegratorLock*) {
  static const Table built =
      block<IntegratorLock>("integrator_lock",
                            "phase-locked loop of one voltage behind a second-order generalised integrator: "
                            "angle, frequency (Hz), amplitude, direct, quadrature")
          .text("input", &IntegratorLock::input, input_doc)
          .quantity("frequency", &IntegratorLock::frequency_Hz, "Hz", above(0), "at the start")
          .quantity("damping", &IntegratorLock::damping, "", above(0), "of the integrator: its width")
          .quantity("bandwidth", &IntegratorLock::bandwidth_Hz, "Hz", above(0),
                    "natural frequency of the loop")
          .quantity("low", &IntegratorLock::low_Hz, "Hz", above(0), "least frequency")
          .quantity("high", &IntegratorLock::high_Hz, "Hz", above(0), "greatest frequency")
          .gives("angle", "rad", "0 where the voltage has its peak")
          .gives("frequency", "Hz", "as it is locked")
          .gives("amplitude", "", "peak, in the unit of what is read")
          .gives("direct", "", "filtered")
          .gives("quadrature", "", "a quarter behind that")
          .build();
  return built;
}
const Table& table(const Separation*) {
  static const Table built =
      block<Separation>("separation",
                        "positive and negative sequence by what stood a quarter period ago: positive_d, "
                        "positive_q, negative_d, negative_q")
          .text("a", &Separation::a, input_doc)
          .text("b", &Separation::b, input_doc)
          .text("c", &Separation::c, input_doc)
          .text("angle", &Separation::angle,
                "with which the positive components turn; the negative against it")
          .quantity("frequency", &Separation::frequency_Hz, "Hz", above(0), "of the quarter period")
          .gives("positive_d", "", "in the unit of what is read")
          .gives("positive_q", "", "a quarter ahead of that")
          .gives("negative_d", "", "turning the other way")
          .gives("negative_q", "", "a quarter ahead of that")
          .build();
  return built;
}
const Table& table(const PowerTracker*) {
  static const Table built =
      block<PowerTracker>("power_tracker",
                          "maximum power point by perturbing and observing: the voltage to hold, power")
          .text("voltage", &PowerTracker::voltage, "of the array")
          .text("current", &PowerTracker::current, "of the array")
          .text("enable", &PowerTracker::enable, "at start while below 0.5")
          .quantity("step", &PowerTracker::step, "", above(0), "V, by which the voltage moves each period")
          .changeable()
          .quantity("low", &PowerTracker::low, "", any(), "V, least voltage")
          .quantity("high", &PowerTracker::high, "", any(), "V, greatest voltage")
          .quantity("start", &PowerTracker::start, "", any(), "V, until it is enabled")
          .gives("", "V", "voltage to hold")
          .gives("power", "W", "of the array")
          .build();
  return built;
}
const Table& table(const OwnCode*) {
  static const Table built =
      block<OwnCode>("own", "a controller of your own: a shared library or a class of your program")
          .text("library", &OwnCode::library,
                "shared library, relative to the case (zavrek/controller.h), or a co-simulation unit (.fmu, "
                "FMI 2.0 or 3.0)",
                Need::optional)
          .text("code", &OwnCode::code, "name under which the program gave its class", Need::optional)
          .texts("inputs", &OwnCode::inputs, "such as [\"v: C2.v\", \"i: L1.ia\"]")
          .texts("parameters", &OwnCode::parameters, "such as [\"gain: 0.3\"]")
          .gives("*", "", "an output, as its code names it")
          .build();
  return built;
}

}  // namespace zavrek::control
