#include "control/written/blocks.hpp"

#include <cmath>
#include <sstream>

#include <fmt/format.h>

#include "control/formula.hpp"
#include "control/function.hpp"
#include "control/made_with.hpp"

namespace zavrek::control::internal {
namespace {

using Numbers = std::vector<WrittenNumber>;

/// Numbers, and fields of a block, which may be changed.
template <class... Fields>
Numbers fields(const Fields&... of) {
  Numbers all;
  const auto add = [&all]<class Field>(const Field& field) {
    if constexpr (std::is_same_v<Field, double>)
      all.push_back({field, &field});
    else
      all.push_back({static_cast<double>(field)});
  };
  (add(of), ...);
  return all;
}
Numbers constants(const std::vector<double>& of) {
  Numbers all;
  for (const double value : of) all.push_back({value});
  return all;
}
Numbers pairs(const Points& points) {
  Numbers all;
  for (const auto& point : points) {
    all.push_back({point.x});
    all.push_back({point.y});
  }
  return all;
}
/// A place for each of so many, then the place of the oldest.
std::vector<double> ring(std::size_t n, double start = 0) {
  std::vector<double> all(n, start);
  all.push_back(0);
  return all;
}
int count(std::size_t n) { return static_cast<int>(n); }

// --- arithmetic, filters, memory ----------------------------------------------------------------------

WrittenBlock of(const Sum& b, double) {
  return {.runs = "sum", .numbers = fields(b.gain), .counts = {count(b.inputs.size())}};
}
WrittenBlock of(const Product& b, double) { return {.runs = "product", .counts = {count(b.inputs.size())}}; }
WrittenBlock of(const Pi& b, double period) {
  return {.runs = "pi",
          .numbers = fields(b.proportional, b.integral_per_s, b.derivative_s, b.low, b.high, b.start, period),
          .state = {b.start, 0}};
}
WrittenBlock of(const LowPass& b, double period) {
  return {.runs = "low_pass", .numbers = constants({1 - std::exp(-period / b.time_s)})};
}
WrittenBlock of(const Transfer& b, double period) {
  const TransferCoefficients c = transfer_coefficients(b, period);
  Numbers numbers = constants(c.of_input);
  const Numbers back = constants(c.of_output);
  numbers.insert(numbers.end(), back.begin(), back.end());
  return {.runs = "transfer",
          .numbers = numbers,
          .state = std::vector<double>(c.of_input.size(), 0.0),
          .counts = {count(c.of_input.size() - 1)}};
}
WrittenBlock of(const Limiter& b, double period) {
  return {.runs = "limiter", .numbers = fields(b.low, b.high, b.rise_per_s, b.fall_per_s, period)};
}
WrittenBlock of(const CurveBlock& b, double) {
  Points points;
  for (const std::string& text : b.points) points.push_back(network::as_point(text, "", ""));
  return {.runs = "curve", .numbers = pairs(points), .counts = {count(points.size())}};
}
WrittenBlock of(const Clock& b, double) {
  return {.runs = "program", .numbers = pairs(b.values), .counts = {count(b.values.size())}, .time = true};
}
WrittenBlock of(const Delay& b, double) {
  return {.runs = "delay",
          .gives = fmt::format("give_delay(#s, {}, #out)", b.periods),
          .state = ring(static_cast<std::size_t>(b.periods), b.start),
          .counts = {b.periods}};
}
WrittenBlock of(const Rms& b, double period) {
  const std::size_t n = executions_in(b.window_s, period);
  return {.runs = "rms", .state = ring(n), .counts = {count(n)}};
}
WrittenBlock of(const Setpoint& b, double) { return {.runs = "setpoint", .numbers = fields(b.value)}; }
WrittenBlock of(const Sensor& b, double) {
  std::ostringstream state;  // the number that the generator stands at
  state << seeded(b);
  return {.runs = "sensor",
          .numbers = fields(b.gain, b.offset, b.noise, b.frozen, b.dead, b.low, b.high, b.resolution),
          .state = {std::stod(state.str())}};
}
WrittenBlock of(const PowerTracker& b, double) {
  return {.runs = "tracker", .numbers = fields(b.step, b.low, b.high, b.start), .state = {b.start, 0, -1}};
}

// --- logic ----------------------------------------------------------------------------------------------

WrittenBlock of(const Comparator& b, double) {
  return {.runs = "comparator", .numbers = fields(b.on_above, b.off_below)};
}
WrittenBlock of(const Timer& b, double period) {
  return {.runs = "timer", .numbers = fields(b.on_delay_s, b.off_delay_s, period), .state = {0, 0}};
}
WrittenBlock of(const LatchBlock&, double) { return {.runs = "latch"}; }
WrittenBlock of(const LogicBlock& b, double) {
  return {.runs = b.operation == "exclusive or" ? "odd" : b.operation, .counts = {count(b.inputs.size())}};
}
WrittenBlock of(const Select&, double) { return {.runs = "select"}; }
WrittenBlock of(const Counter& b, double) {
  return {.runs = "counter", .numbers = fields(b.wraps_at), .state = {0}};
}
WrittenBlock of(const Expression& b, double) {
  return {.runs = "", .expressions = {Formula(b.formula).in_c("in", 0)}};
}
WrittenBlock of(const Sequence& b, double period) {
  WrittenBlock w{.runs = "sequence",
                 .gives = fmt::format("give_sequence(#s, {}, #out)", b.states.size()),
                 .numbers = fields(period),
                 .state = {0}};
  std::size_t first = 0;
  for (const SequenceStep& step : steps_of(b)) {
    w.numbers.push_back({step.from == SequenceStep::anywhere ? -1 : static_cast<double>(step.from)});
    w.numbers.push_back({static_cast<double>(step.to)});
    w.numbers.push_back({step.after_s});
    w.state.push_back(0);
    w.expressions.push_back(step.condition.in_c("in", first));
    first += step.condition.names().size();
  }
  w.counts = {count(w.expressions.size())};
  return w;
}

// --- three phases -----------------------------------------------------------------------------------------

WrittenBlock of(const ToDq&, double) { return {.runs = "to_dq"}; }
WrittenBlock of(const FromDq&, double) { return {.runs = "from_dq"}; }
WrittenBlock of(const PhaseLock& b, double period) {
  return {.runs = "phase_lock",
          .numbers = fields(b.frequency_Hz, b.bandwidth_Hz, b.damping, b.low_Hz, b.high_Hz, period),
          .state = {0, 0, 0, 0}};
}
WrittenBlock of(const Rotor&, double period) { return {.runs = "rotor", .numbers = fields(period)}; }
WrittenBlock of(const Power&, double) { return {.runs = "power"}; }
WrittenBlock of(const ToAlphaBeta&, double) { return {.runs = "to_alpha_beta"}; }
WrittenBlock of(const FromAlphaBeta&, double) { return {.runs = "from_alpha_beta"}; }
WrittenBlock of(const IntegratorLock& b, double period) {
  return {.runs = "integrator_lock",
          .numbers = fields(b.frequency_Hz, b.damping, b.bandwidth_Hz, b.low_Hz, b.high_Hz, period),
          .state = {b.frequency_Hz, 0, 0, 0, 0, 0}};
}
WrittenBlock of(const Separation& b, double period) {
  const double behind = 0.25 / b.frequency_Hz / period;
  const std::size_t n = static_cast<std::size_t>(behind) + 2;
  return {.runs = "separation", .numbers = constants({behind}), .state = ring(2 * n), .counts = {count(n)}};
}

// --- what drives the plant
// ----------------------------------------------------------------------------------

WrittenBlock of(const Modulator& b, double period) {
  const double half = 0.5 / b.carrier_Hz;
  const std::size_t legs = b.references.size();
  const bool three = b.levels == "three";
  std::vector<double> state(1 + legs * (three ? 2 : 1), 0.0);
  state[0] = 1;
  return {
      .runs = "modulator",
      .numbers = constants({half, b.dead_time_s, std::round(period / half), b.third_harmonic ? 1.0 : 0.0}),
      .state = state,
      .counts = {count(legs), three ? 3 : 2},
      .fires = true};
}
WrittenBlock of(const Firing& b, double period) {
  return {.runs = "firing",
          .numbers = fields(b.width_rad, period),
          .state = {0, 1e9, 1e9, 1e9, 1e9, 1e9, 1e9},
          .fires = true};
}
WrittenBlock of(const GateDrive&, double) { return {.runs = "gate", .fires = true}; }
WrittenBlock of(const Actuator&, double) { return {.runs = "passing"}; }
WrittenBlock of(const CommandBlock&, double) { return {.runs = "passing"}; }

// --- supervision, vehicles --------------------------------------------------------------------------------

WrittenBlock of(const Plan& b, double period) {
  return {.runs = "plan", .numbers = fields(b.lasts_s, period), .state = {0, 0, 0}};
}
WrittenBlock of(const LoadShedding& b, double period) {
  std::vector<double> state(1 + b.loads.size(), 1.0);
  state[0] = 0;
  return {.runs = "load_shedding",
          .numbers = fields(b.restore_after_s, b.margin, period),
          .state = state,
          .counts = {count(b.loads.size())}};
}
WrittenBlock of(const Synchroniser& b, double period) {
  return {.runs = "synchroniser",
          .numbers = fields(b.least_voltage_V, b.voltage, b.frequency_Hz, b.angle_rad, b.closing_time_s,
                            b.lasts_s, period),
          .state = {0}};
}
WrittenBlock of(const Vehicle& b, double period) {
  return {.runs = "vehicle",
          .gives = "give_vehicle(#p, #s, #out)",
          .numbers = fields(b.mass_kg, b.drawn_kg, b.wheelbase_m, b.height_m, b.front_share, b.radius_m,
                            b.ratio, b.efficiency, b.axle_inertia_kgm2, b.rolling, b.drag_area_m2,
                            b.brake_force_N, b.adhesion, b.stiffness, period),
          .state = {0, 0, 0, 0, 0, 0}};
}
WrittenBlock of(const OwnCode& b, double) {
  reject("own", b.name, "", "is code of its own, which is not written out in C");
}

}  // namespace

WrittenBlock written(const Block& block, double period_s) {
  return std::visit([&](const auto& b) { return of(b, period_s); }, block);
}

}  // namespace zavrek::control::internal
