// Settings of a relay: its functions, each a plain struct with its field table. Thresholds of currents,
// voltages and impedances are primary or secondary as the relay's `values` says.
//
// Every function has the signals NAME.start and NAME.trip; those of logic have the signal NAME. Conditions
// (`blocked_by`, `when` ...) are written over such signals and over binary inputs, "input.NAME", with and,
// or, not and parentheses.
#pragma once

#include <array>
#include <complex>
#include <limits>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "zavrek/network/field.hpp"
#include "zavrek/protection/curve.hpp"

namespace zavrek::protection {

using network::Points;
using network::Table;
using network::TableOf;
using network::unset;

/// What every function has.
struct FunctionBase {
  std::string name;
  std::string blocked_by;  ///< condition that keeps it at rest
  bool trips = true;       ///< its operation is one of the relay's trips
  int end = 1;             ///< place (stream) that it measures, counted from 1
  /// Whether it looks at voltages, and at the frequency of its place.
  static constexpr bool sees_voltage = false, sees_frequency = false;
  /// What follows its name in its signals; "" is the name alone.
  [[nodiscard]] static std::vector<std::string> signals() { return {"start", "trip"}; }
};

/// One overcurrent stage.
struct Stage : FunctionBase {
  std::string quantity = "phase";           ///< "phase": the largest; "earth": the residual; "negative"
  std::string characteristic = "definite";  ///< the name of a curve, or "points"
  Points points;                            ///< multiple of pickup: operating time
  double pickup_A = unset;
  double delay_s = unset;         ///< definite only
  double time_multiplier = 1;     ///< curves only
  double drop_off = 0.95;         ///< fraction of pickup
  double flat_above = 20;         ///< multiple of pickup beyond which a curve gets no faster
  std::string reset = "instant";  ///< "instant", "definite" or "inverse"
  double reset_delay_s = 0;       ///< definite reset
  std::string direction = "none";
  double angle_rad = 1.0471975511965976;  ///< by which the fault current lags: 60 deg
  double least_voltage_V = 0;             ///< below it phase stages use the voltage remembered
  double second_harmonic = unset;         ///< share that blocks
  /// What the least voltage between phases does: "none"; "restrains": pickup falls with it, from
  /// `full_voltage` down to a quarter at a quarter of that; "controls": above `full_voltage` the stage rests.
  std::string voltage = "none";
  double full_voltage_V = unset;

