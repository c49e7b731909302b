// Descriptions of control blocks. An input is written as a number with or without a unit, the name of another
// block (its first output), one of a block's outputs ("pll.angle"), or a signal of the plant ("grid.va"),
// with
// "-" in front for its negative.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::control {

using network::Points;
using network::Table;
using network::unset;

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
struct Curve : BlockBase {
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
struct Latch : BlockBase {
  std::string set, reset;
};
struct Logic : BlockBase {
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
  double carrier_Hz = unset;
  double dead_time_s = 0;
  std::string levels = "two";
  bool third_harmonic = false;
};
struct Actuator : BlockBase {
  std::string knob;
  std::string input;
};
struct Command : BlockBase {
  std::string operates;
  std::string input;
};

using Block =
    std::variant<Sum, Product, Pi, LowPass, Transfer, Limiter, Curve, Delay, Comparator, Timer, Latch, Logic,
                 Select, Clock, ToDq, FromDq, PhaseLock, Rotor, Power, Rms, Modulator, Actuator, Command>;

const Table& table(const Sum*);
const Table& table(const Product*);
const Table& table(const Pi*);
const Table& table(const LowPass*);
const Table& table(const Transfer*);
const Table& table(const Limiter*);
const Table& table(const Curve*);
const Table& table(const Delay*);
const Table& table(const Comparator*);
const Table& table(const Timer*);
const Table& table(const Latch*);
const Table& table(const Logic*);
const Table& table(const Select*);
const Table& table(const Clock*);
const Table& table(const ToDq*);
const Table& table(const FromDq*);
const Table& table(const PhaseLock*);
const Table& table(const Rotor*);
const Table& table(const Power*);
const Table& table(const Rms*);
const Table& table(const Modulator*);
const Table& table(const Actuator*);
const Table& table(const Command*);

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
};
const Table& table(const Description*);

}  // namespace zavrek::control
