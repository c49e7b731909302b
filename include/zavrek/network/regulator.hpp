#pragma once

#include "zavrek/network/field.hpp"

namespace zavrek::network {

/// Step voltage regulators, one per phase, each with its own position and control (IEEE C57.15).
struct Regulator {
  std::string name;
  std::array<std::string, 2> between;
  std::string connection = "star";
  double step = 0.00625;
  int taps = 16;
  int tap_a = 0, tap_b = 0, tap_c = 0;
  double leakage_ohm = 0.001;
  double magnetizing_ohm = 1e6;
  double target_V = unset;
  double band_V = 2;
  double delay_s = 30;
  double tap_time_s = 2;
  double potential_ratio = 20;
  double current_rating_A = 700;
  double compensation_r_V = 0;
  double compensation_x_V = 0;
};

inline const Table& table(const Regulator*) {
  using R = Regulator;
  static const Table built =
      TableOf<R>("regulator",
                 "step voltage regulators between two buses, each with its own position and control")
          .between("between", &R::between, "source bus, then load bus")
          .choice("connection", &R::connection, {"star", "open delta"},
                  "one per phase to ground; or two, from phase a to b (positions and signals a) and from c "
                  "to b (c)")
          .quantity("step", &R::step, "%", above(0), "of the voltage, from position to position")
          .count("taps", &R::taps, within(1, 100), "positions on either side of the middle")
          .count("tap_a", &R::tap_a, within(-100, 100),
                 "position at the start, phase a; the load voltage rises with it")
          .changeable()
          .count("tap_b", &R::tap_b, within(-100, 100), "phase b")
          .changeable()
          .count("tap_c", &R::tap_c, within(-100, 100), "phase c")
          .changeable()
          .quantity("leakage", &R::leakage_ohm, "ohm", above(0), "reactance between source and load side")
          .quantity("magnetizing", &R::magnetizing_ohm, "ohm", above(0), "reactance of the no-load current")
          .quantity("target", &R::target_V, "V", above(0),
                    "secondary voltage that its control holds; no control when left out", Need::optional)
          .quantity("band", &R::band_V, "V", above(0), "width of the band around it")
          .quantity("delay", &R::delay_s, "s", at_least(0), "outside the band before it moves")
          .quantity("tap_time", &R::tap_time_s, "s", above(0), "from one position to the next")
          .quantity("potential_ratio", &R::potential_ratio, "", above(0),
                    "of the voltage transformer of the control")
          .quantity("current_rating", &R::current_rating_A, "A", above(0),
                    "primary of the control's current transformer")
          .quantity("compensation_r", &R::compensation_r_V, "V", any(),
                    "line-drop compensation: resistive volts at the rated current")
          .quantity("compensation_x", &R::compensation_x_V, "V", any(), "reactive volts at the rated current")
          .gives("i#", "A", "current into it at its first bus")
          .gives("i#_far", "A", "current into it at its second bus")
          .gives("position_#", "", "of that unit")
          .build();
  return built;
}

}  // namespace zavrek::network