  static constexpr double lowest_share = 0.25;  ///< to which the pickup falls
  /// Operating time at a constant `current_A` in the amperes of the setting; infinite when it never operates.
  [[nodiscard]] double operate_time_s(double current_A) const;
};

/// Negative- over positive-sequence current: a conductor that is open.
struct Unbalance : FunctionBase {
  double pickup = unset;           ///< share
  double least_current_A = unset;  ///< positive sequence
  double delay_s = unset;
  double drop_off = 0.95;
};

/// Current in line with, or across, the residual voltage: earth faults where the neutral is insulated or
/// compensated.
struct EarthPower : FunctionBase {
  static constexpr bool sees_voltage = true;
  std::string quantity = "active";    ///< "active": I cos phi, "reactive": I sin phi
  std::string direction = "forward";  ///< or "reverse"
  double pickup_A = unset;            ///< of that part of the residual current
  double voltage_V = unset;  ///< residual voltage (three times the zero sequence) from which it counts
  double delay_s = unset;
  double drop_off = 0.9;
};

/// Residual current of a winding against that of its neutral, each towards the winding.
struct RestrictedEarth : FunctionBase {
  int neutral_end = 2;  ///< place whose residual current is that of the neutral
  double pickup_A = unset;
  double slope = 0.3;  ///< of half of the difference between the two
  double delay_s = 0;
  double drop_off = 0.9;
};

/// Voltage over frequency, each over its rated value: flux of a core.
struct Overfluxing : FunctionBase {
  static constexpr bool sees_voltage = true, sees_frequency = true;
  double rated_voltage_V = unset;  ///< between phases, at nominal frequency
  double pickup = 1.1;             ///< of the rated flux
  std::string characteristic =
      "definite";  ///< or "inverse": time_multiplier / (M - 1), M the flux over pickup
  double delay_s = unset;
  double time_multiplier = 1;
  double drop_off = 0.98;
};

/// Loss of excitation: the positive-sequence impedance of a machine in a circle below the origin.
struct FieldLoss : FunctionBase {
  static constexpr bool sees_voltage = true;
  double offset_ohm = unset;    ///< of the circle's top below the origin: half the transient reactance
  double diameter_ohm = unset;  ///< the synchronous reactance
  std::string current = "out";  ///< counted "out" of the machine, or "into" it
  double least_voltage_V = 0;
  double delay_s = unset;
};

/// A machine out of step: the positive-sequence impedance crosses from one blinder to the other.
struct PoleSlip : FunctionBase {
  static constexpr bool sees_voltage = true;
  double blinder_ohm = unset;  ///< either side of the line through the origin at `angle`
  double forward_ohm = unset;  ///< reach along that line
  double reverse_ohm = 0;
  double angle_rad = 1.4835298641951802;  ///< 85 deg
  double least_time_s = 0.02;             ///< from blinder to blinder: what is faster is a fault
  int slips = 1;                          ///< until it trips
  double forget_s = 10;                   ///< without a further one
};

/// A motor that starts for too long, stalls, or is started too often.
struct MotorStart : FunctionBase {
  double rated_A = unset;
  double starting = 2;       ///< of the rated current, above which it starts
  double longest_s = unset;  ///< that a start may take
  double stalled = unset;    ///< of the rated current, above which a motor that has started is stalled
  double stall_delay_s = 1;
  int most_starts = 3;
  double within_s = 3600;
  [[nodiscard]] static std::vector<std::string> signals() { return {"start", "trip", "inhibit"}; }
};

/// The angle of the voltage jumps: an island has parted from its grid.
struct VectorShift : FunctionBase {
  static constexpr bool sees_voltage = true;
  double angle_rad = unset;
  double least_voltage_V = unset;  ///< positive sequence, below which it rests
  double pulse_s = 0.1;            ///< for which it then trips
};

/// A current circuit is broken: residual current without residual voltage.
struct CurrentWatch : FunctionBase {
  static constexpr bool sees_voltage = true;
  double residual_current_A = unset;
  double residual_voltage_V = unset;  ///< above this it is an earth fault
  double delay_s = 1;
  CurrentWatch() { trips = false; }
};

/// Over- or undervoltage.
struct VoltageStage : FunctionBase {
  static constexpr bool sees_voltage = true;
  std::string when = "over";
  std::string quantity = "phase-phase";  ///< "phase", "phase-phase", "positive", "negative", "residual"
  std::string of = "any";                ///< of the three: "any" or "all"
  std::string characteristic = "definite";
  double pickup_V = unset;
  double delay_s = unset;
  double time_multiplier = 1;
  double drop_off = 0.97;
  double block_below_V = 0;
  /// At a constant voltage; infinite when it never operates.
  [[nodiscard]] double operate_time_s(double voltage_V) const;
};

/// Over- or underfrequency, or its rate of change.
struct FrequencyStage : FunctionBase {
  static constexpr bool sees_voltage = true, sees_frequency = true;
  std::string when = "under";  ///< "over", "under", "rising", "falling"
  double pickup_Hz = unset;
  double rate_Hz_per_s = unset;
  double delay_s = unset;
  double drop_off_Hz = 0.02;
  double least_voltage_V = 0;
};

/// One zone of distance protection.
struct Zone : FunctionBase {
  static constexpr bool sees_voltage = true;
  std::string shape = "quadrilateral";  ///< or "mho"
  std::string direction = "forward";    ///< "forward", "reverse", "none"
  std::string loops = "all";            ///< "all", "phase", "earth"
  double reach_ohm = unset;             ///< along `angle`
  double angle_rad = 1.3089969389957472;
  double resistive_reach_ohm = unset;        ///< quadrilateral: of phase loops, per phase
  double earth_resistive_reach_ohm = unset;  ///< of earth loops; as the phase loops when left out
  double delay_s = unset;
  double least_current_A = 0;      ///< of the loop
  double confirm_s = 5e-3;         ///< for which a loop must be inside before the zone starts
  double residual_factor = unset;  ///< of its own; that of the relay when unset
  double residual_angle_rad = unset;
};

/// Slow passage of the positive-sequence impedance from an outer into an inner ring.
struct PowerSwing : FunctionBase {
  static constexpr bool sees_voltage = true;
  double outer_ohm = unset, inner_ohm = unset;
  double least_time_s = 0.03;
  double hold_s = 2;
  PowerSwing() { trips = false; }
};

/// Trips at once, for a while after a dead line was energised.
struct SwitchOntoFault : FunctionBase {
  static constexpr bool sees_voltage = true;
  std::string when;
  double dead_voltage_V = unset;
  double dead_current_A = unset;
  double dead_for_s = 0.2;
  double window_s = 0.4;
};

/// Percentage differential between the places of the relay.
struct Differential : FunctionBase {
  std::vector<std::string> rated_currents;  ///< primary, one for each place
  std::vector<std::string> hours;           ///< clock figure of each place against the first
  std::vector<std::string> earthed;         ///< "yes" where zero sequence is taken out
  double pickup = 0.2;                      ///< of the rated current
  double slope = 0.3;
  double knee = 2;  ///< restraint from which on `second_slope` holds
  double second_slope = 0.7;
  double second_harmonic = unset;  ///< share of the fundamental that blocks
  double fifth_harmonic = unset;
  std::string restraint = "mean";     ///< half the "sum" of the currents, their "sum", or the "largest"
  std::string blocks = "each phase";  ///< or "all phases": one phase's harmonics hold back all
  double unrestrained = unset;        ///< of the rated current; no harmonic blocks it
  double delay_s = 0;
  [[nodiscard]] static std::vector<std::string> signals() { return {"start", "trip", "held"}; }
  /// Most that two places can feed in at a restraint.
  [[nodiscard]] double most_at(double restrained) const {
    return restraint == "sum" ? restrained : 2 * restrained;
  }
  /// Differential current, of the rated one, above which it operates at a restraint.
  [[nodiscard]] double threshold(double restrained) const;
};

struct BreakerFailure : FunctionBase {
  std::string started_by;  ///< the relay's trip when empty
  double current_A = unset;
  double delay_s = unset;
  BreakerFailure() { trips = false; }
};

struct Reclose : FunctionBase {
  std::string started_by;  ///< the relay's trip when empty
  std::string closed;      ///< condition that tells that the breaker is closed
  std::vector<std::string> dead_times;
  double reclaim_s = 3;
  double pulse_s = 0.1;
  [[nodiscard]] static std::vector<std::string> signals() { return {"start", "close", "lockout"}; }
  Reclose() { trips = false; }
};

struct Synchrocheck : FunctionBase {
  static constexpr bool sees_voltage = true;
  int other_end = 2;
  double voltage_V = unset;  ///< both must exceed
  double difference_V = unset;
  double angle_rad = 0.3490658503988659;
  double slip_Hz = 0.2;
  double delay_s = 0.1;
  [[nodiscard]] static std::vector<std::string> signals() { return {"release"}; }
  Synchrocheck() { trips = false; }
};

struct Thermal : FunctionBase {
  double rated_A = unset;
  double factor = 1.05;
  double time_constant_s = unset;
  double alarm = 0.9;          ///< of the trip temperature
  double negative_factor = 0;  ///< by which negative sequence heats more: I^2 = I1^2 + factor I2^2
  /// IEC 60255-149: from `before_A`, held for long, to a constant current; infinite when it never operates.
  [[nodiscard]] double operate_time_s(double current_A, double before_A = 0) const;
};

struct PowerStage : FunctionBase {
  static constexpr bool sees_voltage = true;
  std::string quantity = "active";
  std::string direction = "reverse";
  double pickup_W = unset;
  double delay_s = unset;
  double drop_off = 0.9;
};

struct LossOfPotential : FunctionBase {
  static constexpr bool sees_voltage = true;
  double negative_V = unset;  ///< negative sequence above this without negative-sequence current
  double negative_current_A = unset;
  double collapsed_V = unset;  ///< positive sequence below this without a change of current
  double change_A = unset;
  double delay_s = 0.02;
  LossOfPotential() { trips = false; }
};

struct Logic : FunctionBase {
  std::string when;
  double on_delay_s = 0, off_delay_s = 0;
  [[nodiscard]] static std::vector<std::string> signals() { return {""}; }
  Logic() { trips = false; }
};
struct Latch : FunctionBase {
  std::string set, reset;
  [[nodiscard]] static std::vector<std::string> signals() { return {""}; }
  Latch() { trips = false; }
};
/// A signal that the relay sends out. One named "trip" or "start" takes the place of the relay's own.
struct Output : FunctionBase {
  std::string when;
  [[nodiscard]] static std::vector<std::string> signals() { return {""}; }
  Output() { trips = false; }
};

const Table& table(const Stage*);
const Table& table(const Unbalance*);
const Table& table(const EarthPower*);
const Table& table(const RestrictedEarth*);
const Table& table(const Overfluxing*);
const Table& table(const FieldLoss*);
const Table& table(const PoleSlip*);
const Table& table(const MotorStart*);
const Table& table(const VectorShift*);
const Table& table(const CurrentWatch*);
const Table& table(const VoltageStage*);
const Table& table(const FrequencyStage*);
const Table& table(const Zone*);
const Table& table(const PowerSwing*);
const Table& table(const SwitchOntoFault*);
const Table& table(const Differential*);
const Table& table(const BreakerFailure*);
const Table& table(const Reclose*);
const Table& table(const Synchrocheck*);
const Table& table(const Thermal*);
const Table& table(const PowerStage*);
const Table& table(const LossOfPotential*);
const Table& table(const Logic*);
const Table& table(const Latch*);
const Table& table(const Output*);

using FunctionSettings =
    std::variant<Stage, VoltageStage, FrequencyStage, Zone, PowerSwing, SwitchOntoFault, Differential,
                 BreakerFailure, Reclose, Synchrocheck, Thermal, PowerStage, LossOfPotential, Unbalance,
                 EarthPower, RestrictedEarth, Overfluxing, FieldLoss, PoleSlip, MotorStart, VectorShift,
                 CurrentWatch, Logic, Latch, Output>;
/// Calls visit(null pointer of the kind) for every kind.
template <class Visit, std::size_t... k>
void for_each_function(Visit&& visit, std::index_sequence<k...>) {
  (visit(static_cast<std::variant_alternative_t<k, FunctionSettings>*>(nullptr)), ...);
}
template <class Visit>
void for_each_kind(Visit&& visit) {
  for_each_function(visit, std::make_index_sequence<std::variant_size_v<FunctionSettings>>());
}
[[nodiscard]] inline const FunctionBase& base_of(const FunctionSettings& function) {
  return std::visit([](const auto& f) -> const FunctionBase& { return f; }, function);
}

/// Whether a function looks at voltages.
[[nodiscard]] inline bool sees_voltage(const FunctionSettings& function) {
  const auto* stage = std::get_if<Stage>(&function);
  if (stage) return stage->direction != "none" || stage->voltage != "none";
  return std::visit([](const auto& f) { return std::decay_t<decltype(f)>::sees_voltage; }, function);
}
[[nodiscard]] inline bool sees_frequency(const FunctionSettings& function) {
  return std::visit([](const auto& f) { return std::decay_t<decltype(f)>::sees_frequency; }, function);
}

[[nodiscard]] inline std::vector<std::string> signals_of(const FunctionSettings& function) {
  return std::visit([](const auto& f) { return f.signals(); }, function);
}

/// Settings of a relay.
struct RelaySettings {
  std::string name;
  std::string values = "primary";  ///< in which the thresholds are: "primary" or "secondary"
  double ct_primary_A = unset;
  double ct_secondary_A = 1;
  double vt_primary_V = unset;
  double vt_secondary_V = 110;
  std::string earth = "sum";          ///< residual from the "sum" of phases or the "neutral" channel
  std::string filter = "full cycle";  ///< "full cycle", "half cycle" or "cosine"
  bool track_frequency = false;
  int decisions = 0;              ///< of its functions in a cycle; 0: at every sample
  double residual_factor = 0;     ///< magnitude of (Z0 - Z1) / (3 Z1) of the line
  double residual_angle_rad = 0;  ///< its angle
  double load_resistance_ohm = unset;
  double load_angle_rad = 0.5235987755982988;
  std::vector<FunctionSettings> functions;

