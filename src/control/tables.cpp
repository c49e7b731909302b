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
  return table;
}
constexpr const char* input_doc = "a number, a block's output, or a signal of the plant; - in front negates";

}  // namespace

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
                                 .build();
  return built;
}
const Table& table(const Product*) {
  static const Table built = block<Product>("product", "multiplies its inputs")
                                 .texts("inputs", &Product::inputs, input_doc, Need::required)
                                 .build();
  return built;
}
const Table& table(const Pi*) {
  static const Table built =
      block<Pi>("pi", "proportional, integral and derivative control; the integral stops at the limits")
          .text("input", &Pi::input, input_doc)
          .quantity("proportional", &Pi::proportional, "", any(), "gain")
          .quantity("integral", &Pi::integral_per_s, "", any(), "gain per second")
          .quantity("derivative", &Pi::derivative_s, "", any(), "gain times second, on the change per period")
          .quantity("low", &Pi::low, "", any(), "least output")
          .quantity("high", &Pi::high, "", any(), "greatest output")
          .text("reset", &Pi::reset, "holds the output at start while above 0.5", Need::optional)
          .quantity("start", &Pi::start, "", any(), "integral at the start and after a reset")
          .build();
  return built;
}
const Table& table(const LowPass*) {
  static const Table built = block<LowPass>("low_pass", "first-order filter, exact for steps")
                                 .text("input", &LowPass::input, input_doc)
                                 .quantity("time", &LowPass::time_s, "ms", above(0), "time constant")
                                 .quantity("start", &LowPass::start, "", any(), "output at the start")
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
          .build();
  return built;
}
const Table& table(const Limiter*) {
  static const Table built =
      block<Limiter>("limiter", "limits a value and how fast it changes")
          .text("input", &Limiter::input, input_doc)
          .quantity("low", &Limiter::low, "", any(), "least output")
          .quantity("high", &Limiter::high, "", any(), "greatest output")
          .quantity("rise", &Limiter::rise_per_s, "", above(0), "fastest rise per second")
          .quantity("fall", &Limiter::fall_per_s, "", above(0), "fastest fall per second")
          .quantity("start", &Limiter::start, "", any(), "output at the start")
          .build();
  return built;
}
const Table& table(const Curve*) {
  static const Table built =
      block<Curve>("curve", "output over input, straight between the points, held beyond them")
          .text("input", &Curve::input, input_doc)
          .texts("points", &Curve::points, "such as [\"0: 0\", \"10: 1\"]", Need::required)
          .build();
  return built;
}
const Table& table(const Delay*) {
  static const Table built = block<Delay>("delay", "what came in some periods ago")
                                 .text("input", &Delay::input, input_doc)
                                 .count("periods", &Delay::periods, within(1, 10000), "how many")
                                 .quantity("start", &Delay::start, "", any(), "output until then")
                                 .build();
  return built;
}
const Table& table(const Comparator*) {
  static const Table built =
      block<Comparator>("comparator", "1 above a level, 0 below another")
          .text("input", &Comparator::input, input_doc)
          .quantity("on_above", &Comparator::on_above, "", any(), "level that turns it on")
          .quantity("off_below", &Comparator::off_below, "", any(), "level that turns it off")
          .build();
  return built;
}
const Table& table(const Timer*) {
  static const Table built =
      block<Timer>("timer", "follows a state after it has lasted")
          .text("input", &Timer::input, input_doc)
          .quantity("on_delay", &Timer::on_delay_s, "ms", at_least(0), "1 this long before it shows")
          .quantity("off_delay", &Timer::off_delay_s, "ms", at_least(0), "0 this long before it shows")
          .build();
  return built;
}
const Table& table(const Latch*) {
  static const Table built = block<Latch>("latch", "1 from set until reset, which wins")
                                 .text("set", &Latch::set, input_doc)
                                 .text("reset", &Latch::reset, input_doc, Need::optional)
                                 .build();
  return built;
}
const Table& table(const Logic*) {
  static const Table built = block<Logic>("logic", "of states, 1 being above 0.5")
                                 .choice("operation", &Logic::operation, {"and", "or", "not", "exclusive or"},
                                         "of all inputs; not: none of them")
                                 .texts("inputs", &Logic::inputs, input_doc, Need::required)
                                 .build();
  return built;
}
const Table& table(const Select*) {
  static const Table built = block<Select>("select", "one of two inputs")
                                 .text("when", &Select::when, "chooses `then` while above 0.5")
                                 .text("then", &Select::then, input_doc)
                                 .text("otherwise", &Select::otherwise, input_doc)
                                 .build();
  return built;
}
const Table& table(const Clock*) {
  static const Table built =
      block<Clock>("program", "value over time, straight between the points, held beyond them")
          .points("values", &Clock::values, "s", "", "such as [\"0 s: 0\", \"0.1 s: 1\"]")
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
          .build();
  return built;
}
const Table& table(const FromDq*) {
  static const Table built = block<FromDq>("from_dq", "three phases a, b, c of rotating components")
                                 .text("d", &FromDq::d, input_doc)
                                 .text("q", &FromDq::q, input_doc)
                                 .text("angle", &FromDq::angle, "of the d axis against phase a, rad")
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
          .build();
  return built;
}
const Table& table(const Rotor*) {
  static const Table built = block<Rotor>("rotor", "angle that turns with a frequency in Hz, 0 to 2 pi")
                                 .text("frequency", &Rotor::frequency, "Hz")
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
          .build();
  return built;
}
const Table& table(const Rms*) {
  static const Table built = block<Rms>("rms", "root mean square over a sliding window")
                                 .text("input", &Rms::input, input_doc)
                                 .quantity("window", &Rms::window_s, "ms", above(0), "its length")
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
          .quantity("carrier", &Modulator::carrier_Hz, "kHz", above(0),
                    "its frequency; the block's period is half or all of the carrier's")
          .quantity("dead_time", &Modulator::dead_time_s, "us", at_least(0),
                    "between one valve of a leg going off and the other going on")
          .choice("levels", &Modulator::levels, {"two", "three"}, "of the bridge")
          .flag("third_harmonic", &Modulator::third_harmonic,
                "adds to all references what centres them (space-vector modulation of two levels)")
          .build();
  return built;
}
const Table& table(const Actuator*) {
  static const Table built = block<Actuator>("actuator", "turns a knob of the plant")
                                 .text("knob", &Actuator::knob, "such as \"gen.power_reference\"")
                                 .text("input", &Actuator::input, input_doc)
                                 .build();
  return built;
}
const Table& table(const Command*) {
  static const Table built =
      block<Command>("command", "closes a breaker when its input rises, opens it when it falls")
          .text("operates", &Command::operates, "breaker, disconnector or earthing switch")
          .text("input", &Command::input, "closed while above 0.5")
          .build();
  return built;
}

}  // namespace zavrek::control
