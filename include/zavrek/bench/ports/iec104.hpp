#pragma once

#include <string>
#include <vector>

#include "zavrek/bench/ports/bus_address.hpp"

namespace zavrek::bench {

/// What both stations of IEC 60870-5-104 have.
struct Iec104Fields : BusAddress {
  Iec104Fields() { port = 2404; }
  std::string name;
  int common_address = 1;
  double t1_s = 15, t2_s = 10, t3_s = 20;
  int k = 12, w = 8;
};
template <class Port>
network::TableOf<Port> add_iec104_fields(network::TableOf<Port> table) {
  using network::within;
  table.count("common_address", &Port::common_address, within(1, 65'534), "of the controlled station")
      .quantity("t1", &Port::t1_s, "s", within(0.01, 255), "within which what was sent is answered")
      .quantity("t2", &Port::t2_s, "s", within(0.01, 255), "within which what came is acknowledged; below t1")
      .quantity("t3", &Port::t3_s, "s", within(0.01, 172'800), "of silence, until the connection is tested")
      .count("k", &Port::k, within(1, 32'767), "sent at most without acknowledgement")
      .count("w", &Port::w, within(1, 32'767), "behind so many at the latest what came is acknowledged");
  return table;
}

/// The controlled station: the plant as a master of telecontrol sees it.
struct Iec104Station : Iec104Fields {
  std::vector<std::string> states, measured, commands, set_points;
  double scan_s = 0.1;
  double select_time_s = 10;
  double command_age_s = 10;
  int events = 1000;
};

inline const network::Table& table(const Iec104Station*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          add_iec104_fields(
              network::TableOf<Iec104Station>("iec104_station",
                                              "a controlled station of telecontrol (IEC 60870-5-104): what "
                                              "moves is told with its time, commands "
                                              "are confirmed once the plant has done them; settings for "
                                              "trials: NAME.silent, NAME.cut (0 or 1)")
                  .texts("states", &Iec104Station::states,
                         "what is on or off: \"1001: Q0 as double\", \"1002: R1.trip\" (single); \"class 3\" "
                         "puts it "
                         "into group 3 of interrogation")
                  .texts("measured", &Iec104Station::measured,
                         "numbers: \"2001: battery.p in kW within 1 kW\" (float), \"as scaled\", \"as "
                         "normalised\"")
                  .texts("commands", &Iec104Station::commands,
                         "what opens and closes: \"5001: QO as double select\", which must be selected first")
                  .texts("set_points", &Iec104Station::set_points,
                         "knobs and set points: \"6001: battery_power in kW as scaled\"")
                  .quantity("scan", &Iec104Station::scan_s, "ms", within(0.001, 3600),
                            "between looks at numbers")
                  .quantity("select_time", &Iec104Station::select_time_s, "s", within(0.01, 3600),
                            "that a selection lasts")
                  .quantity("command_age", &Iec104Station::command_age_s, "s", within(0.001, 3600),
                            "by which the time of a command with one may be off")
                  .count("events", &Iec104Station::events, within(1, 1'000'000),
                         "kept for a connection at most; the oldest are lost, and counted")),
          "port of TCP")
          .build();
  return built;
}

/// The controlling station: reads what the plant is to do from a controlled one outside.
struct Iec104Controller : Iec104Fields {
  std::vector<std::string> states, measured, commands, set_points;
  double interrogation_s = 60;
};

inline const network::Table& table(const Iec104Controller*) {
  using network::within;
  static const network::Table built =
      add_bus_address(
          add_iec104_fields(
              network::TableOf<Iec104Controller>("iec104_controller",
                                                 "a controlling station of telecontrol (IEC 60870-5-104): "
                                                 "what comes from the controlled station "
                                                 "outside is opened, closed and set here, and what the plant "
                                                 "shows goes there as commands; settings "
                                                 "for trials: NAME.silent, NAME.cut (0 or 1)")
                  .texts("states", &Iec104Controller::states,
                         "states there that open and close here: \"1001: QO as double\"")
                  .texts("measured", &Iec104Controller::measured,
                         "numbers there that are set here: \"2001: roof.irradiance\" (float)")
                  .texts("commands", &Iec104Controller::commands,
                         "what is on or off here goes there as a command: \"5001: Q0 as double select\"")
                  .texts("set_points", &Iec104Controller::set_points,
                         "numbers that go there: \"6001: battery.p in kW within 1 kW\"")
                  .quantity("interrogation", &Iec104Controller::interrogation_s, "s", within(0.1, 86'400),
                            "from one general interrogation to the next")),
          "port of TCP, of the controlled station")
          .build();
  return built;
}

}  // namespace zavrek::bench
