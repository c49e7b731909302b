#pragma once

#include "zavrek/network/shaft_rows.hpp"

namespace zavrek::network {

/// A synchronous machine with field and damper windings, exciter and governor. Reactances, resistances and
/// gains in per unit of its rating (IEEE Std 1110, IEC 60034-4).
struct SynchronousMachine {
  std::string name;
  std::string bus;
  double rating_VA = unset;
  double voltage_V = unset;
  int pole_pairs = 1;
  double power_W = 0;
  double start_voltage = 1;
  double start_angle_rad = unset;
  double stator_resistance = 0.003;
  double leakage = 0.12;
  double xd = 1.8, xd_transient = 0.28, xd_subtransient = 0.22;
  double xq = 1.7, xq_transient = 0.45, xq_subtransient = 0.22;
  double td0_transient_s = 6, td0_subtransient_s = 0.035;
  double tq0_transient_s = 0.6, tq0_subtransient_s = 0.06;
  double saturation_at_1 = 0, saturation_at_12 = 0;
  double inertia_constant_s = 3.5;
  std::vector<std::string> shaft;
  std::string exciter = "none";
  double exciter_gain = 200, exciter_time_s = 0.02, measuring_time_s = 0.02;
  double lead_time_s = 0, lag_time_s = 0;
  double ceiling_high = 5, ceiling_low = -4;
  double exciter_constant = 1, exciter_machine_time_s = 0.8;
  double stabilizer_gain = 0.03, stabilizer_time_s = 1;
  std::string governor = "none";
  double droop = 0.05, servo_time_s = 0.2;
  double reheat_time_s = 7, reheat_share = 0.3;
  double water_time_s = 1.2, temporary_droop = 0.4, reset_time_s = 6;
  double power_limit = 1.1;
};

inline const Table& table(const SynchronousMachine*) {
  using M = SynchronousMachine;
  static const Table built =
      TableOf<M>(
          "synchronous_machine",
          "synchronous machine with field, dampers, saturation, exciter (IEEE Std 421.5) and governor; "
          "per unit of its rating")
          .bus("bus", &M::bus, "bus at its terminals")
          .quantity("rating", &M::rating_VA, "MVA", above(0), "apparent power")
          .quantity("voltage", &M::voltage_V, "kV", above(0), "rated, between phases")
          .count("pole_pairs", &M::pole_pairs, within(1, 100), "number of pole pairs")
          .quantity("power", &M::power_W, "MW", any(), "into the network at the start; a motor's is negative")
          .quantity("start_voltage", &M::start_voltage, "", above(0), "magnitude it holds at the start")
          .quantity("start_angle", &M::start_angle_rad, "deg", any(),
                    "angle of its voltage at the start, whatever power that takes: wanted of one machine in "
                    "a network "
                    "without a source",
                    Need::optional)
          .quantity("stator_resistance", &M::stator_resistance, "", at_least(0), "Ra")
          .quantity("leakage", &M::leakage, "", at_least(0), "Xl")
          .quantity("xd", &M::xd, "", above(0), "synchronous reactance, d axis")
          .quantity("xd_transient", &M::xd_transient, "", above(0), "X'd")
          .quantity("xd_subtransient", &M::xd_subtransient, "", above(0), "X''d")
          .quantity("xq", &M::xq, "", above(0), "synchronous reactance, q axis")
          .quantity("xq_transient", &M::xq_transient, "", above(0), "X'q; that of xq for salient poles")
          .quantity("xq_subtransient", &M::xq_subtransient, "", above(0), "X''q")
          .quantity("td0_transient", &M::td0_transient_s, "s", above(0), "open-circuit time constant T'd0")
          .quantity("td0_subtransient", &M::td0_subtransient_s, "s", above(0), "T''d0")
          .quantity("tq0_transient", &M::tq0_transient_s, "s", above(0), "T'q0")
          .quantity("tq0_subtransient", &M::tq0_subtransient_s, "s", above(0), "T''q0")
          .quantity("saturation_at_1", &M::saturation_at_1, "", at_least(0),
                    "excess field current at rated voltage, open circuit: it grows with the square of the "
                    "flux beyond a "
                    "knee, alike on both axes")
          .quantity("saturation_at_12", &M::saturation_at_12, "", at_least(0), "the same at 1.2 of it")
          .quantity("inertia_constant", &M::inertia_constant_s, "s", above(0),
                    "H: energy of its rotor at speed over its rating")
          .texts("shaft", &M::shaft,
                 "further masses outwards: \"inertia, stiffness, damping\"; the last is driven")
          .choice("exciter", &M::exciter, {"none", "static", "dc"},
                  "constant field, or voltage regulator of type ST1A or DC1A")
          .quantity("exciter_gain", &M::exciter_gain, "", above(0), "KA")
          .quantity("exciter_time", &M::exciter_time_s, "s", above(0), "TA")
          .quantity("measuring_time", &M::measuring_time_s, "s", above(0), "TR")
          .quantity("lead_time", &M::lead_time_s, "s", at_least(0), "TC")
          .quantity("lag_time", &M::lag_time_s, "s", at_least(0), "TB; no lead-lag at zero")
          .quantity("ceiling_high", &M::ceiling_high, "", above(0), "VRmax")
          .quantity("ceiling_low", &M::ceiling_low, "", any(), "VRmin")
          .quantity("exciter_constant", &M::exciter_constant, "", any(), "KE of type DC1A")
          .quantity("exciter_machine_time", &M::exciter_machine_time_s, "s", above(0), "TE of type DC1A")
          .quantity("stabilizer_gain", &M::stabilizer_gain, "", at_least(0), "KF of type DC1A")
          .quantity("stabilizer_time", &M::stabilizer_time_s, "s", above(0), "TF of type DC1A")
          .choice("governor", &M::governor, {"none", "steam", "hydro"}, "constant power, or speed control")
          .quantity("droop", &M::droop, "", above(0), "permanent: speed over power")
          .quantity("servo_time", &M::servo_time_s, "s", above(0), "of valve or gate")
          .quantity("reheat_time", &M::reheat_time_s, "s", above(0), "of a steam turbine")
          .quantity("reheat_share", &M::reheat_share, "", within(0, 1), "of the power ahead of the reheater")
          .quantity("water_time", &M::water_time_s, "s", above(0), "of a penstock")
          .quantity("temporary_droop", &M::temporary_droop, "", at_least(0), "of a hydro governor")
          .quantity("reset_time", &M::reset_time_s, "s", above(0), "of the temporary droop")
          .quantity("power_limit", &M::power_limit, "", above(0), "of valve or gate")
          .gives("voltage_reference", "", "a knob: of the exciter, per unit")
          .gives("power_reference", "", "a knob: of the governor or the turbine, per unit of the rating")
          .gives("field_voltage", "", "a knob: of a machine without exciter, per unit")
          .gives(machine_outputs())
          .build();
  return built;
}

}  // namespace zavrek::network
