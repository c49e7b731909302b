#include "zavrek/control/ready.hpp"

namespace zavrek::control {
namespace {

using network::above;
using network::any;
using network::at_least;
using network::Need;
using network::TableOf;
using network::within;

/// Rows that all controllers of a bridge have.
template <class T>
TableOf<T> bridge_control(std::string kind, std::string doc) {
  TableOf<T> table(std::move(kind), std::move(doc));
  table.text("bridge", &T::bridge, "whose gates it drives")
      .choice("levels", &T::levels, {"two", "three"}, "of the bridge")
      .quantity("carrier", &T::carrier_Hz, "kHz", above(0),
                "of the modulator; the control's period is half or all of the carrier's")
      .quantity("dead_time", &T::dead_time_s, "us", at_least(0), "of its legs")
      .text("current", &T::current, "element whose currents ia, ib, ic flow away from the bridge")
      .text("dc", &T::dc, "signal of the voltage between p and n")
      .text("dc_upper", &T::dc_upper,
            "of three levels: signal of the voltage between p and m, to hold the neutral point in the middle",
            Need::optional)
      .quantity("balance", &T::balance, "", at_least(0),
                "offset of the references for it, per deviation as a share of the d.c. voltage")
      .text("enable", &T::enable, "starts while above 0.5, stops below")
      .text("reset", &T::reset, "leaves a trip when above 0.5 and not enabled", Need::optional)
      .quantity("current_limit", &T::current_limit_A, "A", above(0), "peak of a phase, for what it asks for")
      .quantity("trip_current", &T::trip_current_A, "A", above(0), "peak of a phase at which it trips")
      .quantity("dc_low", &T::dc_low_V, "V", at_least(0), "d.c. voltage below which it does not run")
      .quantity("dc_high", &T::dc_high_V, "V", above(0), "d.c. voltage above which it trips");
  return table;
}
constexpr const char* bandwidth_doc = "of its loop";

}  // namespace

const Table& table(const GridFollowing*) {
  using G = GridFollowing;
  static const Table built =
      bridge_control<G>(
          "grid_following",
          "ready controller: follows a grid with its currents, behind them power or d.c. voltage")
          .text("voltage", &G::voltage, "bus whose voltage it follows")
          .text("breaker", &G::breaker, "that it closes once it has locked, and opens", Need::optional)
          .quantity("frequency", &G::frequency_Hz, "Hz", above(0), "of the grid")
          .quantity("inductance", &G::inductance_H, "mH", above(0), "between bridge and that bus")
          .quantity("current_bandwidth", &G::current_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("lock_bandwidth", &G::lock_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .choice("regulates", &G::regulates, {"power", "dc voltage"}, "what the active current is for")
          .quantity("active", &G::active_W, "kW", any(), "into the grid; knob NAME.active")
          .quantity("reactive", &G::reactive_var, "kvar", any(), "into the grid; knob NAME.reactive")
          .text("active_reference", &G::active_reference,
                "what gives the active power instead, in W, such as a control of the frequency",
                Need::optional)
          .text("reactive_reference", &G::reactive_reference,
                "what gives the reactive power instead, in var, such as a control of the voltage",
                Need::optional)
          .quantity("dc_voltage", &G::dc_voltage_V, "V", above(0), "to be held; knob NAME.dc_voltage",
                    Need::optional)
          .text("dc_reference", &G::dc_reference, "what gives that voltage instead, such as a power tracker",
                Need::optional)
          .quantity("dc_capacitance", &G::dc_capacitance_F, "uF", above(0), "between p and n", Need::optional)
          .quantity("dc_bandwidth", &G::dc_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("ramp", &G::ramp_s, "ms", above(0), "from no current to its limit")
          .quantity("least_voltage", &G::least_voltage_V, "V", above(0),
                    "peak of a phase below which it does not start and asks for no more current")
          .build();
  return built;
}

const Table& table(const GridForming*) {
  using G = GridForming;
  static const Table built =
      bridge_control<G>("grid_forming",
                        "ready controller: a voltage whose frequency and height droop with the power, with "
                        "inertia (a virtual machine)")
          .text("voltage", &G::voltage, "bus whose voltage it holds")
          .text("breaker", &G::breaker, "that it closes ahead of its pulses, and opens", Need::optional)
          .quantity("frequency", &G::frequency_Hz, "Hz", above(0), "at the power wanted")
          .quantity("nominal_voltage", &G::nominal_voltage_V, "V", above(0),
                    "between phases; knob NAME.voltage")
          .quantity("power", &G::power_W, "kW", above(0), "nominal: what droop counts in")
          .quantity("active", &G::active_W, "kW", any(), "at nominal frequency; knob NAME.active")
          .text("follows", &G::follows,
                "while this is on, it follows the grid: its angle by the phase lock, its power by that "
                "angle; else it forms a "
                "grid by its droop. It goes over and back without a jump",
                Need::optional)
          .text("active_reference", &G::active_reference,
                "what gives the active power instead, in W, such as whoever leads the yard", Need::optional)
          .quantity("reactive", &G::reactive_var, "kvar", any(), "at nominal voltage; knob NAME.reactive")
          .quantity("frequency_droop", &G::frequency_droop, "%", at_least(0), "from no to nominal power")
          .quantity("voltage_droop", &G::voltage_droop, "%", at_least(0), "from no to nominal reactive power")
          .quantity("inertia", &G::inertia_s, "s", at_least(0), "constant H of the virtual machine")
          .quantity("inductance", &G::inductance_H, "mH", above(0), "between bridge and that bus")
          .quantity("voltage_bandwidth", &G::voltage_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("virtual_resistance", &G::virtual_resistance_ohm, "mohm", at_least(0),
                    "by which the voltage gives way to quick changes of the current")
          .quantity("ramp", &G::ramp_s, "ms", above(0), "from nothing to nominal voltage")
          .build();
  return built;
}

const Table& table(const BatteryControl*) {
  using B = BatteryControl;
  static const Table built =
      TableOf<B>("battery_control",
                 "ready controller: charges and discharges a battery through a leg, within its limits")
          .text("converter", &B::converter, "dc_converter between the link (high) and the battery (low)")
          .quantity("carrier", &B::carrier_Hz, "kHz", above(0),
                    "of the modulator; the control's period is half or all of the carrier's")
          .quantity("dead_time", &B::dead_time_s, "us", at_least(0), "of the leg")
          .text("current", &B::current, "signal of the current out of the battery")
          .text("voltage", &B::voltage, "signal of the battery's voltage")
          .text("dc", &B::dc, "signal of the link's voltage")
          .text("charge", &B::charge, "signal of the state of charge")
          .text("enable", &B::enable, "starts while above 0.5, stops below")
          .text("reset", &B::reset, "leaves a trip when above 0.5 and not enabled", Need::optional)
          .choice("regulates", &B::regulates, {"power", "dc voltage"}, "of the link")
          .quantity("power", &B::power_W, "kW", any(), "out of the battery; knob NAME.power")
          .quantity("dc_voltage", &B::dc_voltage_V, "V", above(0), "to be held; knob NAME.dc_voltage",
                    Need::optional)
          .quantity("dc_capacitance", &B::dc_capacitance_F, "uF", above(0), "of the link", Need::optional)
          .quantity("dc_bandwidth", &B::dc_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("inductance", &B::inductance_H, "mH", above(0), "of the converter")
          .quantity("current_bandwidth", &B::current_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("current_limit", &B::current_limit_A, "A", above(0), "either way")
          .quantity("trip_current", &B::trip_current_A, "A", above(0), "at which it trips")
          .quantity("full", &B::full_V, "V", above(0), "voltage that charging does not exceed")
          .quantity("least_charge", &B::least_charge, "%", within(0, 1), "at which discharging ends")
          .quantity("greatest_charge", &B::greatest_charge, "%", within(0, 1), "at which charging ends")
          .build();
  return built;
}

const Table& table(const FieldOriented*) {
  using F = FieldOriented;
  static const Table built =
      bridge_control<F>(
          "field_oriented",
          "ready controller: speed or torque of a machine by flux and torque currents in its own frame")
          .text("machine", &F::machine, "machine whose speed (and angle) it measures")
          .choice("kind", &F::kind, {"permanent magnet", "induction"}, "of the machine")
          .count("pole_pairs", &F::pole_pairs, within(1, 200), "of the machine")
          .quantity("inductance", &F::inductance_H, "mH", above(0),
                    "in the way of the current; of an induction machine the leakage")
          .quantity("magnet_flux", &F::magnet_flux_Vs, "V s", at_least(0), "of the magnets")
          .quantity("rotor_time", &F::rotor_time_s, "ms", above(0), "Lr/Rr of an induction machine",
                    Need::optional)
          .quantity("magnetizing", &F::magnetizing_H, "mH", above(0), "of an induction machine",
                    Need::optional)
          .quantity("rotor_inductance", &F::rotor_inductance_H, "mH", above(0),
                    "magnetizing and leakage of an induction machine's rotor", Need::optional)
          .quantity("flux", &F::flux_Vs, "V s", above(0), "of the rotor, peak, to be held", Need::optional)
          .choice("regulates", &F::regulates, {"speed", "torque"},
                  "its speed, or its torque, as wanted of a vehicle's drive")
          .quantity("torque", &F::torque_Nm, "N m", any(), "wanted; knob NAME.torque_wanted")
          .text("torque_reference", &F::torque_reference, "what gives that torque instead, in N m",
                Need::optional)
          .quantity("torque_rate", &F::torque_rate_Nm_per_s, "", above(0), "N m per second, at most")
          .quantity("inertia", &F::inertia_kgm2, "kg m^2", above(0),
                    "of the whole drive; wanted for its speed", Need::optional)
          .quantity("speed", &F::speed_rad_per_s, "rad/s", any(), "wanted; knob NAME.speed_wanted")
          .text("speed_reference", &F::speed_reference,
                "what gives that speed instead, in rad/s, such as the best one for the wind", Need::optional)
          .quantity("acceleration", &F::acceleration_rad_per_s2, "", above(0), "rad/s per second")
          .quantity("current_bandwidth", &F::current_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("speed_bandwidth", &F::speed_bandwidth_Hz, "Hz", above(0), bandwidth_doc)
          .quantity("torque_limit", &F::torque_limit_Nm, "N m", above(0), "knob NAME.torque_limit")
          .quantity("fluxing", &F::fluxing_s, "ms", at_least(0), "from enabling to the release of the speed")
          .build();
  return built;
}

const Table& table(const VoltsPerHertz*) {
  using V = VoltsPerHertz;
  static const Table built =
      bridge_control<V>("volts_per_hertz", "ready controller: voltage in proportion to a ramped frequency")
          .quantity("frequency", &V::frequency_Hz, "Hz", above(0), "nominal")
          .quantity("nominal_voltage", &V::nominal_voltage_V, "V", above(0),
                    "between phases, at nominal frequency")
          .quantity("boost", &V::boost_V, "V", at_least(0), "between phases, at standstill")
          .quantity("speed", &V::speed_Hz, "Hz", any(), "wanted; knob NAME.speed")
          .quantity("ramp", &V::ramp_Hz_per_s, "", above(0), "Hz per second")
          .build();
  return built;
}

}  // namespace zavrek::control
