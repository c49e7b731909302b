#pragma once

#include "zavrek/network/line_values.hpp"

namespace zavrek::network {

/// One end of a line whose other end another simulator has. Its waves take their time, so that what crosses
/// each step crosses without error.
struct LineEnd {
  std::string name;
  std::string bus;
  double length_m = unset;
  double r1_ohm_per_m = 0;
  double x1_ohm_per_m = unset;
  double c1_F_per_m = unset;
  double r0_ohm_per_m = 0;
  double x0_ohm_per_m = unset;
  double c0_F_per_m = unset;
  std::vector<double> r_matrix_ohm_per_m, x_matrix_ohm_per_m, b_matrix_S_per_m;
  std::string geometry;
  int delay_steps = 1;
  std::vector<std::string> far_voltage, far_current;
};

inline const Table& table(const LineEnd*) {
  static const Table built = [] {
    TableOf<LineEnd> rows(
        "line_end",
        "end of a line whose other end a partner has (port `partner`): signals NAME.leaving_a ... are the "
        "wave "
        "that leaves it, v + (Z - R/4) i with i into the line, NAME.left_a ... the same a step ago, where "
        "something jumped since then by its area; knobs NAME.arriving_a ... and NAME.arrived_a ... are told "
        "what the partner's end calls so; NAME.ia ... flows into the line");
    rows.bus("bus", &LineEnd::bus, "bus at this end");
    line_size_rows(rows);
    return line_matrix_rows(rows)
        .count(
            "delay", &LineEnd::delay_steps, within(1, 1000),
            "steps from the grid point at which a wave left the far end to the step that is told of it; its "
            "travel time hides them")
        .texts(
            "far_voltage", &LineEnd::far_voltage,
            "voltage of each phase at the far end in the steady state that a run starts from: [\"5.39 kV at "
            "-30 deg\", ...]; none when left out")
        .texts("far_current", &LineEnd::far_current,
               "current into the line there, likewise: [\"120 A at 12 deg\", ...]")
        .gives("arriving_#", "V", "wave that it is told")
        .gives("arrived_#", "V", "the same a step ago, as the far end calls it")
        .gives("i#", "A", "current into the line")
        .gives("leaving_#", "V", "wave that leaves it, v + (Z - R/4) i")
        .gives("left_#", "V", "the same a step ago, where something jumped since then by its area")
        .build();
  }();
  return built;
}

}  // namespace zavrek::network
