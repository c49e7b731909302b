// Descriptions of control blocks. An input is written as a number with or without a unit, the name of another
// block (its first output), one of a block's outputs ("pll.angle"), or a signal of the plant ("grid.va"),
// with
// "-" in front for its negative.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "zavrek/control/ready.hpp"
#include "zavrek/network/field.hpp"

namespace zavrek::control {

using network::Points;

/// What every block has. `period_s`: between its executions; the case's control period when unset.
struct BlockBase {
  std::string name;
  double period_s = unset;
};

struct Sum : BlockBase {
  std::vector<std::string> inputs;
  double gain = 1;
};
struct Product : BlockBase {
  std::vector<std::string> inputs;
};
struct Pi : BlockBase {
  std::string input;
  double proportional = 1;
  double integral_per_s = 0;
  double derivative_s = 0;
  double low = -1e30, high = 1e30;
  std::string reset;
  double start = 0;
};
struct LowPass : BlockBase {
  std::string input;
  double time_s = unset;
  double start = 0;
};
struct Transfer : BlockBase {
  std::string input;
  std::vector<std::string> numerator, denominator;
};
struct Limiter : BlockBase {
  std::string input;
  double low = -1e30, high = 1e30;
  double rise_per_s = 1e30, fall_per_s = 1e30;
  double start = 0;
};
struct CurveBlock : BlockBase {
  std::string input;
  std::vector<std::string> points;
};
struct Delay : BlockBase {
  std::string input;
  int periods = 1;
  double start = 0;
};
struct Comparator : BlockBase {
  std::string input;
  double on_above = 0, off_below = 0;
};
struct Timer : BlockBase {
  std::string input;
  double on_delay_s = 0, off_delay_s = 0;
};
struct LatchBlock : BlockBase {
  std::string set, reset;
};
struct LogicBlock : BlockBase {
  std::string operation = "and";
  std::vector<std::string> inputs;
};
struct Select : BlockBase {
  std::string when, then, otherwise;
};
struct Clock : BlockBase {
  Points values;
};
struct ToDq : BlockBase {
  std::string a, b, c, angle;
};
struct FromDq : BlockBase {
  std::string d, q, angle;
};
struct PhaseLock : BlockBase {
  std::string a, b, c;
  double frequency_Hz = 50;
  double bandwidth_Hz = 20;
  double damping = 0.7;
  double low_Hz = 30, high_Hz = 80;
};
struct Rotor : BlockBase {
  std::string frequency;
};
struct Power : BlockBase {
  std::string va, vb, vc, ia, ib, ic;
};
struct Rms : BlockBase {
  std::string input;
  double window_s = 0.02;
};
struct Modulator : BlockBase {
  std::string bridge;
  std::vector<std::string> references;
  std::string enable = "1";
  std::string offset;
  double carrier_Hz = unset;
  double dead_time_s = 0;
  std::string levels = "two";
  bool third_harmonic = false;
};
/// Pulses of a line-commutated bridge: `delay_rad` behind the instants at which diodes would take over.
struct Firing : BlockBase {
  std::string bridge;
  std::string angle, frequency;
  std::string delay;
  std::string enable = "1";
  double width_rad = 2.0943951023931953;
};
/// A gate that follows a state.
struct GateDrive : BlockBase {
  std::string gate;
  std::string input;
};
struct Actuator : BlockBase {
  std::string knob;
  std::string input;
};
struct CommandBlock : BlockBase {
  std::string operates;
  std::string input;
};

struct Setpoint : BlockBase {
  double value = 0;
  std::string unit;
};
struct Sensor : BlockBase {
  std::string input;
  double gain = 1, offset = 0, noise = 0;
  double frozen = 0, dead = 0;
  double low = -1e30, high = 1e30;
  double resolution = 0;
  int seed = 1;
};
struct Expression : BlockBase {
  std::string formula;
};
struct Counter : BlockBase {
  std::string input, reset;
  int wraps_at = 0;
};
/// A state machine. `steps`: "off > run: start", "run > off: not start after 20 ms", "* > trip: fault".
struct Sequence : BlockBase {
  std::vector<std::string> states;
  std::vector<std::string> steps;
};
struct ToAlphaBeta : BlockBase {
  std::string a, b, c;
};
struct FromAlphaBeta : BlockBase {
  std::string alpha, beta;
};
/// Second-order generalised integrator with a phase-locked loop behind it, for one voltage.
struct IntegratorLock : BlockBase {
  std::string input;
  double frequency_Hz = 50;
  double damping = 1.4142135623730951;
  double bandwidth_Hz = 10;
  double low_Hz = 30, high_Hz = 80;
};
/// Positive and negative sequence of three phases in components that rotate with `angle` and against it.
struct Separation : BlockBase {
  std::string a, b, c, angle;
  double frequency_Hz = 50;
};
struct PowerTracker : BlockBase {
  std::string voltage, current;
  std::string enable = "1";
  double step = 1;
  double low = 0, high = 1e30, start = 0;
};
/// A user's own controller: a shared library (zavrek/controller.h), or a class that the program registered.
struct OwnCode : BlockBase {
  std::string library;
  std::string code;
  std::vector<std::string> inputs;      ///< "NAME: what it reads"
  std::vector<std::string> parameters;  ///< "NAME: value"
};

using Block =
    std::variant<Sum, Product, Pi, LowPass, Transfer, Limiter, CurveBlock, Delay, Comparator, Timer,
                 LatchBlock, LogicBlock, Select, Clock, ToDq, FromDq, PhaseLock, Rotor, Power, Rms, Modulator,
                 Firing, GateDrive, Actuator, CommandBlock, Setpoint, Sensor, Expression, Counter, Sequence,
                 ToAlphaBeta, FromAlphaBeta, IntegratorLock, Separation, PowerTracker, OwnCode>;

const Table& table(const Sum*);
const Table& table(const Product*);
const Table& table(const Pi*);
const Table& table(const LowPass*);
const Table& table(const Transfer*);
const Table& table(const Limiter*);
const Table& table(const CurveBlock*);
const Table& table(const Delay*);
const Table& table(const Comparator*);
const Table& table(const Timer*);
const Table& table(const LatchBlock*);
const Table& table(const LogicBlock*);
const Table& table(const Select*);
const Table& table(const Clock*);
const Table& table(const ToDq*);
const Table& table(const FromDq*);
const Table& table(const PhaseLock*);
const Table& table(const Rotor*);
const Table& table(const Power*);
const Table& table(const Rms*);
const Table& table(const Modulator*);
const Table& table(const Firing*);
const Table& table(const GateDrive*);
const Table& table(const Actuator*);
const Table& table(const CommandBlock*);
const Table& table(const Setpoint*);
const Table& table(const Sensor*);
const Table& table(const Expression*);
const Table& table(const Counter*);
const Table& table(const Sequence*);
const Table& table(const ToAlphaBeta*);
const Table& table(const FromAlphaBeta*);
const Table& table(const IntegratorLock*);
const Table& table(const Separation*);
const Table& table(const PowerTracker*);
const Table& table(const OwnCode*);

/// Calls `visit` with a null pointer of every kind.
template <class Visit, class... Kinds>
void for_each_kind(std::variant<Kinds...>*, Visit&& visit) {
  (visit(static_cast<Kinds*>(nullptr)), ...);
}
template <class Visit>
void for_each_kind(Visit&& visit) {
  for_each_kind(static_cast<Block*>(nullptr), visit);
}
[[nodiscard]] inline const std::string& name_of(const Block& block) {
  return std::visit([](const auto& b) -> const std::string& { return b.name; }, block);
}

/// The control of a case.
struct Description {
  double period_s = 100e-6;
  std::vector<Block> blocks;
  std::vector<Ready> ready;

  // Compiled once: to copy all kinds of them costs every other source seconds.
  Description();
  Description(const Description&);
  Description(Description&&) noexcept;
  Description& operator=(const Description&);
  Description& operator=(Description&&) noexcept;
  ~Description();
};
const Table& table(const Description*);

}  // namespace zavrek::control
