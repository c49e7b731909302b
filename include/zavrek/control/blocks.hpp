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
  std::string unit;  ///< of its output; deduced where empty and its inputs tell
};

// Below, T is the block's period, u its input, y its output, a prime what stood an execution ago. An angle is
// in rad; a state is on above 0.5. A block whose outputs have names says them; any other has one, its own
// name. Limits and gains have the units of what they act on.

// --- arithmetic and filters ---------------------------------------------------------------------

/// y = gain * (sum of the inputs).
struct Sum : BlockBase {
  std::vector<std::string> inputs;
  double gain = 1;
};
/// y = product of the inputs.
struct Product : BlockBase {
  std::vector<std::string> inputs;
};
/// y = P u + I + D (u - u')/T between `low` and `high`; I grows by `integral_per_s` T u unless that drives y
/// further beyond a limit. `reset` on: I and y are `start`.
struct Pi : BlockBase {
  std::string input;
  double proportional = 1;    ///< P
  double integral_per_s = 0;  ///< 1/s on top of the gain's unit
  double derivative_s = 0;    ///< D, the gain's unit times s
  double low = -1e30, high = 1e30;
  std::string reset;  ///< left out: never
  double start = 0;
};
/// First order: y += (1 - exp(-T/time)) (u - y), exact for an input that is held between executions.
struct LowPass : BlockBase {
  std::string input;
  double time_s = unset;  ///< above 0
  double start = 0;       ///< y ahead of the first execution
};
/// numerator(s) / denominator(s) with s = (2/T)(z - 1)/(z + 1). Coefficients with the highest power first;
/// the denominator at least as long as the numerator and not led by zero.
struct Transfer : BlockBase {
  std::string input;
  std::vector<std::string> numerator, denominator;
};
/// Follows u between `low` and `high`, no faster than `rise_per_s` up and `fall_per_s` (both above 0) down.
struct Limiter : BlockBase {
  std::string input;
  double low = -1e30, high = 1e30;
  double rise_per_s = 1e30, fall_per_s = 1e30;
  double start = 0;
};
/// y over u, straight between `points` ("10: 1"), held beyond them.
struct CurveBlock : BlockBase {
  std::string input;
  std::vector<std::string> points;
};
/// y = u of `periods` (1 ... 10,000) executions ago; `start` until then.
struct Delay : BlockBase {
  std::string input;
  int periods = 1;
  double start = 0;
};

// --- logic --------------------------------------------------------------------------------------

/// 1 from u above `on_above` until it is below `off_below`.
struct Comparator : BlockBase {
  std::string input;
  double on_above = 0, off_below = 0;
};
/// Follows a state once it has lasted `on_delay_s`, or `off_delay_s` the other way; both 0 or more.
struct Timer : BlockBase {
  std::string input;
  double on_delay_s = 0, off_delay_s = 0;
};
/// 1 from `set` until `reset`, which wins.
struct LatchBlock : BlockBase {
  std::string set, reset;
};
/// "and", "or", "exclusive or" (an odd number) or "not" (none) of states.
struct LogicBlock : BlockBase {
  std::string operation = "and";
  std::vector<std::string> inputs;
};
/// `then` while `when` is on, else `otherwise`.
struct Select : BlockBase {
  std::string when, then, otherwise;
};
/// A value over the time of the run (s), straight between the points, held beyond them. Its kind is
/// "program".
struct Clock : BlockBase {
  Points values;
};

// --- three phases -------------------------------------------------------------------------------

/// Rotating components NAME.d, .q, .zero of three phases; the d axis stands `angle` ahead of phase a,
/// amplitudes kept (Park).
struct ToDq : BlockBase {
  std::string a, b, c, angle;
};
/// Three phases NAME.a, .b, .c of rotating components.
struct FromDq : BlockBase {
  std::string d, q, angle;
};
/// Phase-locked loop: q of the voltages, over their magnitude, drives the frequency by proportional and
/// integral action of natural frequency `bandwidth_Hz` and `damping`. Outputs NAME.angle, .frequency (Hz),
/// .d, .q.
struct PhaseLock : BlockBase {
  std::string a, b, c;
  double frequency_Hz = 50;  ///< at the start
  double bandwidth_Hz = 20;
  double damping = 0.7;
  double low_Hz = 30, high_Hz = 80;
};
/// An angle, 0 ... 2 pi, that turns with a frequency in Hz.
struct Rotor : BlockBase {
  std::string frequency;
};
/// Instantaneous NAME.p = sum v i (W) and NAME.q = ((vb - vc) ia + (vc - va) ib + (va - vb) ic)/sqrt 3 (var),
/// positive for a current that lags.
struct Power : BlockBase {
  std::string va, vb, vc, ia, ib, ic;
};
/// Root mean square over the last `window_s` (above 0).
struct Rms : BlockBase {
  std::string input;
  double window_s = 0.02;
};