  // Compiled once: to copy all kinds of them costs every other source seconds.
  RelaySettings();
  RelaySettings(const RelaySettings&);
  RelaySettings(RelaySettings&&) noexcept;
  RelaySettings& operator=(const RelaySettings&);
  RelaySettings& operator=(RelaySettings&&) noexcept;
  ~RelaySettings();

  /// Amperes (volts) of the settings per primary ampere (volt).
  [[nodiscard]] double current_scale() const {
    return values == "secondary" ? ct_secondary_A / ct_primary_A : 1;
  }
  [[nodiscard]] double voltage_scale() const {
    return values == "secondary" && network::is_set(vt_primary_V) ? vt_secondary_V / vt_primary_V : 1;
  }
  /// The functions of one kind.
  template <class Kind>
  [[nodiscard]] std::vector<const Kind*> all() const {
    std::vector<const Kind*> found;
    for (const FunctionSettings& function : functions) {
      if (const auto* kind = std::get_if<Kind>(&function)) found.push_back(kind);
    }
    return found;
  }
};
/// Magnitude and angle of the compensation of a zone: its own, or that of the relay.
[[nodiscard]] inline std::pair<double, double> compensation_of(const RelaySettings& relay, const Zone& zone) {
  return {network::is_set(zone.residual_factor) ? zone.residual_factor : relay.residual_factor,
          network::is_set(zone.residual_angle_rad) ? zone.residual_angle_rad : relay.residual_angle_rad};
}
/// Corners of a zone in the impedance plane, of loops between phases or to earth, in ohms of the settings;
/// the last is the first.
[[nodiscard]] std::vector<std::complex<double>> outline(const Zone& zone, bool earth);
/// By which phasors of a place, in amperes of the settings, become those that a differential adds up: turned
/// by its hour, without zero sequence where it is earthed, of the rated current.
using Matching = std::array<std::array<double, 3>, 3>;
[[nodiscard]] Matching matching_of(const Differential& settings, std::size_t place, double current_scale);
const Table& table(const RelaySettings*);

/// What it sends: "start", "trip", then its own outputs.
[[nodiscard]] std::vector<std::string> outputs_of(const RelaySettings& settings);
/// Binary inputs that conditions use, without "input."
[[nodiscard]] std::vector<std::string> inputs_of(const RelaySettings& settings);
/// Functions that neither trip nor are asked for by any condition: whatever they see, nothing comes of it.
[[nodiscard]] std::vector<std::string> idle_functions(const RelaySettings& settings);

/// Operating time of all overcurrent stages of a quantity that trip and that nothing blocks, at a constant
/// primary current; infinite where none operates.
[[nodiscard]] double composite_time_s(const RelaySettings& settings, const std::string& quantity,
                                      double primary_A);

/// Settings that cannot work: no function, a threshold or a ratio missing, a stage that can never operate
/// before another one does, conditions over signals that are not there.
[[nodiscard]] std::vector<Flaw> validate(const RelaySettings& settings);

}  // namespace zavrek::protection
