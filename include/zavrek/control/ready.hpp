// Ready controllers: descriptions that are expanded into blocks named NAME.PART, so that every inner value is
// an output that can be recorded, and every field marked changeable is a setpoint of its own.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "zavrek/network/field.hpp"

namespace zavrek::control {

using network::Table;
using network::unset;

/// What all controllers of a bridge on a three-phase bus have.
struct BridgeControl {
  std::string name;
  std::string bridge;
  std::string levels = "two";
  double carrier_Hz = unset;
  double dead_time_s = 0;
  std::string current;   ///< element whose ia, ib, ic flow from the bridge
  std::string dc;        ///< signal of the voltage between p and n
  std::string dc_upper;  ///< signal of the voltage between p and m; empty: the neutral point is left alone
  double balance = 2;    ///< offset of the references, per deviation of the neutral point from the middle
  std::string enable = "1";
  std::string reset;
  double current_limit_A = unset;  ///< peak of a phase
  double trip_current_A = unset;
  double dc_low_V = 0, dc_high_V = 1e9;
};

/// Currents in components that rotate with the grid, behind them power or d.c. voltage.
struct GridFollowing : BridgeControl {
  std::string voltage;  ///< bus that it follows
  std::string breaker;
  double frequency_Hz = 50;
  double inductance_H = unset;
  double current_bandwidth_Hz = 300;
  double lock_bandwidth_Hz = 15;
  std::string regulates = "power";
  double active_W = 0, reactive_var = 0;
  std::string active_reference, reactive_reference;
  double dc_voltage_V = unset;
  std::string dc_reference;
  double dc_capacitance_F = unset;
  double dc_bandwidth_Hz = 15;
  double ramp_s = 0.05;
  double least_voltage_V = unset;
};

/// A voltage behind droop or a virtual machine; or, while `follows` is on, one whose angle follows the
/// grid's.
struct GridForming : BridgeControl {
  std::string follows;
  std::string voltage;
  std::string breaker;
  double frequency_Hz = 50;
  double nominal_voltage_V = unset;
  double power_W = unset;
  double active_W = 0, reactive_var = 0;
  std::string active_reference;
  double frequency_droop = 0.02, voltage_droop = 0.05;
  double inertia_s = 0.2;
  double inductance_H = unset;
  double voltage_bandwidth_Hz = 8;
  double virtual_resistance_ohm = 0;
  double ramp_s = 0.2;
};

/// A leg between a battery and a d.c. link, within limits of current, voltage and state of charge.
struct BatteryControl {
  std::string name;
  std::string converter;
  double carrier_Hz = unset;
  double dead_time_s = 0;
  std::string current;  ///< signal, positive out of the battery
  std::string voltage;  ///< signal, of the battery
  std::string dc;       ///< signal, of the link
  std::string charge;   ///< signal, state of charge
  std::string enable = "1";
  std::string reset;
  std::string regulates = "power";
  double power_W = 0;
  double dc_voltage_V = unset;
  double dc_capacitance_F = unset;
  double dc_bandwidth_Hz = 10;
  double inductance_H = unset;
  double current_bandwidth_Hz = 200;
  double current_limit_A = unset;
  double trip_current_A = unset;
  double full_V = unset;
  double least_charge = 0.1, greatest_charge = 0.9;
};

/// Field-oriented control of a permanent-magnet or induction machine: of its torque, or with a loop of its
/// speed.
struct FieldOriented : BridgeControl {
  std::string machine;
  std::string regulates = "speed";  ///< or "torque"
  double torque_Nm = 0;
  std::string torque_reference;
  double torque_rate_Nm_per_s = 1e9;
  std::string kind = "permanent magnet";
  int pole_pairs = 2;
  double inductance_H = unset;   ///< of the stator, in the way of the current
  double magnet_flux_Vs = 0;     ///< of a permanent-magnet machine
  double rotor_time_s = unset;   ///< Lr/Rr of an induction machine
  double magnetizing_H = unset;  ///< of an induction machine
  double rotor_inductance_H = unset;
  double flux_Vs = unset;  ///< of its rotor, to be held
  double inertia_kgm2 = unset;
  double speed_rad_per_s = 0;
  std::string speed_reference;
  double acceleration_rad_per_s2 = 50;
  double current_bandwidth_Hz = 250;
  double speed_bandwidth_Hz = 4;
  double torque_limit_Nm = unset;
  double fluxing_s = 0.1;  ///< from enabling to the release of the speed
};

/// Voltage in proportion to frequency, for an induction machine without feedback.
struct VoltsPerHertz : BridgeControl {
  double frequency_Hz = 50;
  double nominal_voltage_V = unset;
  double boost_V = 0;
  double speed_Hz = 0;
  double ramp_Hz_per_s = 20;
};

using Ready = std::variant<GridFollowing, GridForming, BatteryControl, FieldOriented, VoltsPerHertz>;

const Table& table(const GridFollowing*);
const Table& table(const GridForming*);
const Table& table(const BatteryControl*);
const Table& table(const FieldOriented*);
const Table& table(const VoltsPerHertz*);

}  // namespace zavrek::control