// --- what drives the plant ----------------------------------------------------------------------

/// Gates of a bridge from one reference a leg (-1 ... 1, of half the d.c. voltage), held for a period and
/// compared with a triangle: two triangles, one above the other, for "three" levels.
struct Modulator : BlockBase {
  std::string bridge;
  std::vector<std::string> references;
  std::string enable = "1";     ///< off: all gates are off
  std::string offset;           ///< added to all references; left out: none
  double carrier_Hz = unset;    ///< above 0; `period_s` is half or all of 1/carrier_Hz
  double dead_time_s = 0;       ///< 0 or more
  std::string levels = "two";   ///< "two" or "three"
  bool third_harmonic = false;  ///< adds to all references what centres them
};
/// Pulses of a line-commutated bridge: `delay` (rad) behind the instants at which diodes would take over.
struct Firing : BlockBase {
  std::string bridge;
  std::string angle;                      ///< of phase a's voltage, 0 at its peak
  std::string frequency;                  ///< Hz, with which that angle turns
  std::string delay;                      ///< rad
  std::string enable = "1";               ///< off: no pulses
  double width_rad = 2.0943951023931953;  ///< of a pulse
};
/// A gate that follows a state.
struct GateDrive : BlockBase {
  std::string gate;
  std::string input;
};
/// Turns a knob of the plant, in the knob's SI unit; beyond its range it stays at the end of that.
struct Actuator : BlockBase {
  std::string knob;
  std::string input;
};
/// Closes a breaker, contactor or disconnector when its input rises, opens it when that falls.
struct CommandBlock : BlockBase {
  std::string operates;
  std::string input;
};

// --- what is set, measured, counted -------------------------------------------------------------

/// A value that can be changed while running, in `unit`.
struct Setpoint : BlockBase {
  double value = 0;
};
/// y = gain u + offset + noise, between `low` and `high`, in steps of `resolution`. `frozen` 1: y stays;
/// `dead` 1: without the signal.
struct Sensor : BlockBase {
  std::string input;
  double gain = 1, offset = 0;
  double noise = 0;  ///< standard deviation, of `seed`
  double frozen = 0, dead = 0;
  double low = -1e30, high = 1e30;
  double resolution = 0;  ///< 0: none
  int seed = 1;
};
/// A formula over blocks and signals; `zavrek describe expression` lists what it may contain.
struct Expression : BlockBase {
  std::string formula;
};
/// How often u has risen above 0.5; from `wraps_at` (0: never) on again from 0; 0 while `reset` is on.
struct Counter : BlockBase {
  std::string input, reset;
  int wraps_at = 0;
};
/// A state machine. `steps`: "off > run: start", "run > off: not start after 20 ms", "* > trip: fault"; the
/// first that holds is taken, one a period; a new state shows a period later. Outputs NAME, the number of the
/// state from 0, and NAME.STATE for each, 1 or 0.
struct Sequence : BlockBase {
  std::vector<std::string> states;  ///< it starts in the first
  std::vector<std::string> steps;
};

// --- sequence components and trackers -----------------------------------------------------------

/// Fixed components NAME.alpha (along phase a), .beta (a quarter turn ahead), .zero, amplitudes kept
/// (Clarke).
struct ToAlphaBeta : BlockBase {
  std::string a, b, c;
};
/// Three phases NAME.a, .b, .c of fixed components.
struct FromAlphaBeta : BlockBase {
  std::string alpha, beta;
};
/// Second-order generalised integrator with a phase-locked loop behind it, for one voltage (Rodriguez et al.,
/// IEEE PESC 2006): x1' = w (k (v - x1) - x2), x2' = w x1. Outputs NAME.angle, .frequency (Hz), .amplitude,
/// .direct (x1), .quadrature (x2).
struct IntegratorLock : BlockBase {
  std::string input;
  double frequency_Hz = 50;             ///< at the start
  double damping = 1.4142135623730951;  ///< k
  double bandwidth_Hz = 10;             ///< natural frequency of the loop
  double low_Hz = 30, high_Hz = 80;
};
/// Positive and negative sequence of three phases, in components that rotate with `angle` and against it, by
/// what stood a quarter of 1/`frequency_Hz` ago: NAME.positive_d, .positive_q, .negative_d, .negative_q.
struct Separation : BlockBase {
  std::string a, b, c, angle;
  double frequency_Hz = 50;
};
/// Maximum power point by perturbing and observing: moves NAME (V, to be held) by `step` a period in
/// the direction in which NAME.power (W) rose. `enable` off: `start`.
struct PowerTracker : BlockBase {
  std::string voltage, current;  ///< V, A, of the array
  std::string enable = "1";
  double step = 1;                         ///< V
  double low = 0, high = 1e30, start = 0;  ///< V
};
// --- supervision --------------------------------------------------------------------------------

/// Keeps what somebody further away has ordered, while he lives: NAME is `input` as long as `beat` moves
/// within `lasts_s` (above 0), else `otherwise`; NAME.fresh 1 or 0.
struct Plan : BlockBase {
  std::string input, beat;
  std::string otherwise = "0";
  double lasts_s = 5;
};
/// Sheds loads when the grid is lost. `loads`: "offices: 120 kW" or "offices: offices.p", the first kept to
/// the last. While `lost`, those stay on that together need no more than `available` (W), the first that does
/// not fit and all behind it are shed in the same execution; what fits again for `restore_after_s` comes
/// back, one at a time, and so do all, in their order, once the grid is there. Outputs NAME (how many are
/// shed), NAME.LOAD 1 or 0, NAME.kept (W).
struct LoadShedding : BlockBase {
  std::string lost, available;
  std::vector<std::string> loads;
  double restore_after_s = 5;
  double margin = 0.05;  ///< of `available`, that must be left for one to come back
};
/// Whether two live voltages may be connected: NAME is on while their amplitudes differ by `voltage` of the
/// larger at most, their frequencies by `frequency_Hz`, and their angles, at the instant `closing_time_s`
/// from now, by `angle_rad`, all for `lasts_s`. Amplitudes in V, frequencies in Hz, angles in rad, as phase
/// locks give them. Outputs NAME.angle (rad, of the first ahead of the second), .slip (Hz).
struct Synchroniser : BlockBase {
  std::string amplitude_1, frequency_1, angle_1, amplitude_2, frequency_2, angle_2;
  double least_voltage_V = 0;  ///< below it a side is dead, and nothing is released
  double voltage = 0.1, frequency_Hz = 0.1, angle_rad = 0.17453292519943295;
  double closing_time_s = 0, lasts_s = 0.1;
};

// --- what a drive moves ---------------------------------------------------------------------------

/// A vehicle on two axles, along its road; what it draws rolls along. Of each axle with the machine that
/// turns it J dw/dt = ratio T - r F - friction, F from its tyres (Pacejka, Tire and Vehicle Dynamics, chapter
/// 1: linear over the slip up to the adhesion, constant beyond); m dv/dt = F_front + F_rear - drag - m g
/// sin(slope). Weight moves to the rear when it speeds up or climbs. Outputs NAME (speed, m/s), .distance
/// (m), .acceleration (m/s2), .front_speed and .rear_speed (rad/s, of the machines), .grip (of the adhesion,
/// used by the axle that uses more of its own).
struct Vehicle : BlockBase {
  std::string front = "0", rear = "0";  ///< torque of each machine, N m
  std::string brake = "0";              ///< 0 ... 1 of `brake_force_N`
  std::string slope = "0";              ///< rise over length along the road ahead, uphill positive
  double mass_kg = unset, drawn_kg = 0;
  double wheelbase_m = 2.5, height_m = 0.8, front_share = 0.5;
  double radius_m = unset, ratio = 1, efficiency = 1;
  double axle_inertia_kgm2 = unset;  ///< of each, with its machine, about the wheels
  double rolling = 0.012, drag_area_m2 = 0, brake_force_N = 0;
  double adhesion = 0.8, stiffness = 10;  ///< F = weight stiffness slip
};

/// A user's own controller: a shared library (zavrek/controller.h), or a class that the program registered.
struct OwnCode : BlockBase {
  std::string library;                  ///< path, relative to the case
  std::string code;                     ///< or the name under which the program gave its class
  std::vector<std::string> inputs;      ///< "NAME: what it reads"
  std::vector<std::string> parameters;  ///< "NAME: value"
};

using Block = std::variant<Sum, Product, Pi, LowPass, Transfer, Limiter, CurveBlock, Delay, Comparator, Timer,
                           LatchBlock, LogicBlock, Select, Clock, ToDq, FromDq, PhaseLock, Rotor, Power, Rms,
                           Modulator, Firing, GateDrive, Actuator, CommandBlock, Setpoint, Sensor, Expression,
                           Counter, Sequence, ToAlphaBeta, FromAlphaBeta, IntegratorLock, Separation,
                           PowerTracker, OwnCode, Plan, LoadShedding, Synchroniser, Vehicle>;

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
const Table& table(const Plan*);
const Table& table(const LoadShedding*);
const Table& table(const Synchroniser*);
const Table& table(const Vehicle*);

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
